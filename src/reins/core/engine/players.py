"""The players of the graph's strips: a track reads its take, a bus and the master hear what comes to them."""

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from reins.core.dsp.gliding import Ramp
from reins.core.engine.chain import Chain
from reins.core.engine.entries import chain_latency, settling_frames, wants_spectrum
from reins.core.engine.gliding import GlidingChain
from reins.core.engine.plan import Plan
from reins.core.engine.strips import StripPlayer
from reins.core.laid import LaidTake
from reins.core.processors.base import Delay
from reins.core.sessions import Bus, Master, Track
from reins.core.soloing import Heard
from reins.core.time import Stream, When
from reins.core.twins import twin_of
from reins.errors import StorageError

Array = npt.NDArray[np.float64]
PRE_ROLL_BLOCK = 8192


class TrackPlayer(StripPlayer):
    """A track: its take read along a stream, ahead of the mix by its lead."""

    strip: Track
    _on_take = True

    def __init__(
        self,
        track: Track,
        strip_id: str,
        laid: LaidTake,
        plan: Plan,
        *,
        sample_rate: int,
        key_channels: Mapping[str, int],
    ) -> None:
        self.laid = laid
        self._out_lead, self._in_lead = plan.out_lead[strip_id], plan.in_lead[strip_id]
        self._tapped = strip_id in plan.fixed
        super().__init__(
            track, strip_id, plan, channels=laid.facts.channels, sample_rate=sample_rate, key_channels=key_channels
        )
        self._old_latency = self.chain.chain.latency_frames
        self._trim = Ramp((1.0,), sample_rate)  # of what the take is laid out with
        self._problem: dict[str, str] = {}

    def _spectrum(self, strip: Track | Bus | Master) -> Array | None:
        return self.laid.spectrum() if wants_spectrum(strip.chain) else None

    def twin(self, strip: Track | Bus | Master, key_channels: Mapping[str, int], heard: Heard) -> "TrackPlayer":
        """A copy that goes on from the same state with other settings of equal latency."""
        twin = super().twin(strip, key_channels, heard)
        assert isinstance(twin, TrackPlayer)
        twin._trim = twin_of(self._trim)
        return twin

    def relay(self, laid: LaidTake) -> None:
        """Lay the take out anew from the next block on; another trim or polarity is gone to from where it is."""
        self._trim.set((self._trim.now[0] * self.laid.gain / laid.gain,))
        self._trim.go((1.0,))
        self.laid = laid

    def prime(self, when: When, pre_roll: int) -> None:
        """Have the chain hear what lies before a place of the mix, alone; for tracks without a key."""
        self.chain = GlidingChain(self._primed(self.chain.chain, when, pre_roll), sample_rate=self._rate)

    def _primed(self, chain: Chain, when: When, pre_roll: int) -> Chain:
        if chain.entries:
            pre_roll = max(pre_roll, settling_frames(chain.entries, self._rate))
            end = when.first + self._out_lead + chain.latency_frames
            begin = min(end, when.first - min(pre_roll, max(0, when.stream.at(when.first))))
            for first in range(begin, end, PRE_ROLL_BLOCK):
                frames = min(PRE_ROLL_BLOCK, end - first)
                place = replace(when, first=first - chain.latency_frames, frames=frames)
                chain.process(self._read(when.stream, first, frames), {}, place)
        return chain

    def _read(self, stream: Stream, first: int, frames: int) -> Array:
        """Frames of the take along a stream; a recording that cannot be read is silent, and that is said."""
        try:
            return stream.read(self.laid.read, first, frames)
        except StorageError as error:
            self._problem = {f"take {self.laid.name}": str(error)}
            return np.zeros((self.channels, frames))

    def failures(self) -> dict[str, str]:
        """What has failed here: by processor, and of the take."""
        return super().failures() | self._problem

    def process(self, when: When, keys: Mapping[str, Array], *, pre_roll: int, dry: bool) -> None:
        """Work on the frames that the mix has at this place."""
        stream, position, frames = when.stream, when.first, when.frames
        self._here = when, pre_roll
        self._take_over()
        trim = self._trim.step(frames) if self._trim.moving else 1.0  # at rest it is in what is read
        latency = self.chain.chain.latency_frames
        block = self._read(stream, position + self._out_lead + latency, frames) * trim
        old_block = block
        if self._old_latency != latency:
            old_block = self._read(stream, position + self._out_lead + self._old_latency, frames) * trim
        place = when.later(self._out_lead)
        result = self.chain.process(block, old_block, keys, place)
        if keys:
            self._past.note(block, keys, place)
        if not self.chain.gliding:
            self._old_latency = latency
        self.fed = block
        if self._tapped and self._in_lead != self._out_lead + latency:
            self.fed = self._read(stream, position + self._in_lead, frames) * trim
        source = None
        if dry:
            ahead = self._out_lead + latency
            source = block if ahead == 0 else self._read(stream, position, frames) * trim
        self._put_out(result, source)

    def _successor(self, strip: Track | Bus | Master) -> Chain:
        """As for every strip, where the latency stays; any other chain hears what lies before it."""
        if chain_latency(strip.chain, sample_rate=self._rate, on_take=True) == self._old_latency:
            return super()._successor(strip)
        return self._primed(self._fresh(strip), *self._here)

    def _settled(self, strip: Track | Bus | Master) -> Chain:
        return super()._settled(strip) if self._key_channels else self._primed(self._fresh(strip), *self._here)


class BusPlayer(StripPlayer):
    """A bus or the master: hears the sum of what comes to it."""

    def __init__(
        self, strip: Bus | Master, strip_id: str, plan: Plan, *, sample_rate: int, key_channels: Mapping[str, int]
    ) -> None:
        super().__init__(strip, strip_id, plan, channels=2, sample_rate=sample_rate, key_channels=key_channels)
        self._to_chain = Delay(2, plan.in_lead[strip_id] - plan.chain_lead[strip_id])
        self._source_to_mix, self._out_lead = Delay(2, plan.in_lead[strip_id]), plan.out_lead[strip_id]
        self._incoming = np.zeros((2, 0))

    def twin(self, strip: Track | Bus | Master, key_channels: Mapping[str, int], heard: Heard) -> "BusPlayer":
        """A copy that goes on from the same state with other settings of equal latency."""
        twin = super().twin(strip, key_channels, heard)
        assert isinstance(twin, BusPlayer)
        twin._to_chain, twin._source_to_mix = twin_of(self._to_chain), twin_of(self._source_to_mix)
        return twin

    def process(self, when: When, incoming: Array, dry: Array | None, keys: Mapping[str, Array]) -> None:
        """Work on the sum of what comes in, for the frames that the mix has at this place."""
        self._take_over()
        self.fed = incoming
        block = self._to_chain.process(incoming)
        place = when.later(self._out_lead)
        result = self.chain.process(block, block, keys, place)
        self._past.note(block, keys, place)
        self._incoming = self._source_to_mix.process(incoming)
        self._put_out(result, dry)

    def source(self) -> Array:
        """What came in, after fader and pan, at the mix's time."""
        return self._incoming * self.block_gains
