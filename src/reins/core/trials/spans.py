"""What a processor did over a span of a take: its chain run over it, and folded."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from reins.core.engine.chain import Chain
from reins.core.engine.graph import PRE_ROLL_S
from reins.core.measure.folding import fold_peaks
from reins.core.measure.span import RUN_FRAMES, Fold, Span
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
        start, frames, channels=facts.channels, sample_rate=facts.sample_rate, keyed=bool(trial.keys),
        banded="spectrum" in views,
    )  # fmt: skip

    heard_at = done = begin - start
    with ThreadPoolExecutor(1) as beside:
        folding = None
        for result, rows in trial.run(begin, start - begin + frames, block_frames=RUN_FRAMES, chain=chain):
            check()
            if "heard" in views and (heard := chain.heard(processor_id or "")) and heard.lanes is not None:
                fold_peaks(heard.lanes, heard_at - heard.latency_frames, fold.heard)
                heard_at += heard.lanes.shape[1]
            count = result.shape[1]
            skip = min(max(-done, 0), count)
            told = {n: np.ascontiguousarray(rows[k][skip:]) for n, k in _rows_of(chain, processor_id).items()}
            if folding is not None:
                folding.result()
            state = told.pop("state", None)
            folding = beside.submit(fold.feed, np.ascontiguousarray(result[:, skip:]), told, state, max(done, 0))
            done += count
        if folding is not None:
            folding.result()
    return fold.span()


def _rows_of(chain: Chain, processor_id: str | None) -> dict[str, int]:
    """Places among what run_chain tells that belong to a processor, by name; none when it is off or absent."""
    told = [(entry.id, name) for entry, moving, _ in chain.gains() for name in moving]
    return {name: place for place, (owner, name) in enumerate(told) if owner == processor_id}
