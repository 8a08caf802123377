"""A chain of processors at work, and how it changes while sound runs.

A changed setting does not touch a running processor: the chain is copied with all its state, the copy takes the new
settings, both run side by side for 10 ms and the result fades from one to the other. That one mechanism serves every
setting of every processor, switching on and off, adding, removing and reordering; nothing is reset. What is new to the
chain has first heard what lies before (see strips), so that it comes in settled.

No sample that is not finite leaves a chain: each block is looked at, and a processor that made it, or that failed, is
passed by and named in `failures`.
"""

import copy
import logging
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel

from reins.core.chainfile import ProcessorEntry
from reins.core.dsp.levels import furthest, is_finite, peak
from reins.core.engine.entries import channels_after, make_of
from reins.core.engine.stage import PassedBy, Stage
from reins.core.moves.models import Rein, outside_keys
from reins.core.moves.moving import Mover
from reins.core.processors import PROCESSORS, Processor
from reins.core.processors.base import Block, ByBin, Delay
from reins.core.processors.making import Make
from reins.core.processors.oversampling import Oversampled
from reins.core.routing import BEFORE, key_names
from reins.core.time import Stream, When
from reins.core.twins import twin_of
from reins.core.units import lin_to_db
from reins.errors import NotReadyError, SettingsError

log = logging.getLogger(__name__)
Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Around:
    """What went into a processor and what came out, over a block, and how much later than the source both are."""

    before: Array
    after: Array
    latency_before: int
    latency_after: int


@dataclass(frozen=True)
class Heard:
    """What a detector heard of a block in left and right, the sections that make its band of that, the same in the
    lanes the detector works on, and the latency before it.
    """

    signal: Array
    region: Array | None
    lanes: Array | None
    latency_frames: int


def as_it_is(strip: Any) -> bool:
    """Whether a strip puts out what its chain makes."""
    return bool(strip.chain_on and strip.chain_mix_pct == 100.0 and strip.puts_out == "result")


