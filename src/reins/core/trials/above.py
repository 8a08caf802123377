"""A strip from above: all of it in few columns, how loud it leaves its chain, how deep any processor of that holds."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.engine.chain import as_it_is
from reins.core.measure.folding import BIN_FRAMES, HELD_DB
from reins.core.measure.levels import RUN_FRAMES
from reins.core.trials.running import Trial

Floats = npt.NDArray[np.float32]


@dataclass(frozen=True)
class FromAbove:
    """By column of a whole sound: peaks (columns,) of what leaves the chain, held_db (columns,) the deepest gain of any
    processor of it, 0 where none holds. held_pct: for how much of the time one holds; deepest_frame: where most.
    """

    frames: int
    peaks: Floats
    held_db: Floats
    held_pct: float
    deepest_db: float
    deepest_frame: int


def from_above(trial: Trial, columns: int, check: Callable[[], None] = lambda: None) -> FromAbove:
    """A strip's whole sound run through its chain and folded; `check` may raise to stop."""
    frames, chain = trial.sound.facts.frames, trial.chain()
    strip = trial.strip
    if not any(entry.on for entry in trial.entries) and (strip is None or as_it_is(strip)):
        peaks = trial.sound.peak_columns(0, frames, columns).astype(np.float32)
        return FromAbove(frames, peaks, np.zeros(columns, np.float32), 0.0, 0.0, 0)
    bins = -(-frames // BIN_FRAMES)
    loudest, lowest, done = np.zeros(bins, np.float32), np.zeros(bins, np.float32), 0
    held_frames = 0
    block_frames = RUN_FRAMES * (1 + chain.latency_frames // RUN_FRAMES)
    for result, rows in trial.run(0, frames, block_frames=block_frames, chain=chain):
        check()
        names = [name for _, moving, _ in chain.gains() for name in moving]
        gains = [row for name, row in zip(names, rows, strict=True) if name.endswith("gain_db")]
        gains = gains if strip is None or strip.chain_on else []  # passed by, it holds nothing that is heard
        _fold(np.abs(result).max(axis=0), np.maximum, loudest, done)
        if gains:
            deepest_of_all = np.minimum.reduce(gains)
            held_frames += int((deepest_of_all <= -HELD_DB).sum())
            _fold(deepest_of_all, np.minimum, lowest, done)
        done += result.shape[1]
    edges = (np.arange(columns) * bins) // columns
    deepest = int(lowest.argmin())
    return FromAbove(
        frames, np.maximum.reduceat(loudest, edges), np.minimum.reduceat(lowest, edges),
        100.0 * held_frames / frames, float(lowest[deepest]), deepest * BIN_FRAMES,
    )  # fmt: skip


def _fold(row: npt.NDArray[np.float64], keep: np.ufunc, bins: Floats, first: int) -> None:
    """Fold what stands at each frame from `first` on into bins."""
    starts = np.unique(np.maximum(np.arange(-(first % BIN_FRAMES), row.size, BIN_FRAMES), 0))
    folded = keep.reduceat(row, starts)
    at = (first + starts) // BIN_FRAMES
    bins[at] = keep(bins[at], folded)
