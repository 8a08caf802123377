"""A chain of processors at work, and how it changes while sound runs.

A changed setting does not touch a running processor: the chain is copied with all its state, the copy takes the new
settings, both run side by side for 10 ms and the result fades from one to the other. That one mechanism serves every
setting of every processor, switching on and off, adding, removing and reordering; nothing is reset.
"""

import copy
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry
from reins.core.dsp.levels import furthest, peak
from reins.core.processors import PROCESSORS, Processor
from reins.core.processors.base import Delay
from reins.core.routing import has_key, key_names
from reins.core.units import lin_to_db, ms_to_frames
from reins.errors import SettingsError

Array = npt.NDArray[np.float64]
GLIDE_MS = 10.0


@dataclass
class Stage:
    """A processor at work, and the delays that line its outside keys up with it, by name."""

    entry: ProcessorEntry
    processor: Processor
    keys: dict[str, Delay]

    def process(self, block: Array, keys: Mapping[str, Array]) -> Array:
        """The result for the next block, its keys lined up with it."""
        heard = {name: delay.process(keys[name]) for name, delay in self.keys.items() if name in keys}
        if has_key(self.entry):
            return self.processor.process(block, next(iter(heard.values()), None))
        return self.processor.process(block, heard)


@dataclass(frozen=True)
class Heard:
    """What a detector heard of a block in left and right, the sections that make its band of that, the same in the
    lanes the detector works on, and the latency before it.
    """

    signal: Array
    region: Array | None
    lanes: Array | None
    latency_frames: int


def chain_latency(entries: list[ProcessorEntry], *, sample_rate: int) -> int:
    """Frames by which the result of a chain comes later than its source."""
    return sum(PROCESSORS[e.type].latency_of(e.settings, sample_rate=sample_rate) for e in entries if e.on)


def wants_spectrum(entries: list[ProcessorEntry]) -> bool:
    """Whether a chain matches loudness by the spectrum of its take."""
    return any(entry.on and getattr(entry.settings, "match_loudness", False) for entry in entries)


