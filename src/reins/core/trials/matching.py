"""How much louder or quieter result, source and difference must be made to be equally loud; and makeup by that."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp.loudness import LoudnessMeter
from reins.core.engine.graph import Graph
from reins.core.engine.listening import Listen, Listening, heard_of
from reins.core.engine.offline import RENDER_FRAMES
from reins.core.sessions import Document
from reins.core.takes import Take
from reins.core.time import Stream
from reins.core.trials.running import Trial
from reins.core.units import db_to_lin
from reins.errors import ConflictError

Array = npt.NDArray[np.float64]
MOST_GAIN_DB = 24.0
CLOSE_LU = 0.05
MATCHED: tuple[Listen, ...] = ("result", "source", "difference")
TRIES = 8
LEAST_SLOPE = 0.05  # LU per dB of makeup; where a mix leaves it less, the search takes smaller steps


def match_listening(
    document: Document, takes: dict[str, Take], of: str | None, start: int, end: int, check: Callable[[], None],
    processor_id: str | None = None,
) -> dict[str, float]:  # fmt: skip
    """The gain in dB for each listening choice that makes it as loud as the result, from frame start to end.

    Integrated loudness by BS.1770 of the mix, of one strip or of one of its processors, after fader and pan; 0 where a
    loudness cannot be given, never more than MOST_GAIN_DB. `check` may raise to stop.
    """
    graph = Graph(document, takes, Stream(start))
    graph.run_in()
    asked = [Listening(what, of, processor_id) for what in MATCHED]
    meters = [LoudnessMeter(sample_rate=document.sample_rate) for _ in asked]
    for first in range(start, end, RENDER_FRAMES):
        check()
        frames = min(RENDER_FRAMES, end - first)
        graph.process(frames, dry=True)
        for to, meter in zip(asked, meters, strict=True):
            meter.feed(np.ascontiguousarray(heard_of(graph, to, frames)))
    measured = {what: meter.integrated_lufs() for what, meter in zip(MATCHED, meters, strict=True)}
    goal = measured["result"]
    return {
        what: 0.0 if goal is None or lufs is None else max(-MOST_GAIN_DB, min(MOST_GAIN_DB, goal - lufs))
        for what, lufs in measured.items()
    }


def levelled_by(settings: Any) -> str | None:
    """The setting that makes all of a processor's result louder."""
    return next((name for name in ("makeup_db", "output_db") if hasattr(settings, name)), None)


def match_makeup(trial: Trial, processor_id: str, start: int, end: int, check: Callable[[], None]) -> float:
    """The makeup_db, or output_db of one without, at which a processor's result is as loud as what it hears, from frame
    start to end, to 0.1 dB.

    Integrated loudness by BS.1770, as if the processor were on. Found by the secant method, since a mix bends the
    answer. Raises ConflictError where there is no loudness to match or no makeup to set.
    """
    chain = trial.entries
    index = next((i for i, entry in enumerate(chain) if entry.id == processor_id), None)
    name = None if index is None else levelled_by(chain[index].settings)
    if index is None or name is None:
        raise ConflictError("It has neither makeup nor output; allowed: a processor that has one.")
    entry = chain[index].model_copy(update={"on": True})
    goal = loudness(replace(trial, entries=chain[:index]), start, end, check)
    makeup_db, slope = float(getattr(entry.settings, name)), 1.0
    last: tuple[float, float] | None = None
    for _ in range(TRIES):
        settings = entry.settings.model_copy(update={name: makeup_db})
        tried = [*chain[:index], entry.model_copy(update={"settings": settings})]
        reached = loudness(replace(trial, entries=tried), start, end, check)
        if goal is None or reached is None:
            raise ConflictError("There is nothing loud enough here to match by; BS.1770 wants 0.4 s over −70 LUFS.")
        if abs(goal - reached) < CLOSE_LU:
            break
        if last is not None and makeup_db != last[0]:
            slope = max((reached - last[1]) / (makeup_db - last[0]), LEAST_SLOPE)
        last = makeup_db, reached
        makeup_db = max(-MOST_GAIN_DB, min(MOST_GAIN_DB, makeup_db + (goal - reached) / slope))
    return round(makeup_db, 1)


def loudness(trial: Trial, start: int, end: int, check: Callable[[], None], *, gain_db: float = 0.0) -> float | None:
    """Integrated loudness in LUFS of what a trial makes from frame start to end, made so much louder; None where all is
    too quiet.
    """
    meter = LoudnessMeter(sample_rate=trial.sound.facts.sample_rate)
    for block, _ in trial.run(start, end - start, block_frames=RENDER_FRAMES):
        check()
        meter.feed(block if gain_db == 0.0 else block * db_to_lin(gain_db))
    return meter.integrated_lufs()
