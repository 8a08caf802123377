"""What the players of the graph's strips do alike (see engine.players).

Pan law: mono tracks use the equal-power law with -3 dB in the middle (gains cos and sin of a quarter turn), so a
voice keeps its loudness while it travels in a room; stereo strips use a balance that leaves both sides at full level
in the middle and turns down the far one by the same quarter-turn sine, so that a stereo take at rest is not changed.
"""

import copy
import math
from collections import deque
from collections.abc import Mapping
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp.gains import down_to_silence, pan_gains
from reins.core.dsp.gliding import Ramp
from reins.core.dsp.levels import peak_and_energy
from reins.core.engine.chain import Chain
from reins.core.engine.gliding import GlidingChain
from reins.core.engine.plan import Plan
from reins.core.engine.sends import Sends
from reins.core.processors.base import Delay
from reins.core.sessions import FADER_OFF_DB, Bus, Master, Track
from reins.core.soloing import Heard
from reins.core.time import When
from reins.core.twins import twin_of
from reins.core.units import FLOOR_DB, db_to_lin, lin_to_db

Array = npt.NDArray[np.float64]
OF_CHAIN = ("chain_on", "chain_mix_pct", "puts_out")
PAST_S = 4.0  # what is remembered of what comes to a bus, or to a chain with keys


def moved_gains(moved: Mapping[str, Array], strip: Any, channels: int) -> Array:
    """Left and right gain (2, frames) where reins move fader or pan; what they leave alone stands as in the strip."""
    standing_db, matched_db = getattr(strip, "fader_db", 0.0), getattr(strip, "matched_db", 0.0)
    fader: Any = 0.0 if standing_db <= FADER_OFF_DB else db_to_lin(standing_db)
    if "fader_db" in moved:
        fader, _ = down_to_silence(moved["fader_db"], FADER_OFF_DB)
    sides = pan_gains(moved.get("pan_pct", getattr(strip, "pan_pct", 0.0)), channels)
    return sides.reshape(2, -1) * (fader if matched_db == 0.0 else fader * db_to_lin(matched_db))


class Past:
    """The last seconds of what a chain has heard, its keys with it: what is new to the chain hears them first."""

    def __init__(self, sample_rate: int) -> None:
        self._most_frames = round(PAST_S * sample_rate)
        self._blocks: deque[tuple[Array, dict[str, Array], When]] = deque()
        self._frames = 0

    def note(self, block: Array, keys: Mapping[str, Array], when: When) -> None:
        """Remember a block that the chain hears; nobody may write into it afterwards."""
        self._blocks.append((block, dict(keys), when))
        self._frames += block.shape[1]
        while self._frames - self._blocks[0][0].shape[1] >= self._most_frames:
            self._frames -= self._blocks.popleft()[0].shape[1]

    def replay(self, chain: Chain) -> Chain:
        """Have a chain hear all that is remembered."""
        for block, keys, when in self._blocks:
            chain.process(block, keys, when)
        return chain

    def copy(self) -> "Past":
        """One that goes on by itself."""
        twin = copy.copy(self)
        twin._blocks = self._blocks.copy()
        return twin


