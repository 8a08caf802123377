"""Whether a starting point keeps its promise on a take: what is promised, measured there; by how much it is missed;
both in words.
"""

from statistics import median
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.fitting import levels
from reins.core.measure.folding import HELD_DB
from reins.core.measure.span import usual_db
from reins.core.settings.fields import limits_of, place_of
from reins.core.settings.paths import value_at
from reins.core.starting_point import Promise
from reins.core.trials.heard import Done, HeardTake
from reins.core.trials.laying import gain_of
from reins.core.trials.offered import counted, in_db
from reins.core.trials.tones import tones_lowered_db

Array = npt.NDArray[np.float64]
AT_HIT_S, FIRST_S, PASSES_DB = 0.04, 0.005, 3.0
HELPS = {
    "usual_db": "what it listens for hardly stands out here: set its threshold by hand",
    "deepest_db": "the take varies that much: even it out before this",
    "held_pct": "what it acts on hardly ever rests here: less range, or another band, does less harm",
    "first_db": "a longer attack leaves more of it",
    "sounds_db": "what sounds and what does not are too close: less range is kinder",
    "rests_db": "what lies between is as loud as what sounds: record it closer, or take a narrower band",
    "hits_pct": "soft hits lie under what bleeds in: less range keeps them",
    "limit": "the take is too quiet for it: raise its trim first",
    "tones_db": "no steady tone stands out: a narrow cut by hand finds what you hear",
}


Figures = dict[str, Any]


def figures_of(take: HeardTake, promise: Promise, settings: Any, done: Done) -> Figures:
    """What is promised, as it was measured; nothing where there is nothing to measure it by."""
    found: Figures = {}
    if promise.usual_db or promise.deepest_db is not None or promise.held_pct is not None:
        usual = {name: usual_db(row) for name, row in done.gains.items()}
        moved = done.moved()
        found["usual_db"] = usual
        found["nothing"] = [name for name in usual if _deepest(settings, name)]
        found["deepest"] = {name: float(np.abs(row).max(initial=0.0)) for name, row in done.gains.items()}
        found["deepest_db"] = float(moved[np.abs(moved).argmax()])
        found["held_pct"] = 100.0 * float(np.mean(np.abs(moved) >= HELD_DB))
    at = [hit.at_s for hit in take.marks.hits] if promise.first_db is not None or promise.hits_pct is not None else []
    if promise.first_db is not None and at:
        found["first_db"] = median([take.lost_db(done.made, [(a, a + FIRST_S)]) for a in at])
    if promise.sounds_db is not None and take.marks.phrases:
        found["sounds_db"] = take.lost_db(done.made, take.marks.phrases)
    if promise.hits_pct is not None and at:
        passed = [take.lost_db(done.made, [(a, a + AT_HIT_S)]) < PASSES_DB for a in at]
        found["passed"], found["hits"] = sum(passed), len(passed)
        found["hits_pct"] = 100.0 * found["passed"] / len(passed)
    if promise.rests_db is not None and promise.hits_pct is not None and take.between_hits():
        found["rests_db"] = median([take.lost_db(done.made, [span]) for span in take.between_hits()])
    elif promise.rests_db is not None and promise.hits_pct is None and take.pauses():
        found["rests_db"] = take.lost_db(done.made, take.pauses())
    if promise.tones_db is not None:
        found |= tones_lowered_db(take.came, done.made, take.rate)
    return found


def _deepest(settings: Any, gain: str) -> bool:
    """Whether a band's threshold lies as low as it can: nothing there is loud enough for it."""
    paths = [path for path in levels(settings) if path.startswith("bands.") and gain_of(path) == gain]
    return any(value_at(settings, path) <= limits_of(place_of(type(settings), path))[0] for path in paths)


