"""A starting point laid on a take so that it does there what it promises: its levels are searched by running it on some
of the take, and what is said of it is what was measured then.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from statistics import median
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.finding.marks import Marks
from reins.core.finding.phrases import active_level
from reins.core.fitting import ANCHORS, laid_deeper, laid_on_take, levels
from reins.core.measure.levels import measure_source
from reins.core.processors import PROCESSORS
from reins.core.settings.fields import changes, limits_of, place_of
from reins.core.settings.paths import laid_over, value_at
from reins.core.starting_point import Promise, StartingPoint
from reins.core.trials.aims.base import Work
from reins.core.trials.aims.open import OpenOnTheHits
from reins.core.trials.heard import Done, HeardTake, at_own_rate
from reins.core.trials.kept_promise import (
    HELPS,
    Figures,
    figures_of,
    in_words,
    misses,
    promised_in_words,
    ranges_of,
    what_helps,
)
from reins.core.trials.laying import gain_of
from reins.core.trials.offered import Laid
from reins.core.trials.running import Trial
from reins.core.trials.tones import loudest_note_hz, notches, steady_tones, under_pauses

Array = npt.NDArray[np.float64]
MEASURED_S, FINELY_S = 40.0, 12.0  # up to that long it is measured over all of it; so at the rate it will run at
RUNS, MOST_STEP_DB, FURTHEST_DB = 8, 12.0, 60.0
PER_DB, LEAST_PER_DB = 0.6, 0.2  # of what is done by each dB: as a guess, and at least
SETTLED = 0.3  # of half of what is promised, off its middle
HEADROOM_DB = 0.1
FORGIVEN_DB = 0.15  # of what is missed
HOLDS, CLOSES = 0.5, 0.7  # of the rest between hits, which is the end of the way to the next

LEVELS: dict[str, Callable[[Marks], float | None]] = {
    "hits": lambda marks: _median([hit.peak_db for hit in marks.hits]),
    "active": lambda marks: active_level(marks.sound).level_db,
    "loudness": lambda marks: measure_source(marks.sound, 0, marks.sound.facts.frames).integrated_lufs,
}
LAYS = ("pauses", "hits", "note", "tones")  # beside the levels


def laid_as_promised(trial: Trial, point: StartingPoint) -> Laid | None:
    """The last processor of a trial, which stands as a starting point has it, laid on what comes to it: settings by
    path that differ, what was measured with them, and that in words. None for silence, and for what its key lays.
    """
    entry = trial.entries[-1]
    at_last = HeardTake.of(trial, MEASURED_S)
    pauses = point.promise is not None and point.promise.hits_pct is None and point.promise.rests_db is not None
    take = at_last if pauses or at_last.in_parts else HeardTake.of(trial)
    if take.silent or PROCESSORS[entry.type].made_by_tie:
        return None
    settings, promise = entry.settings, point.promise
    if point.source in ANCHORS:
        what, written_db = ANCHORS[point.source]
        level_db = LEVELS[what](take.marks)
        if level_db is not None:
            settings = laid_on_take(entry.type, settings, round(level_db - written_db, 1))
    if promise is not None:
        settings = _by_what_sounds(take, settings, promise)
        settings = _search(take, settings, promise)
    take = at_last
    done = take.run(settings, roughly=take.came.shape[1] > FINELY_S * take.rate)
    figures = figures_of(take, promise, settings, done) if promise is not None else {}
    missed = misses(promise, figures) if promise is not None else {}
    missed = {name: off for name, off in missed.items() if abs(off) > FORGIVEN_DB}
    said = in_words(figures)
    if promise is not None and missed:
        helps = HELPS[what_helps(promise, figures, missed, at_limit=_at_limit(take, settings, promise, done))]
        said = f"not as it promises ({promised_in_words(promise)}): {said}; {helps}"
    if said and take.in_parts:
        said = f"heard in parts of it: {said}"
    settings, of_peaks = _below_full_scale(take, settings, done)
    said = "; ".join(part for part in (said, of_peaks) if part)
    return Laid(changes(entry.settings, settings), figures, said, not missed)


@dataclass
class _Knob:
    """What is moved to do more or less: levels, all together or of one band."""

    move: Callable[[Any, float], Any]
    gain: str | None  # whose doing it is; None: all of it
    low: float = -FURTHEST_DB
    high: float = FURTHEST_DB
    at: float = 0.0
    was: tuple[float, float] | None = None  # where it stood before, and by how much too much was done there

    def next(self, miss: float) -> bool:
        """Move towards what is promised, of which so much too much is done, by the secant, kept between what was too
        little and too much; whether there is anywhere to go.
        """
        if miss > 0.0:
            self.high = self.at
        else:
            self.low = self.at
        per_db = PER_DB
        if self.was is not None and self.was[0] != self.at:
            per_db = max((miss - self.was[1]) / (self.at - self.was[0]), LEAST_PER_DB)
        self.was = self.at, miss
        step = self.at - min(max(miss / per_db, -MOST_STEP_DB), MOST_STEP_DB)
        inside = self.low + 0.05 < step < self.high - 0.05
        self.at = round(step if inside else 0.5 * (self.low + self.high), 1)
        return self.high - self.low > 0.15


def _knobs(kind: str, settings: Any, promise: Promise, gains: dict[str, Array]) -> list[_Knob]:
    if promise.lays == "tones":
        return []
    if promise.lays not in ("levels", *LAYS):
        return [_Knob(_mover(promise.lays), None)]
    banded = [path for path in levels(settings) if path.startswith("bands.") and gain_of(path) in gains]
    if promise.usual_db and banded:
        return [_Knob(_mover(path), gain_of(path)) for path in banded]
    moved = laid_deeper(kind, settings, 1.0)
    return [] if moved is settings else [_Knob(lambda of, by: _deeper(kind, of, by), None)]


def _deeper(kind: str, settings: Any, by_db: float) -> Any:
    """Settings that reach so much further into the sound; what a threshold cannot lie lower, or a drive go higher, its
    detector hears louder.
    """
    made = laid_deeper(kind, settings, by_db)
    name = "input_db" if PROCESSORS[kind].line_drives else "threshold_db"
    if not (hasattr(settings, "key") and hasattr(settings, name)) or settings.acts_below:
        return made
    rest_db = by_db - abs(getattr(made, name) - getattr(settings, name))
    low, high = limits_of(place_of(type(settings), "key.gain_db"))
    if by_db <= 0.0 or rest_db < 0.1:
        return made
    return laid_over(made, {"key.gain_db": round(min(max(settings.key.gain_db + rest_db, low), high), 1)})


def _mover(path: str) -> Callable[[Any, float], Any]:
    def move(settings: Any, by_db: float) -> Any:
        low, high = limits_of(place_of(type(settings), path))
        owner = value_at(settings, path.rpartition(".")[0]) if "." in path else settings
        up = by_db if getattr(owner, "acts_below", False) else -by_db
        return laid_over(settings, {path: round(min(max(value_at(settings, path) + up, low), high), 1)})

    return move


def _search(take: HeardTake, settings: Any, promise: Promise) -> Any:
    """The settings that keep the promise best, nearest to the middle of it."""
    done = take.run(settings, roughly=True)
    knobs = _knobs(take.trial.entries[-1].type, settings, promise, done.gains)
    best, made, now = (math.inf, math.inf), settings, settings
    for _ in range(RUNS if knobs else 0):
        figures = figures_of(take, promise, now, done)
        missed = misses(promise, figures)
        offs = [_off(promise, figures, missed, None if len(knobs) == 1 else knob.gain) for knob in knobs]
        worth = sum(abs(off) for off in missed.values()), max(abs(off) for off in offs)
        if worth <= best:
            best, made = worth, now
        near = _near_enough(promise)
        if not missed and worth[1] <= near:
            break
        before = now
        now, going = settings, False
        for knob, off in zip(knobs, offs, strict=True):
            going |= (abs(off) > near or len(knobs) == 1) and knob.next(off)
            now = knob.move(now, knob.at)
        if not going or now == before:
            break
        done = take.run(now, roughly=True)
    return made


def _near_enough(promise: Promise) -> float:
    return max((SETTLED * (high - low) for low, high in promise.usual_db), default=0.0)


def _off(promise: Promise, figures: Figures, missed: dict[str, float], gain: str | None) -> float:
    """How much too much is done, in dB: by one of its gains, or by all of it."""
    over = max((off for name, off in missed.items() if name != "usual_db"), default=0.0)
    if gain is not None:
        over = figures["deepest"][gain] - promise.deepest_db if promise.deepest_db is not None else 0.0
    if over > 0.05:
        return over + _near_enough(promise)
    usual = figures.get("usual_db", {})
    if promise.usual_db and usual:
        ranges = dict(zip(usual, ranges_of(promise, len(usual)), strict=True))
        heard = [name for name in usual if gain in (None, name) and name not in figures["nothing"]]
        return float(np.mean([abs(usual[name]) - 0.5 * sum(ranges[name]) for name in heard])) if heard else 0.0
    return min(missed.values(), default=0.0)


def _by_what_sounds(take: HeardTake, settings: Any, promise: Promise) -> Any:
    """What lays it beside its levels, as the take wants it: a threshold over its steady tones, or over what sounds in
    its pauses; the key of a gate by its hits; a band on its loudest note.
    """
    if promise.lays == "tones":
        return notches(settings, steady_tones(take.came, take.rate), take.rate)
    if promise.lays == "pauses":
        return under_pauses(settings, take.came, take.pauses(), take.rate)
    if promise.lays == "note":
        return laid_over(settings, {"bands.0.freq_hz": round(loudest_note_hz(take.came, take.rate), 1)})
    if promise.lays == "hits":
        return _by_hits(take, settings)
    return settings


def _by_hits(take: HeardTake, settings: Any) -> Any:
    """A gate as the aim for hits would have it; how far it closes stays."""
    entry = take.trial.entries[-1].model_copy(update={"settings": at_own_rate(settings)})
    if len(take.marks.hits) < 2:
        return settings
    aimed = OpenOnTheHits().propose(Work(replace(take.trial, entries=[entry]), take.marks, 0.0)).settings
    apart = [end - begin for begin, end in take.between_hits()]
    if apart:  # so that it is shut before the next
        rests_ms = 1000.0 * float(np.quantile(apart, 0.2))
        aimed |= {"hold_ms": round(min(aimed["hold_ms"], HOLDS * rests_ms)),
                  "release_ms": round(min(aimed["release_ms"], CLOSES * rests_ms))}  # fmt: skip
    return laid_over(settings, {path: value for path, value in aimed.items() if path != "range_db"})


def _below_full_scale(take: HeardTake, settings: Any, done: Done) -> tuple[Any, str]:
    """Its output comes down by what would pass full scale where its source did not; that in words."""
    came, made = (float(np.abs(sound).max(initial=0.0)) for sound in (take.came, done.made))
    over_db = 20.0 * math.log10(max(made, 1e-9) / max(came, 1.0))
    if over_db <= 0.0:
        return settings, ""
    if not hasattr(settings, "output_db"):
        return settings, f"it passes full scale by {over_db:.1f} dB: take it down behind it"
    low, _ = limits_of(place_of(type(settings), "output_db"))
    down_db = math.ceil(10.0 * over_db) / 10.0 + HEADROOM_DB
    lower = laid_over(settings, {"output_db": round(max(settings.output_db - down_db, low), 1)})
    return lower, f"output comes down by {down_db:.1f} dB, below full scale"


def _at_limit(take: HeardTake, settings: Any, promise: Promise, done: Done) -> bool:
    """Whether there is no more of what lays it."""
    knobs = _knobs(take.trial.entries[-1].type, settings, promise, done.gains)
    return bool(knobs) and all(knob.move(settings, 1.0) == settings for knob in knobs)


def _median(values: list[float]) -> float | None:
    return median(values) if values else None