class StripPlayer:
    """What track, bus and master do alike: a chain that glides, fader and pan, and the signals others take.

    After `process`: `placed` is the result after fader and pan, ahead of the mix by the plan's out_lead; `aligned` the
    same at the mix's own time; `dry` what would be there with no chain anywhere before it, at the mix's time; `plain`
    the chain's result and `fed` its input, where keys are taken.
    """

    _on_take = False

    def __init__(
        self, strip: Track | Bus | Master, strip_id: str, plan: Plan, *, channels: int, sample_rate: int,
        key_channels: Mapping[str, int],
    ) -> None:  # fmt: skip
        self.strip, self.channels = strip, channels
        self._rate, self._key_channels = sample_rate, key_channels
        self._wanted: Track | Bus | Master | None = None
        self._retunes = False  # whether what is wanted differs by settings of processors alone
        self._comes_in = False  # whether something comes in that was awaited
        self._heard = Heard(True, (True,) * len(getattr(strip, "sends", [])))
        self.chain = GlidingChain(self._fresh(strip), sample_rate=sample_rate)
        self._past = Past(sample_rate)
        self._to_mix = Delay(2, plan.out_lead[strip_id])
        self._gains = Ramp((0.0, 0.0), sample_rate)
        self._audibility = Ramp((0.0,), sample_rate)  # 1 where it is heard
        self._sends = Sends(strip, sample_rate)
        self.placed = self.aligned = self.dry = np.zeros((2, 0))
        self._level = np.zeros(2)
        self.plain = self.fed = np.zeros((channels, 0))

    def _fresh(self, strip: Track | Bus | Master) -> Chain:
        return Chain(
            strip.chain, channels=self.channels, sample_rate=self._rate, key_channels=self._key_channels,
            spectrum=self._spectrum(strip), on_take=self._on_take, reins=strip.reins, strip=strip,
        )  # fmt: skip

    def _spectrum(self, strip: Track | Bus | Master) -> Array | None:
        """The spectrum of what the chain works on, where it is wanted and known; a sum's is not."""
        return None

    def change(self, strip: Track | Bus | Master, heard: Heard) -> None:
        """Take over new settings at the next block."""
        self._wanted, self._heard, self._retunes = strip, heard, False
        self._go_to(strip)

    def _go_to(self, strip: Track | Bus | Master) -> None:
        self._gains.go(self._mix_gains(strip))
        self._audibility.go((float(self._heard.whole),))
        pans = pan_gains(getattr(strip, "pan_pct", 0.0), self.chain.chain.channels_out)
        self._sends.go(strip, pans, self._heard.sends)

    def retune(self, strip: Track | Bus | Master) -> None:
        """Take over new settings of processors that are made as before, and nothing else, at the next block."""
        self._retunes = self._wanted is None or self._retunes
        self._wanted = strip

    def take_in(self) -> None:
        """Have what was awaited, and is compiled by now, come in at the next block."""
        if any(error.is_over() for error in self.chain.chain.awaited.values()):
            self._wanted, self._comes_in = self._wanted or self.strip, True

    def twin(self, strip: Track | Bus | Master, key_channels: Mapping[str, int], heard: Heard) -> "StripPlayer":
        """A copy that goes on from the same state with other settings of equal latency."""
        twin = copy.copy(self)
        twin.strip, twin._wanted, twin._heard, twin._key_channels = strip, None, heard, key_channels
        same = strip is self.strip and key_channels == self._key_channels and self.chain.chain.is_whole
        chain = self.chain.chain.retuned(strip.chain) if same else self.chain.chain.evolved(
            strip.chain, key_channels, self._spectrum(strip), reins=strip.reins, strip=strip
        )  # fmt: skip
        twin.chain = GlidingChain(chain, sample_rate=self._rate)
        twin._to_mix, twin._past, twin._gains = twin_of(self._to_mix), self._past.copy(), twin_of(self._gains)
        twin._audibility, twin._sends = twin_of(self._audibility), self._sends.twin(strip, heard.sends)
        if not same or heard != self._heard:
            twin._go_to(strip)
        return twin

    def settle(self) -> None:
        """Have fader and pan in place at once, as at the start of a stream."""
        self._gains.set(self._gains.goal)
        self._audibility.set(self._audibility.goal)
        self._sends.settle()

    def _take_over(self) -> None:
        if self._wanted is not None and not self.chain.gliding:
            strip, self._wanted = self._wanted, None
            if self._retunes and self.chain.chain.is_whole:
                self.chain.change(self.chain.chain.retuned(strip.chain))
            elif (
                strip.chain != self.strip.chain
                or self._comes_in
                or self._moves_otherwise(strip)
                or self._puts_out_otherwise(strip)
            ):
                self.chain.change(self._successor(strip))
                self._go_to(strip)  # a chain that comes out on other channels is panned otherwise
            self._retunes = self._comes_in = False
            self.strip = strip

    def _moves_otherwise(self, strip: Track | Bus | Master) -> bool:
        """Whether a strip's reins are others, or what they move of it rests elsewhere."""
        if strip.reins is self.strip.reins and not strip.reins:
            return False
        rest = [(s.fader_db, getattr(s, "pan_pct", 0.0), s.matched_db) for s in (strip, self.strip)]
        return strip.reins != self.strip.reins or (rest[0] != rest[1] and bool(self.chain.chain.strip_moved))

    def _puts_out_otherwise(self, strip: Track | Bus | Master) -> bool:
        return any(getattr(strip, name) != getattr(self.strip, name) for name in OF_CHAIN)

    def must_settle(self, strip: Track | Bus | Master) -> bool:
        """Whether a strip has what the chain at work cannot go on to at once: a processor it lacks, another draft."""
        return strip.draft != self.strip.draft or self.chain.chain.lacks(strip.chain)

    def _successor(self, strip: Track | Bus | Master) -> Chain:
        """The chain that follows: on with the state there is, and what is new settled by what lies before. Another
        draft takes none of this one's state: each is to be heard as it would be by itself.
        """
        spectrum = self._spectrum(strip)
        if not self.must_settle(strip):
            return self.chain.chain.evolved(strip.chain, spectrum=spectrum, reins=strip.reins, strip=strip)
        settled = self._settled(strip)
        if strip.draft != self.strip.draft:
            return settled
        return self.chain.chain.evolved(strip.chain, spectrum=spectrum, settled=settled, reins=strip.reins, strip=strip)

    def _settled(self, strip: Track | Bus | Master) -> Chain:
        """A chain that has heard what lies before."""
        return self._past.replay(self._fresh(strip))

    def failures(self) -> dict[str, str]:
        """What has failed here, by processor; see Chain and TrackPlayer."""
        return self.chain.chain.failures

    def awaited(self) -> dict[str, str]:
        """What goes on without something here until that is compiled, as Chain.awaited, in sentences."""
        return {what: str(error) for what, error in self.chain.chain.awaited.items()}

    def _mix_gains(self, strip: Track | Bus | Master) -> tuple[float, float]:
        fader = db_to_lin(strip.fader_db + strip.matched_db) if strip.fader_db > FADER_OFF_DB else 0.0
        left, right = pan_gains(getattr(strip, "pan_pct", 0.0), self.chain.chain.channels_out)
        return fader * left, fader * right

    def _put_out(self, result: Array, dry: Array | None) -> None:
        """Fader and pan; `dry` (at the mix's time) with it."""
        sent_gains, audible = self._moving_gains(result.shape[1]), self._audibility.step(result.shape[1])
        gains = sent_gains if audible.shape[1] == 1 and audible[0, 0] == 1.0 else sent_gains * audible
        self.plain, self.block_gains = result, gains
        self.placed = result * gains
        self.aligned = self._to_mix.process(self.placed)
        self.dry = np.zeros((2, 0)) if dry is None else dry * gains
        if self._sends.buses:
            self._sends.put(result, dry, sent_gains, self._moved_pans())

    def sent(self, bus: str, *, dry: bool) -> tuple[Array, Array]:
        """What a bus gets by a send, ahead of the mix by the plan's out_lead, and what it would with no chain anywhere
        before it, where that was asked for.
        """
        return self._sends.sent(bus), self._sends.sent(bus, dry=True) if dry else np.zeros((2, 0))

    def _moved_pans(self) -> Array | None:
        """Gains of both sides without the fader, where a rein moves the pan."""
        chain = self.chain.chain
        pan = chain.strip_moved.get("pan_pct")
        return None if pan is None else pan_gains(pan, chain.channels_out)

    def _moving_gains(self, frames: int) -> Array:
        """Gains of both sides over a block (2, frames), or (2, 1) while they rest; faded over as the chain is, where
        reins move them.
        """
        standing = self._gains.step(frames)

        def gains_of(chain: Chain) -> Array:
            moved = chain.strip_moved
            if not moved:
                return standing
            return moved_gains(moved, chain.strip, chain.channels_out)

        fade = self.chain.fade
        now = gains_of(self.chain.chain)
        if fade is None or not (fade[0].strip_moved or self.chain.chain.strip_moved):
            return now
        before = gains_of(fade[0])
        return before + fade[1] * (now - before)

    def source(self) -> Array:
        """What the strip would give with its own chain left out, at the mix's time."""
        return self.dry

    def meter_db(self) -> tuple[float, float]:
        """Peak and RMS of the last block in the mix."""
        if not self.aligned.shape[1]:
            return FLOOR_DB, FLOOR_DB
        peak_and_energy(self.aligned, self._level)
        return lin_to_db(self._level[0]), lin_to_db(math.sqrt(self._level[1] / self.aligned.size))
