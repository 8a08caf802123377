"""A chain of processors at work, and how it changes while sound runs.

A changed setting does not touch a running processor: the chain is copied with all its state, the copy takes the new
settings, both run side by side for 10 ms and the result fades from one to the other. That one mechanism serves every
setting of every processor, switching on and off, adding, removing and reordering; nothing is reset.
"""

import copy
from collections.abc import Mapping

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry
from reins.core.processors import PROCESSORS, Processor
from reins.core.units import lin_to_db, ms_to_frames
from reins.errors import SettingsError

Array = npt.NDArray[np.float64]
GLIDE_MS = 10.0


class Chain:
    """Processors in order. Those switched off are left out altogether, latency included."""

    def __init__(
        self, entries: list[ProcessorEntry], *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}
    ) -> None:
        self.entries = entries
        self._channels, self._sample_rate, self._key_channels = channels, sample_rate, key_channels
        self._stages = [(entry, self._make(entry)) for entry in entries if entry.on]

    def _make(self, entry: ProcessorEntry) -> Processor:
        settings = entry.settings
        source = self._source(entry)
        if source != "self" and source not in self._key_channels:
            have = ", ".join(self._key_channels) or "none"
            raise SettingsError(f"{entry.type}: key.source “{source}” is not given; keys given: {have}.")
        kind = PROCESSORS[entry.type]
        key_channels = self._key_channels.get(source, self._channels)
        return kind(settings, channels=self._channels, sample_rate=self._sample_rate, key_channels=key_channels)

    @staticmethod
    def _source(entry: ProcessorEntry) -> str:
        key = getattr(entry.settings, "key", None)
        return key.source if key is not None else "self"

    @property
    def latency_frames(self) -> int:
        """Sum of the latencies of the processors that are on."""
        return sum(processor.latency_frames for _, processor in self._stages)

    def process(self, block: Array, keys: Mapping[str, Array] = {}) -> Array:
        """The result (channels, frames) for the next block; keys by name, aligned with the block."""
        block = np.ascontiguousarray(block)
        self._passed = [block]
        for entry, processor in self._stages:
            block = processor.process(block, keys.get(self._source(entry)))
            self._passed.append(block)
        return block

    def gains(self) -> list[tuple[ProcessorEntry, dict[str, Array], int]]:
        """After `process`: each processor's moving gains and the latency in frames of the sound they acted on."""
        rows, latency = [], 0
        for entry, processor in self._stages:
            latency += processor.latency_frames
            rows.append((entry, processor.gains_db, latency))
        return rows

    def meters(self) -> dict[str, tuple[float, float, float]]:
        """After `process`: by processor id its deepest gain, peak in and peak out over the block, all in dB."""
        peaks = [lin_to_db(float(np.abs(block).max(initial=0.0))) for block in self._passed]
        return {
            entry.id: (min((float(g.min()) for g in processor.gains_db.values()), default=0.0), peaks[i], peaks[i + 1])
            for i, (entry, processor) in enumerate(self._stages)
        }

    def evolved(self, entries: list[ProcessorEntry]) -> "Chain":
        """A copy with the state of this one and the settings of `entries`; processors are matched by id and type."""
        known = {(entry.id, entry.type, self._source(entry)): processor for entry, processor in self._stages}
        twin = copy.copy(self)
        twin.entries = entries
        twin._stages = []
        for entry in entries:
            if not entry.on:
                continue
            old = known.get((entry.id, entry.type, self._source(entry)))
            processor = self._make(entry) if old is None else copy.deepcopy(old)
            if old is not None:
                processor.apply(entry.settings)
            twin._stages.append((entry, processor))
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

    def process(self, block: Array, old_block: Array) -> Array:
        """The result for the next block; old_block is what the chain on its way out hears (latency may differ)."""
        if self._old is None:
            return self.chain.process(block)
        before = self._old.process(old_block)
        after = self.chain.process(block)
        frames = block.shape[1]
        weight = np.minimum((self._glided + np.arange(1, frames + 1)) / self._glide_frames, 1.0)
        self._glided += frames
        if self._glided >= self._glide_frames:
            self._old = None
        return before + weight * (after - before)