class Chain:
    """Processors in order. Those switched off are left out altogether, latency included.

    spectrum: of the take, by twelfths of an octave (core.measure.spectra), for those that match loudness by it.
    on_take: whether it works on a take, which can be heard ahead of time, not on a sum. reins: what moves its settings,
    and, where a strip is given, that strip's fader and pan (see `strip_moved`).
    """

    def __init__(
        self, entries: list[ProcessorEntry], *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {},
        spectrum: Array | None = None, on_take: bool = False, reins: Sequence[Rein] = (),
        strip: BaseModel | None = None,
    ) -> None:  # fmt: skip
        self._on_take = on_take
        self._reins, self.strip = reins, strip
        self._mover: Mover | None = None
        self._channels, self._sample_rate, self._key_channels = channels, sample_rate, key_channels
        self._spectrum = spectrum
        self.failures: dict[str, str] = {}
        #: What is passed by, or not moved, until its kernels are compiled: by processor id, or "reins".
        self.awaited: dict[str, NotReadyError] = {}
        self._heard_frames = 0  # of a chain that is told no time
        self._arrange(entries, {})

    def _arrange(self, entries: list[ProcessorEntry], known: dict[Any, Stage]) -> None:
        """Make the stages; those known by id, type and key go on from a copy of their state."""
        self.entries = entries
        self._stages: list[Stage] = []
        latency, channels = 0, self._channels
        for entry in entries:
            if entry.on:
                names, make = key_names(entry), make_of(entry, sample_rate=self._sample_rate, on_take=self._on_take)
                old = known.get((entry.id, entry.type, names, make, channels))
                stage = self._stage(entry, names, make, old, latency, channels)
                latency += stage.processor.latency_frames
                channels = channels_after([entry], channels)
                self._stages.append(stage)
        #: How many channels come out.
        self.channels_out = channels
        known_late = vars(self).get("_late")
        if known_late is None or known_late.frames != latency:
            self._late = Delay(self._channels, latency)
        else:
            self._late = twin_of(known_late)
        self._hears_before = any(BEFORE in stage.keys for stage in self._stages)
        #: Sum of the latencies of the processors that are on, in frames.
        self.latency_frames = latency
        self._take_reins(self._mover)

    def _take_reins(self, known: Mover | None) -> None:
        """Have the reins move what is on; followers of keys go on from the state known."""
        self._mover = None
        #: After `process`: fader and pan by name for each frame of the result, where reins move them.
        self.strip_moved: dict[str, Array] = {}
        if any(rein.on for rein in self._reins):
            for name in outside_keys(self._reins):
                self._check_key(name, "a rein")
            with self._going_on("reins"):
                self._mover = Mover(
                    self.entries, self._reins, self.strip, channels=self._channels, sample_rate=self._sample_rate,
                    key_channels=self._key_channels, known=known,
                )  # fmt: skip
        self._places = [place for place, entry in enumerate(self.entries) if entry.on]

    def _check_key(self, name: str, whose: str) -> None:
        if name not in self._key_channels and name != BEFORE:
            have = ", ".join(self._key_channels) or "none"
            raise SettingsError(f"{whose}: key.source “{name}” is not given; keys given: {have}.")

    def _stage(
        self, entry: ProcessorEntry, names: tuple[str, ...], make: Make, old: Stage | None, latency: int,
        channels_in: int,
    ) -> Stage:  # fmt: skip
        for name in names:
            self._check_key(name, entry.type)
        channels = {name: self._key_channels.get(name, self._channels) for name in names}
        processor: Processor | Oversampled | PassedBy | None = None
        with self._going_on(entry.id):
            if old is None or isinstance(old.processor, PassedBy):
                made = make.processor(
                    entry.settings, channels=channels_in, sample_rate=self._sample_rate, key_channels=channels
                )
            else:
                made = twin_of(old.processor)
                if old.goes_on_with(entry):
                    made.apply(entry.settings)
            made.know(self._spectrum)
            processor = made
        if processor is None:
            processor = PassedBy(channels_in, channels_after([entry], channels_in), make.latency_frames)
        known = {} if old is None else {n: d for n, d in old.keys.items() if d.frames == latency}
        delays = {n: twin_of(known[n]) if n in known else Delay(channels[n], latency) for n in names}
        return Stage(entry, make, processor, delays, latency, channels_in)

    @contextmanager
    def _going_on(self, what: str) -> Iterator[None]:
        """Go on without what is not compiled yet, where this thread does."""
        try:
            yield
        except NotReadyError as error:
            if not error.goes_on:
                raise
            self.awaited[what] = error

    def process(self, sound: Array, keys: Mapping[str, Array] = {}, when: When | None = None) -> Array:
        """The result (channels, frames) for the next block, always finite.

        keys by name, aligned with the sound; when: the place of the result. A chain that is told none stands alone:
        what it hears first is frame 0.
        """
        sound = np.ascontiguousarray(sound)
        when = self._own_time(sound.shape[1]) if when is None else when
        self._passed = [sound]
        if self._hears_before:
            keys = {**keys, BEFORE: sound}
        if self._mover is not None:
            with self._going_on("reins"):
                self._mover.follow(sound, keys)
                self.strip_moved = self._mover.strip(when, self.latency_frames)
            if "reins" in self.awaited:
                self._mover, self.strip_moved = None, {}
        try:
            for place in range(len(self._stages)):
                self._passed.append(self._made(place, keys, when))
        except NotReadyError as error:
            if not error.goes_on:
                raise
            return self._put_out(self._mended(keys, when, error))
        except Exception:
            log.exception("a processor failed: %s", self._stages[len(self._passed) - 1].entry.type)
            return self._put_out(self._mended(keys, when))
        return self._put_out(self._passed[-1] if is_finite(self._passed[-1]) else self._mended(keys, when))

    def _put_out(self, result: Array) -> Array:
        """What the strip puts out of a result: with so much of what came, or the difference; without the chain, what
        came. What came waits as long as the chain takes, whether a strip asks for it yet or not.
        """
        if self.strip is None:  # one that stands alone, as for pictures
            return result
        source = self._late.process(self._passed[0]) if self.latency_frames else self._passed[0]
        if as_it_is(self.strip):
            return result
        strip: Any = self.strip
        share = strip.chain_mix_pct / 100.0 if strip.chain_on else 0.0
        made = source + share * (result - source)
        return np.ascontiguousarray(source - made if strip.puts_out == "difference" else made)

    def _own_time(self, frames: int) -> When:
        when = When(Stream(0), self._heard_frames - self.latency_frames, frames, self._sample_rate)
        self._heard_frames += frames
        return when

    def _made(self, place: int, keys: Mapping[str, Array], when: When) -> Array:
        """What a stage makes of what the one before it has passed on."""
        stage = self._stages[place]
        late = stage.latency_before
        block = Block(self._passed[place], when.later(self.latency_frames - late), keys)
        if self._mover is not None and self._mover.moves(self._places[place]):
            block.moved = self._mover.moved(self._places[place], block.when, late, stage.processor.leaves_late)
        return stage.process(block)

    def _mended(self, keys: Mapping[str, Array], when: When, awaited: NotReadyError | None = None) -> Array:
        """The block once more, from the first stage on that did not make it, which is passed by from now on, or until
        it is ready where that is awaited; those after it have heard what it made and begin anew.
        """
        guilty: int | None = None
        if is_finite(self._passed[0]):
            first_bad = (i for i, made in enumerate(self._passed) if not is_finite(made))
            guilty = next(first_bad, len(self._passed)) - 1
            del self._passed[guilty + 1 :]
        else:
            self.failures["source"] = "The recording holds samples that are no numbers; they are silent."
            self._passed = [np.nan_to_num(self._passed[0], nan=0.0, posinf=0.0, neginf=0.0)]
            self._stages = [self._anew(stage) for stage in self._stages]
        while (place := len(self._passed) - 1) < len(self._stages):
            made = None
            if place != guilty:
                awaited = None
                try:
                    made = self._made(place, keys, when)
                except NotReadyError as error:
                    if not error.goes_on:
                        raise
                    awaited = error
                except Exception:
                    log.exception("a processor failed: %s", self._stages[place].entry.type)
            if made is None or not is_finite(made):
                self._pass_by(place, awaited)
                made = self._made(place, keys, when)
                self._stages[place + 1 :] = [self._anew(stage) for stage in self._stages[place + 1 :]]
            self._passed.append(made)
        return self._passed[-1]

    def _pass_by(self, place: int, awaited: NotReadyError | None) -> None:
        stage = self._stages[place]
        entry, latency = stage.entry, stage.processor.latency_frames
        wide = channels_after([entry], stage.channels)
        self._stages[place] = replace(stage, processor=PassedBy(stage.channels, wide, latency))
        if awaited is not None:
            self.awaited[entry.id or str(place)] = awaited
            return
        self.failures[entry.id or str(place)] = (
            f"{PROCESSORS[entry.type].label}, processor {self.entries.index(entry) + 1} of its chain, made what is no "
            "sound and is passed by; change its settings or take it out."
        )

    def _anew(self, stage: Stage) -> Stage:
        """A stage as at the beginning."""
        if isinstance(stage.processor, PassedBy):
            return stage
        keys, late = tuple(stage.keys), stage.latency_before
        return self._stage(stage.entry, keys, stage.make, None, late, stage.channels)

    @property
    def is_whole(self) -> bool:
        """Whether nothing is passed by."""
        return not self.failures and not self.awaited

    def gains(self) -> list[tuple[ProcessorEntry, dict[str, Array], int]]:
        """After `process`: each processor's moving gains and marks, and the latency of the sound they acted on."""
        return [
            (s.entry, s.processor.gains_db | s.processor.marks, s.latency_before + s.processor.latency_frames)
            for s in self._stages
        ]

    def moved_now(self) -> dict[str, float]:
        """After `process`: what reins move, as they name it, and the value each stood at when the block ended."""
        return {} if self._mover is None else dict(self._mover.now)

    def deepest_db(self) -> dict[str, float]:
        """After `process`: by processor id the gain over the block that is furthest from 0 dB."""
        return {
            s.entry.id: max(map(furthest, s.processor.gains_db.values()), key=abs, default=0.0) for s in self._stages
        }

    def points_db(self) -> dict[str, tuple[float, float]]:
        """After `process`: by processor id the peak of what went in over the block, and of what came out."""
        peaks = [lin_to_db(peak(np.ascontiguousarray(block))) for block in self._passed] if self._stages else []
        return {s.entry.id: (peaks[i], peaks[i + 1]) for i, s in enumerate(self._stages)}

    def around(self, processor_id: str) -> "Around | None":
        """After `process`: what went into a processor and what came out; None without it."""
        for place, s in enumerate(self._stages):
            if s.entry.id == processor_id:
                late = s.latency_before + s.processor.latency_frames
                return Around(self._passed[place], self._passed[place + 1], s.latency_before, late)
        return None

    def heard(self, processor_id: str, band: str = "") -> Heard | None:
        """After `process`: what the detector of a processor, or of one of its bands, heard; None without one."""
        for stage in self._stages:
            if stage.entry.id == processor_id:
                heard = stage.processor.hears(band)
                return None if heard is None else Heard(*heard, stage.processor.key_heard, stage.latency_before)
        return None

    def by_bin(self, processor_id: str) -> tuple[ByBin, int] | None:
        """After `process`: what a processor that works on spectra moved each bin by, and the latency before it."""
        stage = next((s for s in self._stages if s.entry.id == processor_id), None)
        if stage is None or stage.processor.by_bin is None:
            return None
        return stage.processor.by_bin, stage.latency_before

    def now_db(self, processor_id: str, frequencies_hz: Array) -> Array | None:
        """After `process`: Processor.now_db of one of them."""
        stage = next((s for s in self._stages if s.entry.id == processor_id), None)
        made = None if stage is None else stage.processor
        return made.now_db(frequencies_hz) if isinstance(made, Processor) else None

    def _known(self) -> dict[Any, Stage]:
        """The stages that others can go on from, by id, type and keys."""
        return {stage.place: stage for stage in self._stages if not isinstance(stage.processor, PassedBy)}

    def lacks(self, entries: list[ProcessorEntry]) -> bool:
        """Whether something is on in `entries` that has no stage here to go on from."""
        known, channels = self._known(), self._channels
        for entry in entries:
            if entry.on:
                make = make_of(entry, sample_rate=self._sample_rate, on_take=self._on_take)
                if (entry.id, entry.type, key_names(entry), make, channels) not in known:
                    return True
                channels = channels_after([entry], channels)
        return False

    def retuned(self, entries: list[ProcessorEntry]) -> "Chain":
        """As evolved, for entries of which every one is made as before and follows what it followed."""
        twin = Chain.__new__(Chain)
        twin.__dict__.update(self.__dict__)  # copy.copy takes five times as long
        twin.entries, twin.failures, twin._late = entries, {}, twin_of(self._late)
        on = [entry for entry in entries if entry.on]
        try:
            twin._stages = [stage.retuned(entry) for stage, entry in zip(self._stages, on, strict=True)]
        except NotReadyError:
            return self.evolved(entries)
        if self._mover is not None:
            twin._take_reins(self._mover)
        return twin

    def evolved(
        self,
        entries: list[ProcessorEntry],
        key_channels: Mapping[str, int] | None = None,
        spectrum: Array | None = None,
        settled: "Chain | None" = None,
        reins: Sequence[Rein] | None = None,
        strip: BaseModel | None = None,
    ) -> "Chain":
        """A copy with the state of this one and the settings of `entries`; processors are matched by id and type. What
        is not known here goes on from `settled`, a chain that has heard what lies before. reins: with what they move
        of the strip, where they are others.
        """
        twin = copy.copy(self)
        twin._spectrum, twin.failures, twin.awaited = spectrum, {}, {}
        twin._key_channels = self._key_channels if key_channels is None else key_channels
        if reins is not None:
            twin._reins, twin.strip = reins, strip
        twin._arrange(entries, (settled._known() if settled else {}) | self._known())
        return twin
