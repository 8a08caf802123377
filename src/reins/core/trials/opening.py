"""An expander turned round, so that it raises what is loud: laid under the tips of this take, gently, and measured.
With what it had going down it would raise nearly all, by as much as it may.
"""

import math
from typing import Any

import numpy as np

from reins.core.chainfile import ProcessorEntry, parse_settings, settings_over
from reins.core.measure.levels import RUN_FRAMES, measure_source
from reins.core.settings.fields import limits_of, place_of
from reins.core.trials.laying import as_it_comes
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span

RATIO, RANGE_DB = 1.3, 6.0
UNDER_TIPS_DB, HIGHER_DB, TRIES = 8.0, 2.0, 8
MOST_LOUDER_LU = 1.5


def opened_upward(trial: Trial) -> tuple[dict[str, Any], str]:
    """Settings by path for the last processor of a trial, which is to raise what is loud, and what was measured with
    them, in words; nothing for silence.
    """
    heard = as_it_comes(trial)
    entry, frames = heard.entries[-1], heard.sound.facts.frames
    tops = heard.sound.peak_columns(0, frames, max(frames // RUN_FRAMES, 8))
    tip = float(np.max(tops, initial=0.0))
    if tip < 1e-4:
        return {}, ""
    came = measure_source(heard.sound, 0, frames)
    low, high = limits_of(place_of(type(entry.settings), "threshold_db"))
    settings: dict[str, Any] = {"ratio": RATIO, "range_db": RANGE_DB}
    threshold_db = 20.0 * math.log10(tip) - UNDER_TIPS_DB
    for _ in range(TRIES):
        settings["threshold_db"] = round(min(max(threshold_db, low), high), 1)
        made = measure_span(_with(heard, entry, settings), entry.id, 0, frames).result
        louder = None  # what is too short, or too quiet, has no loudness
        if made.integrated_lufs is not None and came.integrated_lufs is not None:
            louder = made.integrated_lufs - came.integrated_lufs
        if louder is None or louder <= MOST_LOUDER_LU:
            break
        threshold_db += HIGHER_DB
    down_db = math.ceil(10.0 * max(made.peak_db - max(came.peak_db, 0.0), 0.0)) / 10.0
    if down_db:
        settings["output_db"] = -down_db
    tips_db = made.peak_db - came.peak_db
    said = f"laid for this take, where it is loudest: tips come up by {tips_db:.1f} dB"
    said += "" if louder is None else f", all of it by {louder:.1f} LU"
    return settings, said + (f"; output comes down by {down_db:.1f} dB, below full scale" if down_db else "")


def _with(trial: Trial, entry: ProcessorEntry, settings: dict[str, Any]) -> Trial:
    made = parse_settings(entry.type, settings_over(entry, settings), entry.type)
    return Trial(trial.sound, [entry.model_copy(update={"settings": made})], trial.keys, trial.beat)