def misses(promise: Promise, figures: Figures) -> dict[str, float]:
    """By what is promised how far it is missed by: more than 0 where too much is done, less where too little. What
    could not be measured is not missed.
    """
    missed: dict[str, float] = {}
    usual = figures.get("usual_db", {})
    for (name, db), (low, high) in zip(usual.items(), ranges_of(promise, len(usual)), strict=True):
        off = 0.0 if name in figures["nothing"] else max(abs(db) - high, 0.0) + min(abs(db) - low, 0.0)
        missed["usual_db"] = max(missed.get("usual_db", 0.0), off, key=abs)
    for name, scale in (("deepest_db", 1.0), ("held_pct", 0.2), ("first_db", 1.0), ("sounds_db", 2.0)):
        most, got = getattr(promise, name), figures.get(name)
        if most is not None and got is not None:
            missed[name] = scale * max(abs(got) - most if name != "sounds_db" else got - most, 0.0)
    if promise.hits_pct is not None and "hits_pct" in figures:
        missed["hits_pct"] = 0.5 * max(promise.hits_pct - figures["hits_pct"], 0.0)
    for name in ("rests_db", "tones_db"):
        least, got = getattr(promise, name), figures.get(name)
        if least is not None and got is not None:
            missed[name] = min(got - least, 0.0)
    return {name: off for name, off in missed.items() if abs(off) > 0.05}


def ranges_of(promise: Promise, count: int) -> list[tuple[float, float]]:
    """What is promised of each of so many gains, as usual."""
    ranges = promise.usual_db
    if not ranges:
        return [(0.0, 1e9)] * count
    return [ranges[min(k, len(ranges) - 1)] for k in range(count)]


def what_helps(promise: Promise, figures: Figures, missed: dict[str, float], *, at_limit: bool) -> str:
    """What is missed most; where too little is done, what stands in the way of more."""
    worst = max(missed, key=lambda name: abs(missed[name]))
    if missed[worst] < 0.0:
        if at_limit:
            return "limit"
        for name in ("deepest_db", "held_pct", "first_db", "sounds_db"):
            most = getattr(promise, name)
            if most is not None and abs(figures.get(name, 0.0)) > 0.9 * most:
                return name
    return worst


def in_words(figures: Figures) -> str:
    """What was measured."""
    words = []
    usual = figures.get("usual_db")
    if usual:
        values = ["nothing" if name in figures["nothing"] and not db else in_db(db) for name, db in usual.items()]
        many = "bands usually " + ", ".join(values[:-1]) + " and " + values[-1] if len(values) > 1 else ""
        words.append(many or f"usually {values[0]}")
        words.append(f"at most {in_db(figures['deepest_db'])}")
        words.append(f"moving {figures['held_pct']:.0f} % of the time")
    if "first_db" in figures:
        words.append(f"the first {1000 * FIRST_S:.0f} ms of a hit lose {in_db(figures['first_db'])}")
    if "hits" in figures:
        words.append(f"{figures['passed']} of {counted(figures['hits'], 'hit')} pass")
    if "sounds_db" in figures:
        words.append(f"what sounds loses {in_db(figures['sounds_db'])}")
    if "rests_db" in figures:
        words.append(
            f"what lies between is {'usually ' if 'hits' in figures else ''}{in_db(figures['rests_db'])} lower"
        )
    if "tones_db" in figures:
        hz = ", ".join(f"{tone_hz:.0f}" for tone_hz in figures["tones_hz"])
        words.append(f"{counted(len(figures['tones_hz']), 'steady tone')} ({hz} Hz) {in_db(figures['tones_db'])} lower")
    if "others_db" in figures:
        words.append(f"what has none loses {in_db(figures['others_db'])} at most" if "tones_db" in figures else
                     "no steady tone found, nothing is held")  # fmt: skip
    return ", ".join(words)


def promised_in_words(promise: Promise) -> str:
    """What is promised, in words."""
    words = []
    if promise.usual_db:
        low, high = min(r[0] for r in promise.usual_db), max(r[1] for r in promise.usual_db)
        words.append(f"{low:g} to {high:g} dB usually")
    for name, how in (("deepest_db", "{:g} dB at most"), ("held_pct", "{:g} % of the time at most"),
                      ("first_db", "{:g} dB of the first of a hit"), ("hits_pct", "{:g} % of the hits"),
                      ("sounds_db", "{:g} dB of what sounds at most"), ("rests_db", "{:g} dB between them"),
                      ("tones_db", "{:g} dB of steady tones")):  # fmt: skip
        if getattr(promise, name) is not None:
            words.append(how.format(getattr(promise, name)))
    return ", ".join(words)
