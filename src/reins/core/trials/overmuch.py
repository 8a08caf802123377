"""When it is too much: one sentence on what a processor does to this take that hardly anybody wants, by what was
measured over all of it, and a cure that is one step.

The bounds are common practice. The most harmful is told, alone.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry
from reins.core.finding.hits import shortest_apart_s
from reins.core.finding.marks import Marks
from reins.core.fitting import laid_deeper
from reins.core.measure.folding import BIN_FRAMES
from reins.core.measure.span import SOUNDS_DB, Span
from reins.core.measure.tap import quietest_tenth_db
from reins.core.processors import PROCESSORS
from reins.core.settings.fields import changes, limits_of, place_of
from reins.core.settings.paths import laid_over
from reins.core.trials.heard import HeardTake
from reins.core.trials.laying import as_it_comes, loudest_parts
from reins.core.trials.offered import counted, in_db
from reins.core.trials.running import Trial
from reins.core.trials.striking import struck

Array = npt.NDArray[np.float64]
HELD_DB, MOST_HELD = 1.0, 0.9
ENOUGH, TRIES, STEP_DB = 0.75, 5, 3  # of what sounds, once it is mended
LOST_DB, AT_HIT_S, LEAST_HITS, UNDER_HIT_DB = -10.0, 0.04, 4, 3.0
OPENINGS_A_HIT, OPENINGS_A_S = 2.0, 4.0
HOLD_MS, HYSTERESIS_DB = 60.0, 6.0
LIFTS_DB = 10.0
LOW_HZ, LOW_SHARE, SLOW_S, WINDOW_S, DISTORTS, LONGEST = 200.0, 0.5, 0.03, 0.05, 0.03, 16
NARROW_MARGIN_DB = 4.0


@dataclass(frozen=True)
class TooMuch:
    """What it does, measured; what one press does about it, in words and as settings by path; lay: by its key anew."""

    said: str
    cure: str
    settings: dict[str, Any] = field(default_factory=dict)
    lay: bool = False


def too_much(trial: Trial, processor_id: str, span: Span, marks: Callable[[], Marks]) -> TooMuch | None:
    """What a processor of a trial overdoes over a span, which is all of the sound; None where there is nothing to say.
    marks: what is found in what comes to the strip.
    """
    place = [entry.id for entry in trial.entries].index(processor_id)
    entry = trial.entries[place]
    came = span.before.peaks if span.before else trial.sound.peak_columns(span.start, span.frames, span.peaks.size)
    if not entry.on or came.max(initial=0.0) < 1e-4:
        return None
    over = _Over(replace(trial, entries=list(trial.entries[: place + 1])), entry, span, came)
    return next((found for found in _all_of_it(over, marks) if found is not None), None)


@dataclass
class _Over:
    """A processor over a take."""

    trial: Trial  # it is the last
    entry: ProcessorEntry
    span: Span
    came: Array  # peaks, by bins of the folding

    def __post_init__(self) -> None:
        self.settings: Any = self.entry.settings
        self.per_s = self.trial.sound.facts.sample_rate / BIN_FRAMES
        sounding = self.came > self.came.max() * 10.0 ** (-SOUNDS_DB / 20.0)
        self.gain = self.span.deepest_db[sounding]  # of each bin that sounds, a millisecond or two

    @property
    def held(self) -> float:
        """The share of what sounds in which it holds."""
        return float(np.mean(self.gain < -HELD_DB))

    def within(self, name: str, value: float) -> float:
        """A value within a setting's limits."""
        low, high = limits_of(place_of(type(self.settings), name))
        return round(float(min(max(value, low), high)), 1)


def _all_of_it(over: _Over, marks: Callable[[], Marks]) -> Iterator[TooMuch | None]:
    kind = PROCESSORS[over.entry.type]
    if "states" in kind.views or getattr(over.settings, "direction", "") == "down":
        yield _strokes(over, marks())
        yield _chatters(over, marks())
    elif kind.made_by_tie or kind.wants_key:
        yield _only_a_fader(over)
    else:
        yield _distorts(over)
        yield _always_holds(over)
    yield _lifts(over)


def _strokes(over: _Over, marks: Marks) -> TooMuch | None:
    """Hits that do not get through."""
    hits = marks.hits
    if len(hits) < LEAST_HITS or not struck(marks):
        return None
    width = max(round(AT_HIT_S * over.per_s), 1)
    gain = over.span.deepest_db
    lost = [hit for hit in hits if gain[int(hit.at_s * over.per_s) :][:width].max(initial=-120.0) < LOST_DB]
    if not lost:
        return None
    threshold_db = over.within("threshold_db", min(hit.peak_db for hit in lost) - UNDER_HIT_DB)
    if threshold_db >= over.settings.threshold_db:  # its key is cut: by how much, only trying tells
        threshold_db = over.within("threshold_db", over.settings.threshold_db - UNDER_HIT_DB)
    said = f"{len(lost)} of {counted(len(hits), 'hit')} {'does' if len(lost) == 1 else 'do'} not get through."
    return TooMuch(said, f"Threshold {in_db(threshold_db)}", {"threshold_db": threshold_db})


def _chatters(over: _Over, marks: Marks) -> TooMuch | None:
    """A gate that opens far more often than there is anything to open for."""
    if over.span.gate is None:
        return None
    openings = int(over.span.gate["openings"] or 0)
    seconds = over.span.frames / over.trial.sound.facts.sample_rate
    by_hits = struck(marks)
    begins = len(marks.hits) if by_hits else len(marks.phrases)
    if openings <= OPENINGS_A_HIT * begins or openings <= OPENINGS_A_S * seconds:
        return None
    apart_s = (shortest_apart_s(marks.hits) if by_hits else None) or 1.0
    hold_ms = over.within("hold_ms", max(min(0.4 * 1000.0 * apart_s, 2.0 * HOLD_MS), HOLD_MS))
    settings = {"hold_ms": hold_ms, "hysteresis_db": max(over.settings.hysteresis_db, HYSTERESIS_DB)}
    what = counted(begins, "hit" if by_hits else "phrase")
    said = f"It opens {openings:,} times, {openings / seconds:.0f} a second, for {what}."
    return TooMuch(said, f"Hold {hold_ms:.0f} ms", settings)


