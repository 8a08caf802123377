"""What a processor did over a span of a take: its chain run over it, and folded."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np

from reins.core.engine.bandlevels import COLUMN_FRAMES, BandLevels
from reins.core.engine.chain import Chain, as_it_is
from reins.core.engine.graph import PRE_ROLL_S
from reins.core.measure.folding import fold_peaks
from reins.core.measure.heldmap import HeldMap
from reins.core.measure.levels import RUN_FRAMES
from reins.core.measure.span import Fold, Span
from reins.core.measure.tap import Tap
from reins.core.processors import PROCESSORS
from reins.core.trials.running import Trial


def measure_span(
    trial: Trial, processor_id: str | None, start: int, frames: int, check: Callable[[], None] = lambda: None
) -> Span:
    """Run a chain over a span and fold what `processor_id` did (any chain's end result is folded beside it).

    A span that starts inside the take is entered PRE_ROLL_S early, so that levels have settled: its picture is that
    of the whole take but for what a slow release still carries. `check` is called every RUN_FRAMES and may raise to
    stop. Result and meter run on two threads; kernels let go of the GIL.
    """
    facts, chain = trial.sound.facts, trial.chain()
    begin = max(0, start - round(PRE_ROLL_S * facts.sample_rate))
    kind = next((PROCESSORS[entry.type] for entry in trial.entries if entry.id == processor_id), None)
    views = kind.views if kind is not None else ()
    fold = Fold(
        start, frames, sample_rate=facts.sample_rate, keyed=bool(trial.keys),
        banded="spectrum" in views,
    )  # fmt: skip

    taps = _Taps(trial, processor_id, frames)
    # What is tapped within the chain is told with each block it works on: none may be shorter than its latency.
    block_frames = RUN_FRAMES * (1 + chain.latency_frames // RUN_FRAMES)
    held_map: HeldMap | None = None
    chosen = next((entry for entry in trial.entries if entry.id == processor_id and entry.on), None)
    levels = BandLevels(chosen, -(-frames // COLUMN_FRAMES), facts.sample_rate) if chosen else None
    heard_at = done = begin - start
    with ThreadPoolExecutor(1) as beside:
        folding = None
        for result, rows in trial.run(begin, start - begin + frames, block_frames=block_frames, chain=chain):
            check()
            taps.feed(chain, heard_at)
            if "heard" in views and (heard := chain.heard(processor_id or "")) and heard.lanes is not None:
                fold_peaks(heard.lanes, heard_at - heard.latency_frames, fold.heard)
            if levels is not None:
                levels.feed(chain, heard_at)
            if moved := chain.by_bin(processor_id or ""):
                by_bin, late = moved
                held_map = held_map or HeldMap(frames, by_bin.hop)
                held_map.feed(by_bin.gains_db, by_bin.hz, by_bin.middles + (heard_at - late))
            heard_at += block_frames
            count = result.shape[1]
            skip = min(max(-done, 0), count)
            told = {n: np.ascontiguousarray(rows[k][skip:]) for n, k in _rows_of(chain, processor_id).items()}
            if folding is not None:
                folding.result()
            marks = {name: told.pop(name) for name in [*told] if not name.endswith("gain_db")}
            folding = beside.submit(fold.feed, np.ascontiguousarray(result[:, skip:]), told, marks, max(done, 0))
            done += count
        if folding is not None:
            folding.result()
    return replace(
        fold.span(),
        before=taps.before,
        after=taps.after,
        held_map=held_map,
        loudest=levels.loudest if levels else {},
    )


class _Taps:
    """What comes to a processor and what it makes, tapped where that is neither source nor result of the chain."""

    def __init__(self, trial: Trial, processor_id: str | None, frames: int) -> None:
        on = [entry.id for entry in trial.entries if entry.on]
        self._id, place = processor_id or "", on.index(processor_id) if processor_id in on else -1
        shape = {"sample_rate": trial.sound.facts.sample_rate}
        self.before = Tap(frames, **shape) if place > 0 else None
        last = place == len(on) - 1 and (trial.strip is None or as_it_is(trial.strip))
        self.after = Tap(frames, **shape) if place >= 0 and not last else None

    def feed(self, chain: Chain, first: int) -> None:
        """Take in the block that a chain has just worked on, whose source begins at this frame of the span."""
        around = chain.around(self._id) if self.before or self.after else None
        if around is not None and self.before is not None:
            self.before.feed(around.before, first - around.latency_before)
        if around is not None and self.after is not None:
            self.after.feed(around.after, first - around.latency_after)


def _rows_of(chain: Chain, processor_id: str | None) -> dict[str, int]:
    """Places among what run_chain tells that belong to a processor, by name; none when it is off or absent."""
    told = [(entry.id, name) for entry, moving, _ in chain.gains() for name in moving]
    return {name: place for place, (owner, name) in enumerate(told) if owner == processor_id}
