"""The offline clock: a chain over a stream of blocks, or a mix over a span, as fast as it goes."""

from collections.abc import Callable, Iterator, Mapping

import numpy as np
import numpy.typing as npt

from reins.core.engine.chain import Chain
from reins.core.engine.mixer import BLOCK_FRAMES, Mixer, Stream

Array = npt.NDArray[np.float64]


def run_chain(
    chain: Chain,
    take: Callable[[int], Array],
    frames: int,
    *,
    block_frames: int,
    keys: Mapping[str, Callable[[int], Array]] = {},
) -> Iterator[tuple[Array, list[Array]]]:
    """Blocks of a chain's result, lined up with its source and equally long in all.

    take(n) gives the next n frames of the source, silence after its end; keys likewise. Yields the result with the
    moving gains beside it, in the chain's order, each shifted by the latency it acts at: row n of a gain belongs to
    frame n of the source. Gains keep the length of the result's block.
    """
    waiting, given = chain.latency_frames, 0
    skips: list[int] | None = None
    heads: list[Array] = []
    while given < frames:
        result = chain.process(take(block_frames), {name: key(block_frames) for name, key in keys.items()})
        rows = chain.gains()
        fresh = [gain for _, moving, _ in rows for gain in moving.values()]
        if skips is None:
            skips = [latency for _, moving, latency in rows for _ in moving]
            heads = [np.zeros(0) for _ in skips]
        heads = [np.concatenate([h, g[s:]]) for h, g, s in zip(heads, fresh, skips, strict=True)]
        skips = [max(0, s - block_frames) for s in skips]
        count = min(max(block_frames - waiting, 0), frames - given)
        if count:
            yield np.ascontiguousarray(result[:, waiting : waiting + count]), [h[:count] for h in heads]
            heads = [h[count:] for h in heads]
            given += count
        waiting = max(0, waiting - block_frames)


def render_mix(mixer: Mixer, start: int, end: int, *, block_frames: int = BLOCK_FRAMES) -> Iterator[Array]:
    """Stereo blocks of the mix from frame start to end, the last one shorter."""
    mixer.start(Stream(start))
    for first in range(start, end, block_frames):
        yield mixer.process(min(block_frames, end - first))
