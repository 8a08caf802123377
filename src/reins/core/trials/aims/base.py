"""What an aim is: something a person wants of a take, found by trying the real processor on all of it.

An aim is described once, in its file: what it asks for, in which limits, the processors it serves, how what it gets is
measured. Screen, command line and documents read it there.
"""

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Literal

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry, parse_settings, settings_over
from reins.core.dsp.filters import butterworth_cut, run_sections
from reins.core.finding.excerpt import WINDOW_S, Excerpt, excerpted, parts_of
from reins.core.finding.marks import Marks
from reins.core.processors import PROCESSORS
from reins.core.settings.fields import limits_of, place_of
from reins.core.trials.running import Trial
from reins.errors import ConflictError

Array = npt.NDArray[np.float64]
HOPS = 64  # of the frames in which a take is found in, worked on at a time
CLOSE_DB = 0.1
MOST_RUNS = 12


@dataclass(frozen=True)
class Asks:
    """The one number an aim asks for."""

    name: str
    label: str
    default: float
    low: float
    high: float
    help: str
    unit: str = "dB"


@dataclass(frozen=True)
class Ran:
    """What a processor did, in frames of ten milliseconds: its gains by name, the lowest and the highest in each, and
    the power of what came out, and its largest sample.
    """

    deepest: dict[str, Array]
    highest: dict[str, Array]
    power: Array
    peak: Array

    @property
    def lowest_db(self) -> Array:
        """The lowest of its first gain in each frame."""
        return next(iter(self.deepest.values()))

    @property
    def highest_db(self) -> Array:
        """The highest of its first gain in each frame."""
        return next(iter(self.highest.values()))


@dataclass
class Work:
    """A take, the processor an aim is for with what stands before it, what is found in the take, how often it ran."""

    trial: Trial  # its last entry is the processor
    marks: Marks
    asked: float
    key: Marks | None = None  # what is found in the key that it follows
    check: Callable[[], None] = lambda: None
    near: dict[str, Any] = field(default_factory=dict)  # settings that will be about right
    runs: int = 0
    known: dict[Any, Ran] = field(default_factory=dict)

    @property
    def entry(self) -> ProcessorEntry:
        """The processor as it stands."""
        return self.trial.entries[-1]

    def with_settings(self, changes: dict[str, Any]) -> ProcessorEntry:
        """The processor with settings changed by path; within its limits, or SettingsError."""
        entry = self.entry
        return entry.model_copy(
            update={"on": True, "settings": parse_settings(entry.type, settings_over(entry, changes), entry.type)}
        )

    def within(self, path: str, value: float) -> float:
        """A value kept within the limits of a setting."""
        low, high = limits_of(place_of(type(self.entry.settings), path))
        return float(min(max(value, low), high))

    def run(self, changes: dict[str, Any], band_hz: tuple[float, float] | None = None) -> Ran:
        """What the processor does with settings changed; band_hz: the power that comes out within a band only."""
        place_ = repr((sorted(changes.items()), band_hz))
        if place_ not in self.known:
            self.runs += 1
            entries = [*self.trial.entries[:-1], self.with_settings(changes)]
            self.known[place_] = ran(replace(self.trial, entries=entries), self.marks, band_hz, self.check)
        return self.known[place_]

    def excerpt(self, shows: str, window_s: float) -> "Work":
        """The same on some of the take, so long about each of some marks of a kind; itself for one that is not long."""
        parts = parts_of(self.marks, shows, window_s)
        if parts == [(0, self.trial.sound.facts.frames)]:
            return self
        marks = excerpted(self.marks, parts)
        keys = {name: Excerpt(sound, parts) for name, sound in self.trial.keys.items()}
        key = None if self.key is None else excerpted(self.key, parts)
        return Work(replace(self.trial, sound=marks.sound, keys=keys), marks, self.asked, key, self.check)

    def source(self, band_hz: tuple[float, float] | None = None) -> Ran:
        """What comes to the processor."""
        place = repr(("source", band_hz))
        if place not in self.known:
            trial = replace(self.trial, entries=self.trial.entries[:-1])
            self.known[place] = ran(trial, self.marks, band_hz, self.check)
        return self.known[place]

    def source_power(self, band_hz: tuple[float, float] | None = None) -> Array:
        """The power of what comes to the processor."""
        return self.source(band_hz).power

    def search(
        self, path: str, start: float, got: Callable[[dict[str, Any]], float], *, more: float, settings: dict[str, Any],
        limits: tuple[float, float] | None = None,
    ) -> tuple[dict[str, Any], float]:  # fmt: skip
        """The settings at which what is got is nearest to what is asked for, moving one of them: by the secant, kept
        between what was too little and too much. `more`: +1 where a higher value gets more, -1 where a lower does.
        limits: where others than the setting's own hold.
        """
        low, high = limits or (self.within(path, -1e9), self.within(path, 1e9))
        value, tried = round(min(max(self.near.get(path, start), low), high), 2), list[tuple[float, float]]()
        for _ in range(MOST_RUNS):
            reached = got(settings | {path: value})
            tried.append((value, reached))
            miss = self.asked - reached
            if abs(miss) < CLOSE_DB:
                break
            low, high = (value, high) if (miss > 0.0) == (more > 0.0) else (low, value)
            known = [(v, r) for v, r in tried if abs(r) > 1e-3]
            slope = more * 0.7
            if len(known) > 1 and known[-1][0] != known[-2][0]:
                measured = (known[-1][1] - known[-2][1]) / (known[-1][0] - known[-2][0])
                slope = measured if measured * more > 0.05 else slope
            step = value + miss / slope
            inside = low < step < high
            value = round(step if inside else 0.5 * (low + high), 2)
            if value in (v for v, _ in tried):
                break
        best = min(tried, key=lambda one: abs(self.asked - one[1]))
        return settings | {path: best[0]}, best[1]