def _only_a_fader(over: _Over) -> TooMuch | None:
    """What yields to a key that hardly ever rests."""
    if over.held <= MOST_HELD:
        return None
    said = f"It is down for {100.0 * over.held:.0f} % of what sounds: this is only a fader."
    if PROCESSORS[over.entry.type].made_by_tie:
        key = over.settings.key.source
        return None if key in ("self", "before") else TooMuch(said, "Lay it by its key", {"key.source": key}, lay=True)
    if over.settings.margin_db > NARROW_MARGIN_DB:
        return TooMuch(said, f"Margin {NARROW_MARGIN_DB:.0f} dB", {"margin_db": NARROW_MARGIN_DB})
    half_db = round(0.5 * over.settings.amount_db, 1)
    return TooMuch(said, f"Amount {in_db(half_db)}", {"amount_db": half_db})


def _always_holds(over: _Over) -> TooMuch | None:
    """What holds nearly all that sounds. Where it hardly varies a fader would do, which is said elsewhere."""
    if over.held <= MOST_HELD or over.span.steady_db() is not None:
        return None
    slope = 1.0 - 1.0 / max(getattr(over.settings, "ratio", 2.5), 1.1)
    by_db = round((-float(np.median(over.gain)) - HELD_DB) / slope + 1.0)
    heard = HeardTake.of(over.trial)
    settings: dict[str, Any] = {}
    for _ in range(TRIES):
        higher = laid_deeper(over.entry.type, over.settings, -float(by_db))
        settings = changes(over.settings, higher)
        sounding = np.abs(heard.came).max(axis=0) > over.came.max() * 10.0 ** (-SOUNDS_DB / 20.0)
        if np.mean(heard.run(higher, roughly=True).moved()[sounding] < -HELD_DB) <= ENOUGH:
            break
        by_db += STEP_DB
    if not settings:
        return None
    said = f"It holds by over {HELD_DB:.0f} dB for {100.0 * over.held:.0f} % of what sounds: it hardly ever lets go."
    how = f"Drive {by_db} dB less" if PROCESSORS[over.entry.type].line_drives else f"Threshold {by_db} dB higher"
    return TooMuch(said, how, settings)


def _distorts(over: _Over) -> TooMuch | None:
    """Low notes whose waves its gain follows."""
    if not hasattr(over.settings, "release_ms") or not hasattr(over.settings, "attack_ms"):
        return None
    take = HeardTake(as_it_comes(over.trial, partial(loudest_parts, most=1)), in_parts=True)
    power = np.abs(np.fft.rfft(take.came.mean(axis=0))) ** 2
    hz = np.fft.rfftfreq(take.came.shape[1], 1.0 / take.rate)
    if power[hz < LOW_HZ].sum() < LOW_SHARE * power.sum():
        return None
    share = _distortion(take, over.settings)
    if share <= DISTORTS:
        return None
    said = f"Its gain moves with the waves of low notes: {100.0 * share:.0f} % distortion, where it is loudest."
    times = 2
    while times <= LONGEST:
        release_ms = over.within("release_ms", over.settings.release_ms * times)
        if _distortion(take, laid_over(over.settings, {"release_ms": release_ms})) <= DISTORTS:
            return TooMuch(said, f"Release {release_ms:.0f} ms", {"release_ms": release_ms})
        times *= 2
    return None


def _distortion(take: HeardTake, settings: Any) -> float:
    """How much of a sound, usually, is what the quick movement of a gain adds to it: a share of its amplitude."""
    gains = take.run(settings, roughly=True).gains
    if "gain_db" not in gains:
        return 0.0
    gain = 10.0 ** (gains["gain_db"] / 20.0)
    wide = round(SLOW_S * take.rate)
    slow = np.convolve(gain, np.ones(wide) / wide, mode="same")
    window = round(WINDOW_S * take.rate)
    whole = gain.size // window * window
    came = take.came.mean(axis=0)[:whole]
    added, kept = (
        (part.reshape(-1, window) ** 2).sum(axis=1) for part in (came * (gain - slow)[:whole], came * slow[:whole])
    )
    sounding = kept > kept.max(initial=0.0) * 10.0 ** (-SOUNDS_DB / 10.0)
    return float(np.median(np.sqrt(added[sounding] / kept[sounding]))) if sounding.any() else 0.0


def _lifts(over: _Over) -> TooMuch | None:
    """Makeup that lifts what is quiet."""
    louder = {name: getattr(over.settings, name, 0.0) for name in ("makeup_db", "output_db")}
    name = max(louder, key=lambda name: louder[name])
    after = over.span.after.peaks if over.span.after else over.span.peaks
    quiet = [quietest_tenth_db(row, over.came) for row in (over.came, after)]
    if louder[name] <= 0.0 or quiet[0] is None or quiet[1] is None:
        return None
    lift_db = quiet[1] - quiet[0]
    if lift_db <= LIFTS_DB:
        return None
    less_db = over.within(name, max(louder[name] - (lift_db - 0.5 * LIFTS_DB), 0.0))
    said = f"It lifts the quietest tenth by {in_db(lift_db)}, room and noise with it."
    return TooMuch(said, f"{'Makeup' if name == 'makeup_db' else 'Output'} {in_db(less_db)}", {name: less_db})