class Chain:
    """Processors in order. Those switched off are left out altogether, latency included.

    spectrum: of the take, by twelfths of an octave (core.measure.spectra), for those that match loudness by it.
    """

    def __init__(
        self, entries: list[ProcessorEntry], *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {},
        spectrum: Array | None = None,
    ) -> None:  # fmt: skip
        self._channels, self._sample_rate, self._key_channels = channels, sample_rate, key_channels
        self._spectrum = spectrum
        self._arrange(entries, {})

    def _arrange(self, entries: list[ProcessorEntry], known: dict[Any, Stage]) -> None:
        """Make the stages; those known by id, type and key go on from a copy of their state."""
        self.entries = entries
        self._stages: list[Stage] = []
        latency = 0
        for entry in entries:
            if entry.on:
                names = key_names(entry)
                stage = self._stage(entry, names, known.get((entry.id, entry.type, names)), latency)
                latency += stage.processor.latency_frames
                self._stages.append(stage)

    def _stage(self, entry: ProcessorEntry, names: tuple[str, ...], old: Stage | None, latency: int) -> Stage:
        for name in names:
            if name not in self._key_channels:
                have = ", ".join(self._key_channels) or "none"
                raise SettingsError(f"{entry.type}: key.source “{name}” is not given; keys given: {have}.")
        channels = {name: self._key_channels[name] for name in names}
        if old is None:
            processor: Processor = PROCESSORS[entry.type](
                entry.settings, channels=self._channels, sample_rate=self._sample_rate,
                key_channels=next(iter(channels.values()), self._channels) if has_key(entry) else channels,
            )  # fmt: skip
            processor.know(self._spectrum)
        else:
            processor = copy.deepcopy(old.processor)
            processor.apply(entry.settings)
            processor.know(self._spectrum)
        known = {} if old is None else {n: d for n, d in old.keys.items() if d.frames == latency}
        delays = {n: copy.deepcopy(known[n]) if n in known else Delay(channels[n], latency) for n in names}
        return Stage(entry, processor, delays)

    @property
    def latency_frames(self) -> int:
        """Sum of the latencies of the processors that are on."""
        return sum(stage.processor.latency_frames for stage in self._stages)

    def process(self, block: Array, keys: Mapping[str, Array] = {}) -> Array:
        """The result (channels, frames) for the next block; keys by name, aligned with the block."""
        block = np.ascontiguousarray(block)
        self._passed = [block]
        for stage in self._stages:
            block = stage.process(block, keys)
            self._passed.append(block)
        return block

    def gains(self) -> list[tuple[ProcessorEntry, dict[str, Array], int]]:
        """After `process`: each processor's moving gains and marks, and the latency of the sound they acted on."""
        rows, latency = [], 0
        for stage in self._stages:
            latency += stage.processor.latency_frames
            rows.append((stage.entry, stage.processor.gains_db | stage.processor.marks, latency))
        return rows

    def deepest_db(self) -> dict[str, float]:
        """After `process`: by processor id the gain over the block that is furthest from 0 dB."""
        return {
            s.entry.id: max(map(furthest, s.processor.gains_db.values()), key=abs, default=0.0) for s in self._stages
        }

    def points_db(self) -> dict[str, tuple[float, float]]:
        """After `process`: by processor id the peak of what went in over the block, and of what came out."""
        peaks = [lin_to_db(peak(np.ascontiguousarray(block))) for block in self._passed] if self._stages else []
        return {s.entry.id: (peaks[i], peaks[i + 1]) for i, s in enumerate(self._stages)}

    def before_and_after(self, processor_id: str) -> tuple[Array, Array] | None:
        """After `process`: what went into a processor and what came out; None without it."""
        for place, stage in enumerate(self._stages):
            if stage.entry.id == processor_id:
                return self._passed[place], self._passed[place + 1]
        return None

    def heard(self, processor_id: str, band: str = "") -> Heard | None:
        """After `process`: what the detector of a processor, or of one of its bands, heard; None without one."""
        latency = 0
        for stage in self._stages:
            if stage.entry.id == processor_id:
                heard = stage.processor.hears(band)
                return None if heard is None else Heard(*heard, stage.processor.key_heard, latency)
            latency += stage.processor.latency_frames
        return None

    def evolved(
        self,
        entries: list[ProcessorEntry],
        key_channels: Mapping[str, int] | None = None,
        spectrum: Array | None = None,
    ) -> "Chain":
        """A copy with the state of this one and the settings of `entries`; processors are matched by id and type."""
        twin = copy.copy(self)
        twin._spectrum = spectrum
        twin._key_channels = self._key_channels if key_channels is None else key_channels
        twin._arrange(entries, {(s.entry.id, s.entry.type, tuple(s.keys)): s for s in self._stages})
        return twin


class GlidingChain:
    """A chain whose entries may be exchanged between blocks without a click; never during a glide."""

    def __init__(self, chain: Chain, *, sample_rate: int) -> None:
        self.chain = chain
        self._old: Chain | None = None
        self._glide_frames = ms_to_frames(GLIDE_MS, sample_rate)
        self._glided = 0

    @property
    def gliding(self) -> bool:
        """Whether two chains are running."""
        return self._old is not None

    def change(self, new: Chain) -> None:
        """Fade to `new` from the next block on; only while not gliding."""
        self._old, self.chain, self._glided = self.chain, new, 0

    def process(self, block: Array, old_block: Array, keys: Mapping[str, Array] = {}) -> Array:
        """The result for the next block; old_block is what the chain on its way out hears (latency may differ)."""
        if self._old is None:
            return self.chain.process(block, keys)
        before = self._old.process(old_block, keys)
        after = self.chain.process(block, keys)
        frames = block.shape[1]
        weight = np.minimum((self._glided + np.arange(1, frames + 1)) / self._glide_frames, 1.0)
        self._glided += frames
        if self._glided >= self._glide_frames:
            self._old = None
        return before + weight * (after - before)
