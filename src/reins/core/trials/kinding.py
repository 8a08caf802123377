"""Another kind of compressor in a compressor's place, on this take: usually and at its deepest as deep, and as loud,
found by running both; and what the other kind cannot do.
"""

from dataclasses import dataclass
from typing import Any

from reins.core.chainfile import ProcessorEntry
from reins.core.kinds import TIMES, as_kind
from reins.core.measure.levels import RUN_FRAMES
from reins.core.processors import PROCESSORS
from reins.core.settings.fields import limits_of
from reins.core.settings.paths import laid_over
from reins.core.trials.laying import as_it_comes
from reins.core.trials.offered import in_db
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span

RUNS = 10
CLOSE_DB, CLOSE_LU = 0.15, 0.1
MISS_DB, MISS_LU = 1.0, 0.5
HELD_DB = 0.3  # less is nothing to be as deep as
LONG_S = 30.0


@dataclass(frozen=True)
class _Did:
    """What a compressor did: its usual and its deepest gain in dB, and how loud it came out."""

    usual_db: float
    deepest_db: float
    lufs: float | None

    def shallower_db(self, than: "_Did") -> float:
        """How much less deep than another, of the usual and the deepest gain as much as of each other."""
        return 0.5 * (self.usual_db - than.usual_db + self.deepest_db - than.deepest_db)


def as_kind_on_take(trial: Trial, to: str) -> tuple[Any, str]:
    """Settings of kind `to` that do on a sound what the last processor of a trial does there, and what was measured, in
    words. SettingsError for what is no kind of compressor.
    """
    entry = trial.entries[-1]
    rate, frames = trial.sound.facts.sample_rate, trial.sound.facts.frames
    long = frames > LONG_S * rate
    heard = as_it_comes(trial) if long or len(trial.entries) > 1 else trial
    before = _did(heard, entry)
    settings = as_kind(entry.type, entry.settings, to)
    if before.deepest_db > -HELD_DB:
        return settings, ""
    kind = PROCESSORS[to]
    name, deeper = ("input_db", 1.0) if kind.line_drives else ("threshold_db", -1.0)
    low, high = limits_of(kind.Settings.model_fields[name])
    after = _did(heard, _entry(entry, to, settings))
    tried = [(abs(after.shallower_db(before)), settings, after)]
    for _ in range(RUNS):
        shallower = after.shallower_db(before)
        if abs(shallower) <= CLOSE_DB:
            break
        value = getattr(settings, name)
        low, high = (value, high) if (shallower > 0.0) == (deeper > 0.0) else (low, value)
        step = value + deeper * shallower
        value = round(step if low < step < high else 0.5 * (low + high), 2)
        changes = {name: value}
        if name == "input_db":
            changes["output_db"] = _within(to, "output_db", settings.output_db - (value - settings.input_db))
        settings = laid_over(settings, changes)
        after = _did(heard, _entry(entry, to, settings))
        tried.append((abs(after.shallower_db(before)), settings, after))
    _, settings, after = min(tried, key=lambda one: one[0])
    for _ in range(2):
        if before.lufs is None or after.lufs is None or abs(before.lufs - after.lufs) <= CLOSE_LU:
            break
        output_db = _within(to, "output_db", round(settings.output_db + before.lufs - after.lufs, 2))
        settings = laid_over(settings, {"output_db": output_db})
        after = _did(heard, _entry(entry, to, settings))
    where = ", where it is loudest" if long else ""
    said = f"usually {in_db(after.usual_db)} and at most {in_db(after.deepest_db)}{where}"
    said += f" (before {in_db(before.usual_db)} and {in_db(before.deepest_db)})"
    return settings, said + _cannot(entry, to, before, after)


def _cannot(entry: ProcessorEntry, to: str, before: _Did, after: _Did) -> str:
    """What the other kind cannot do, in words."""
    missed = []
    usual, deepest = after.usual_db - before.usual_db, after.deepest_db - before.deepest_db
    if max(abs(usual), abs(deepest)) > MISS_DB:
        missed.append("hold as deep, usually and at its deepest, at once")
    if before.lufs is not None and after.lufs is not None and abs(after.lufs - before.lufs) > MISS_LU:
        missed.append("come out as loud")
    for which, (name, of) in TIMES[entry.type].items():
        if which not in TIMES[to]:
            missed.append(f"have an {which} of its own" if which == "attack" else f"have a {which} of its own")
            continue
        path, share = TIMES[to][which]
        wanted = getattr(entry.settings, name) / of * share
        if abs(_within(to, path, wanted) - wanted) > 0.01 * wanted:
            missed.append(f"have that {which}")
    return f"; it cannot {', nor '.join(missed)}" if missed else ""


def _did(trial: Trial, entry: ProcessorEntry) -> _Did:
    frames = trial.sound.facts.frames
    span = measure_span(Trial(trial.sound, [entry], trial.keys, trial.beat), entry.id, 0, max(frames, RUN_FRAMES))
    told = span.statistics()
    return _Did(told["usual_db"], told["deepest_db"], span.result.integrated_lufs)


def _entry(entry: ProcessorEntry, to: str, settings: Any) -> ProcessorEntry:
    return entry.model_copy(update={"type": to, "on": True, "settings": settings})


def _within(kind: str, name: str, value: float) -> float:
    low, high = limits_of(PROCESSORS[kind].Settings.model_fields[name])
    return float(min(max(value, low), high))
