"""A chain whose entries are exchanged while sound runs: the old one fades into the new over GLIDE_MS."""

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from reins.core.dsp.gliding import fade_in
from reins.core.engine.chain import Around, Chain
from reins.core.time import When
from reins.core.units import ms_to_frames

Array = npt.NDArray[np.float64]
GLIDE_MS = 10.0


class GlidingChain:
    """A chain whose entries may be exchanged between blocks without a click; never during a glide."""

    def __init__(self, chain: Chain, *, sample_rate: int) -> None:
        self.chain = chain
        self._old: Chain | None = None
        self._glide_frames = ms_to_frames(GLIDE_MS, sample_rate)
        self._glided = 0
        #: Of the last block, while it fades: what it came from, and how far it has come.
        self.fade: tuple[Chain, Array] | None = None

    @property
    def gliding(self) -> bool:
        """Whether two chains are running."""
        return self._old is not None

    def change(self, new: Chain) -> None:
        """Fade to `new` from the next block on; only while not gliding."""
        self._old, self.chain, self._glided = self.chain, new, 0

    def process(
        self, block: Array, old_block: Array, keys: Mapping[str, Array] = {}, when: When | None = None
    ) -> Array:
        """The result for the next block; old_block is what the chain on its way out hears (latency may differ). when:
        the place of the result.
        """
        self.fade = None
        if self._old is None:
            return self.chain.process(block, keys, when)
        before = self._old.process(old_block, keys, when)
        after = self.chain.process(block, keys, when)
        frames = block.shape[1]
        weight = fade_in(self._glided, frames, self._glide_frames)
        self.fade = self._old, weight
        self._glided += frames
        if self._glided >= self._glide_frames:
            self._old = None
        return before + weight * (after - before)

    def around(self, processor_id: str) -> Around | None:
        """As Chain.around, faded over as the result is."""
        now = self.chain.around(processor_id)
        before = self.fade[0].around(processor_id) if self.fade and now else None
        if self.fade is None or now is None or before is None or before.latency_after != now.latency_after:
            return now
        return replace(now, after=before.after + self.fade[1] * (now.after - before.after))