@dataclass(frozen=True)
class Way:
    """One of several ways where not all can be had: what it is called, settings by path, what was measured."""

    name: str
    label: str
    settings: dict[str, Any]
    reason: str
    figures: dict[str, Any]


@dataclass(frozen=True)
class Proposal:
    """What an aim proposes: settings by path, or a line for the fader; why, in one sentence with figures; whether what
    was asked for is reached; ways: where not all can be had, what else there is, the proposal itself first.
    """

    settings: dict[str, Any]
    reason: str
    figures: dict[str, Any]
    reached: bool = True
    line: list[tuple[float, float, float]] | None = None
    ways: tuple[Way, ...] = ()


class Aim(ABC):
    """Something to want of a take."""

    name: ClassVar[str]
    label: ClassVar[str]
    about: ClassVar[str]
    types: tuple[str, ...]  # the first is the one a new chain gets
    asks: ClassVar[Asks | None] = None
    base: ClassVar[dict[str, Any]] = {}  # of a processor that is new
    shows: ClassVar[str] = "hits"  # what it finds: hits, phrases or sibilants
    wants_key: ClassVar[bool] = False
    window_s: ClassVar[float] = WINDOW_S  # of the excerpts of a long take

    def check(self, work: Work) -> None:
        """Raise ConflictError with what was found and what to do, where this cannot be wanted here."""
        if work.entry.type not in self.types:
            fits = ", ".join(PROCESSORS[kind].label for kind in self.types)
            raise ConflictError(f"“{self.label}” is for {fits}; this is a {PROCESSORS[work.entry.type].label}.")
        if work.marks.frames.level_db().max() < -90.0:
            raise ConflictError("The take is silent: there is nothing to aim at. Choose another take.")
        if self.wants_key and work.key is None:
            raise ConflictError(f"“{self.label}” follows another track: choose its key first.")
        if self.asks is not None and not self.asks.low <= work.asked <= self.asks.high:
            asks = self.asks
            raise ConflictError(f"{asks.label} is {work.asked:g}; allowed: {asks.low:g} to {asks.high:g} {asks.unit}.")

    @abstractmethod
    def propose(self, work: Work) -> Proposal:
        """What to set; ConflictError where nothing fitting is found in the take."""


def ran(trial: Trial, marks: Marks, band_hz: tuple[float, float] | None, check: Callable[[], None]) -> Ran:
    """A chain run over the whole take, folded."""
    hop, rate = marks.frames.hop, trial.sound.facts.sample_rate
    chain = trial.chain()
    sections, state = None, None
    if band_hz is not None:
        edges: tuple[tuple[Literal["low_cut", "high_cut"], float], ...] = (
            ("low_cut", band_hz[0]),
            ("high_cut", min(band_hz[1], 0.45 * rate)),
        )
        cuts = [butterworth_cut(kind, cutoff_hz=hz, order=4, sample_rate=rate) for kind, hz in edges]
        sections = np.concatenate(cuts)
    rest: list[Array] = []  # of every row, what has not filled a frame yet
    power: list[Array] = []
    peak: list[Array] = []
    rows: dict[str, list[tuple[Array, Array]]] = {}
    for block, told in trial.run(0, trial.sound.facts.frames, block_frames=HOPS * hop, chain=chain):
        check()
        if sections is not None:
            state = np.zeros((len(sections), block.shape[0], 2)) if state is None else state
            block = np.ascontiguousarray(block).copy()
            run_sections(sections, state, block)
        names = [name for where, name in _told(chain) if where == len(trial.entries) - 1]
        own = told[len(told) - len(names) :]  # the processor is the last of its chain
        come = [(block**2).mean(axis=0), np.abs(block).max(axis=0), *own]
        come = [np.concatenate(parts) for parts in zip(rest, come, strict=True)] if rest else come
        whole = come[0].size // hop * hop
        folded, rest = [row[:whole].reshape(-1, hop) for row in come], [row[whole:] for row in come]
        power.append(folded[0].mean(axis=1))
        peak.append(folded[1].max(axis=1))
        for name, row in zip(names, folded[2:], strict=True):
            if name.endswith("gain_db"):
                rows.setdefault(name, []).append((row.min(axis=1), row.max(axis=1)))
    deepest, highest = (
        {name: np.concatenate([part[which] for part in parts]) for name, parts in rows.items()} for which in (0, 1)
    )
    return Ran(deepest, highest, np.concatenate(power), np.concatenate(peak))


def _told(chain: Any) -> Iterable[tuple[int, str]]:
    """The place of the processor and the name of each gain that a chain tells."""
    places = [place for place, entry in enumerate(chain.entries) if entry.on]
    for where, (_, moving, _) in zip(places, chain.gains(), strict=True):
        yield from ((where, name) for name in moving)


def hops(marks: Marks, spans: list[tuple[float, float]], count: int) -> npt.NDArray[np.bool_]:
    """Which frames lie within spans of seconds."""
    inside = np.zeros(count, bool)
    per_s = marks.frames.per_s
    for begin, end in spans:
        inside[round(begin * per_s) : round(end * per_s)] = True
    return inside


def said(db: float) -> str:
    """A figure in dB as it is written."""
    return f"{db:.1f}".replace("-0.0", "0.0").replace("-", "−") + " dB"


def counted(number: int, what: str) -> str:
    """So many of something, in words."""
    return f"{number or 'no'} {what}{'' if number == 1 else 's'}"


__all__ = ["Aim", "Array", "Asks", "Proposal", "Ran", "Way", "Work", "counted", "hops", "said"]
