"""Bands that begin to move: each threshold laid by what the band's detector has heard of the take, then measured."""

import re
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry, parse_settings, settings_over
from reins.core.measure.span import SOUNDS_DB
from reins.core.processors import PROCESSORS
from reins.core.settings.fields import limits_of, place_of
from reins.core.trials.heard import parts_to_hear
from reins.core.trials.laying import as_it_comes
from reins.core.trials.offered import in_db
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span

Array = npt.NDArray[np.float64]
MOVING = ("compress", "expand")
HEARD_S = 20.0
MOST_USUAL_DB = 4.0
LEAST_USUAL_DB, LOWER_DB, TRIES = 0.8, 2.0, 4
STEADY = 0.9  # of what it usually does, on the mean: it hardly rests
SILENT_DB = -90.0


def begin_to_move(before: Any, settings: dict[str, Any]) -> list[int]:
    """The places of bands that were still, of settings or of none, and that a change by path has move without saying
    from which level on.
    """
    still = [getattr(band, "motion", "") not in MOVING for band in getattr(before, "bands", ())]
    if isinstance(settings.get("bands"), list):
        given = dict(enumerate(settings["bands"]))
    else:
        paths = (re.fullmatch(r"bands\.(\d+)\.motion", path) for path in settings)
        places = [int(path[1]) for path in paths if path]
        given = {k: {"motion": settings[f"bands.{k}.motion"], **_level_of(k, settings)} for k in places}
    return [
        place for place, band in given.items()
        if isinstance(band, dict) and band.get("motion") in MOVING and "threshold_db" not in band
        and (place >= len(still) or still[place])
    ]  # fmt: skip


def _level_of(place: int, settings: dict[str, Any]) -> dict[str, Any]:
    path = f"bands.{place}.threshold_db"
    return {"threshold_db": settings[path]} if path in settings else {}


def with_levels(settings: dict[str, Any], laid: dict[str, Any]) -> dict[str, Any]:
    """A change by path with these thresholds of bands."""
    if not isinstance(settings.get("bands"), list):
        return settings | laid
    levels = {int(path.split(".")[1]): {"threshold_db": level} for path, level in laid.items()}
    return settings | {"bands": [band | levels.get(place, {}) for place, band in enumerate(settings["bands"])]}


def bands_laid(trial: Trial, bands: list[int]) -> tuple[dict[str, Any], str]:
    """Thresholds by path for bands of the last processor of a trial, so that each moves with the louder part of what
    its region has; and what they do with that, in words. Nothing for what is silent there.
    """
    heard = as_it_comes(trial, lambda sound: parts_to_hear(sound, HEARD_S))
    entry, frames = heard.entries[-1], heard.sound.facts.frames
    kind = PROCESSORS[entry.type]
    came = measure_span(heard, entry.id, 0, frames)
    settings: dict[str, Any] = {}
    for place in bands:
        level_db = 20.0 * np.log10(np.maximum(came.loudest.get(_gain(place), np.zeros(1)), 1e-6))
        sounds = level_db[level_db > max(float(level_db.max()) - SOUNDS_DB, SILENT_DB)]
        if sounds.size:
            path = f"bands.{place}.threshold_db"
            low, high = limits_of(place_of(kind.Settings, path))
            settings[path] = round(min(max(_from_where(sounds, vars(entry.settings)["bands"][place]), low), high), 1)
    if not settings:
        return {}, ""
    for left in reversed(range(TRIES)):
        did = measure_span(_with(heard, entry, settings), entry.id, 0, frames).bands
        moved = {place: did[_gain(place)].statistics(frames) for place in bands if _gain(place) in did}
        idle = [place for place, one in moved.items() if abs(one["usual_db"]) < LEAST_USUAL_DB]
        if not idle or not left:  # what is said was measured with what is laid
            break
        for place in idle:
            settings |= _lower(kind.Settings, settings, place)
    said = ", ".join(_did(one) for one in moved.values())
    where = "" if frames == trial.sound.facts.frames else ", heard in parts of it"
    return settings, f"laid by what is there{where}: {said}"


def _from_where(sounds_db: Array, band: Any) -> float:
    """From which level of what sounds a band moves: a third of its reach with the louder ones, yet at rest with the
    quietest quarter, and moving with half of all.
    """
    quarter, half, loud = (float(np.quantile(sounds_db, share)) for share in (0.25, 0.5, 0.75))
    slope = band.ratio - 1.0 if band.motion == "expand" else 1.0 - 1.0 / band.ratio
    over_db = min(band.range_db / 3.0, MOST_USUAL_DB) / max(slope, 0.05)
    return max(quarter, min(half, loud - over_db))


def _lower(kind: Any, settings: dict[str, Any], place: int) -> dict[str, float]:
    """A threshold some lower, where there is one: what hardly changes its level moves hardly with half of it."""
    path = f"bands.{place}.threshold_db"
    return (
        {path: max(round(settings[path] - LOWER_DB, 1), limits_of(place_of(kind, path))[0])} if path in settings else {}
    )


def _did(told: dict[str, float]) -> str:
    """What a band did, in words."""
    said = f"usually {in_db(told['usual_db'])}, at most {in_db(told['deepest_db'])}"
    still = abs(told["mean_db"]) > STEADY * abs(told["usual_db"]) > 0.0
    return f"{said}, nearly all the time, since its level hardly changes there" if still else said


def _gain(place: int) -> str:
    return f"band{place + 1}.gain_db"


def _with(trial: Trial, entry: ProcessorEntry, settings: dict[str, Any]) -> Trial:
    made = parse_settings(entry.type, settings_over(entry, settings), entry.type)
    return Trial(trial.sound, [entry.model_copy(update={"settings": made})], trial.keys, trial.beat)
