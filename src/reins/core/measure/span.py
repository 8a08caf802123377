"""What a chain did over a span of a take: envelopes, gain and statistics."""

import math
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry
from reins.core.dsp.loudness import LoudnessMeter
from reins.core.engine.chain import Chain
from reins.core.engine.mixer import PRE_ROLL_S
from reins.core.engine.offline import run_chain
from reins.core.measure.folding import (
    BIN_FRAMES,
    HELD_DB,
    HISTOGRAM_BINS,
    HISTOGRAM_STEP_DB,
    Counts,
    fold_block,
)
from reins.core.takes import Take, reduce_columns
from reins.core.units import lin_to_db

Array = npt.NDArray[np.float64]
RUN_FRAMES = 32768


@dataclass(frozen=True)
class Level:
    """How loud a signal is over a span: crest factor in dB, loudness in LUFS; None where it cannot be given."""

    peak_db: float
    rms_db: float
    crest_db: float | None
    integrated_lufs: float | None


@dataclass(frozen=True)
class Span:
    """A chain's doings over frames start .. start + frames of a take, in bins of BIN_FRAMES."""

    start: int
    frames: int
    peaks: Array
    deepest_db: Array
    highest_db: Array
    histogram: Counts
    lifted: Counts
    result: Level

    def columns(self, start: int, frames: int, columns: int) -> tuple[Array, Array, Array]:
        """(peak amplitude of the result, deepest, highest gain in dB) per column of a part of the span."""
        edges = (start - self.start + np.linspace(0, frames, columns + 1)) / BIN_FRAMES
        return (
            reduce_columns(self.peaks, edges, np.maximum),
            reduce_columns(self.deepest_db, edges, np.minimum),
            reduce_columns(self.highest_db, edges, np.maximum),
        )

    def statistics(self) -> dict[str, float]:
        """held_pct (share of time with at least HELD_DB taken or given), usual_db (median while so), deepest_db."""
        counts = self.histogram + self.lifted
        first = round(HELD_DB / HISTOGRAM_STEP_DB)
        held = counts.copy()
        held[:first] = 0
        total = int(held.sum())
        usual = int(np.searchsorted(np.cumsum(held), total / 2.0)) if total else 0
        sign = -1.0 if self.histogram[first:].sum() >= self.lifted[first:].sum() else 1.0
        extreme = self.deepest_db.min(initial=0.0) if sign < 0 else self.highest_db.max(initial=0.0)
        return {
            "held_pct": 100.0 * total / max(self.frames, 1),
            "usual_db": sign * usual * HISTOGRAM_STEP_DB,
            "deepest_db": float(extreme),
        }


def measure_level(squares: float, peak: float, samples: int, meter: LoudnessMeter) -> Level:
    """Level from a sum of squares over `samples` samples, the peak and a fed loudness meter."""
    rms = math.sqrt(squares / samples) if samples else 0.0
    crest = lin_to_db(peak) - lin_to_db(rms) if rms > 1e-6 else None
    return Level(lin_to_db(peak), lin_to_db(rms), crest, meter.integrated_lufs())


def measure_source(take: Take, start: int, frames: int, check: Callable[[], None] = lambda: None) -> Level:
    """Level of a take over a span; `check` may raise to stop."""
    meter = LoudnessMeter(sample_rate=take.facts.sample_rate)
    peak = squares = 0.0
    for first in range(start, start + frames, RUN_FRAMES):
        check()
        block = take.read(first, min(RUN_FRAMES, start + frames - first))
        meter.feed(block)
        peak = max(peak, float(np.abs(block).max(initial=0.0)))
        squares += float(np.vdot(block, block))
    return measure_level(squares, peak, frames * take.facts.channels, meter)


def measure_span(
    take: Take,
    entries: list[ProcessorEntry],
    processor_id: str | None,
    start: int,
    frames: int,
    check: Callable[[], None] = lambda: None,
) -> Span:
    """Run a chain over a span and fold what `processor_id` did (any chain's end result is folded beside it).

    A span that starts inside the take is entered PRE_ROLL_S early, so that levels have settled: its picture is that
    of the whole take but for what a slow release still carries. `check` is called every RUN_FRAMES and may raise to
    stop. Result and meter run on two threads; kernels let go of the GIL.
    """
    rate, channels = take.facts.sample_rate, take.facts.channels
    chain = Chain(entries, channels=channels, sample_rate=rate)
    begin = max(0, start - round(PRE_ROLL_S * rate))
    position = begin

    def read(count: int) -> Array:
        nonlocal position
        position += count
        return take.read(position - count, count)

    which = _gain_row(chain, processor_id)
    bins = -(-frames // BIN_FRAMES)
    peaks, deepest, highest, squares = np.zeros(bins), np.zeros(bins), np.zeros(bins), np.zeros(1)
    histogram, lifted = np.zeros(HISTOGRAM_BINS, np.int64), np.zeros(HISTOGRAM_BINS, np.int64)
    meter = LoudnessMeter(sample_rate=rate)

    def fold(result: Array, gain_db: Array, first: int) -> None:
        fold_block(result, gain_db, first, result.shape[1], peaks, squares, deepest, highest, histogram, lifted)
        meter.feed(result)

    done = begin - start
    with ThreadPoolExecutor(1) as beside:
        folding = None
        for result, gains in run_chain(chain, read, start - begin + frames, block_frames=RUN_FRAMES):
            check()
            count = result.shape[1]
            gain_db = gains[which] if which is not None else np.zeros(count)
            skip = min(max(-done, 0), count)
            if folding is not None:
                folding.result()
            part = np.ascontiguousarray(result[:, skip:])
            folding = beside.submit(fold, part, np.ascontiguousarray(gain_db[skip:]), max(done, 0))
            done += count
        if folding is not None:
            folding.result()
    level = measure_level(float(squares[0]), float(peaks.max(initial=0.0)), frames * channels, meter)
    return Span(start, frames, peaks, deepest, highest, histogram, lifted, level)


def _gain_row(chain: Chain, processor_id: str | None) -> int | None:
    """Which of run_chain's gains belongs to a processor; None when it is off, absent or moves nothing.

    One moving gain a processor so far; the order is that of the processors that are on.
    """
    on = [entry.id for entry in chain.entries if entry.on]
    return on.index(processor_id) if processor_id in on else None
