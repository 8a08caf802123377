"""What a chain did over a span of a sound, folded from its result and its gains: envelopes, gain, statistics."""

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from reins.core.dsp.loudness import LoudnessMeter
from reins.core.measure.folding import (
    BIN_FRAMES,
    FRAMES_OPEN,
    GATE_COUNTS,
    HELD_DB,
    HISTOGRAM_BINS,
    OPENINGS,
    ROUNDING,
    SHORTEST,
    STEPS_PER_DB,
    Counts,
    Floats,
    fold_band,
    fold_block,
    fold_returns,
    fold_ribbon,
    fold_states,
    furthest_of,
)
from reins.core.measure.heldmap import HeldMap
from reins.core.measure.levels import Level, measure_level
from reins.core.measure.tap import Tap
from reins.core.takes import reduce_columns

Array = npt.NDArray[np.float64]
MAX_RETURNS = 4096
SOUNDS_DB = 40.0  # under the loudest: what sounds
STEADY_DB, STEADY_BINS = 1.0, 20  # within what a gain is the same all along, and how many bins that takes


def _held(histogram: Counts) -> Counts:
    """What of a histogram of gains counts as held."""
    held = histogram.copy()
    held[: round(HELD_DB * STEPS_PER_DB)] = 0
    return held


def _median_db(histogram: Counts) -> float:
    """The step that half of what was counted lies below; 0 where nothing was."""
    total = histogram.sum()
    return int(np.searchsorted(np.cumsum(histogram), total / 2.0)) / STEPS_PER_DB if total else 0.0


def usual_db(gain_db: Array) -> float:
    """What a span says of a gain (frames,), usual: the median while it moves, of what is taken or given."""
    steps = (np.minimum(np.abs(gain_db), 60.0) * STEPS_PER_DB + ROUNDING).astype(np.int64)
    taken, given = (_held(np.bincount(steps[way], minlength=HISTOGRAM_BINS)) for way in (gain_db < 0, gain_db > 0))
    return (-1.0 if taken.sum() >= given.sum() else 1.0) * _median_db(taken + given)


@dataclass(frozen=True)
class Band:
    """What one band of a processor did: bins of its deepest and highest gain, and counts (see fold_band)."""

    deepest_db: Floats
    highest_db: Floats
    histogram: Counts
    times: Counts
    total_db: Array

    @classmethod
    def of(cls, bins: int) -> "Band":
        """A band that has done nothing."""
        counts = (np.zeros(HISTOGRAM_BINS, np.int64), np.zeros(2, np.int64))
        return cls(np.zeros(bins, np.float32), np.zeros(bins, np.float32), *counts, np.zeros(1))

    def statistics(self, frames: int) -> dict[str, float]:
        """times (how often it began to move), usual_db and deepest_db as for a span, mean_db over all time."""
        moving = _held(self.histogram)
        low, high = float(self.deepest_db.min(initial=0.0)), float(self.highest_db.max(initial=0.0))
        sign = -1.0 if -low >= high else 1.0
        return {
            "times": int(self.times[1]),
            "usual_db": sign * _median_db(moving),
            "deepest_db": low if sign < 0.0 else high,
            "mean_db": float(self.total_db[0]) / max(frames, 1),
        }


IN_CHARGE, HEARD = "in_charge", "heard."  # how marks of a ribbon are called
SILENT_DB = -120.0


@dataclass(frozen=True)
class Ribbon:
    """Who of several detectors is in charge (bins, 1 + detectors: frames of each bin, nobody's first), and what each
    hears (detectors, bins) in dB, by name.
    """

    counts: Counts
    levels: Floats
    names: tuple[str, ...]

    def shares_pct(self) -> list[float]:
        """Of the time, how much is nobody's, and how much whose."""
        total = self.counts.sum(axis=0)
        return [float(part) for part in 100.0 * total / max(int(total.sum()), 1)]

    def columns(self, edges: Array) -> tuple[list[int], dict[str, Array]]:
        """Per column who is in charge for longest, of those who are at all, and the highest that each hears."""
        whose = np.stack([reduce_columns(row, edges, np.add) for row in self.counts.T.astype(np.float64)])
        longest = np.where(whose[1:].any(axis=0), 1 + whose[1:].argmax(axis=0), 0)
        above = (reduce_columns(row - SILENT_DB, edges, np.maximum) for row in self.levels)  # 0, silence, outside
        return longest.tolist(), {name: row + SILENT_DB for name, row in zip(self.names, above, strict=True)}


@dataclass(frozen=True)
class Span:
    """A chain's doings over frames start .. start + frames of a take, in bins of BIN_FRAMES."""

    start: int
    frames: int
    peaks: Array
    deepest_db: Array
    highest_db: Array
    histogram: Counts
    lifted: Counts
    result: Level
    states: npt.NDArray[np.int8] | None  # of a gate, per bin
    gate: dict[str, float | None] | None
    return_s: float | None  # with an outside key, the median time of a dip from its deepest moment back
    bands: dict[str, Band]  # of a processor whose bands move each by itself, by the name of the gain
    heard: Array | None  # of a processor that watches a band, the peaks of that, per bin
    ribbon: Ribbon | None = None  # of one with several detectors
    before: Tap | None = None  # what comes to the processor, where that is not the source
    after: Tap | None = None  # what it makes, where that is not the result
    held_map: HeldMap | None = None  # of one that works on spectra
    loudest: dict[str, Array] = field(default_factory=dict)  # of each moving band, what it hears; see engine.bandlevels

    def tap_columns(self, tap: Tap | None, start: int, frames: int, columns: int) -> Array | None:
        """Peak of a tapped signal per column of a part of the span."""
        if tap is None:
            return None
        edges = (start - self.start + np.linspace(0, frames, columns + 1)) / BIN_FRAMES
        return reduce_columns(tap.peaks, edges, np.maximum)

    def heard_columns(self, start: int, frames: int, columns: int) -> Array | None:
        """Peak of the watched band per column of a part of the span."""
        if self.heard is None:
            return None
        edges = (start - self.start + np.linspace(0, frames, columns + 1)) / BIN_FRAMES
        return reduce_columns(self.heard, edges, np.maximum)

    def band_columns(self, start: int, frames: int, columns: int) -> dict[str, tuple[Array, Array]]:
        """By band (deepest, highest gain in dB) per column of a part of the span."""
        edges = (start - self.start + np.linspace(0, frames, columns + 1)) / BIN_FRAMES
        return {
            name: (reduce_columns(b.deepest_db, edges, np.minimum), reduce_columns(b.highest_db, edges, np.maximum))
            for name, b in self.bands.items()
        }

    def columns(self, start: int, frames: int, columns: int) -> tuple[Array, Array, Array]:
        """(peak amplitude of the result, deepest, highest gain in dB) per column of a part of the span."""
        edges = (start - self.start + np.linspace(0, frames, columns + 1)) / BIN_FRAMES
        return (
            reduce_columns(self.peaks, edges, np.maximum),
            reduce_columns(self.deepest_db, edges, np.minimum),
            reduce_columns(self.highest_db, edges, np.maximum),
        )

    def state_columns(self, start: int, frames: int, columns: int) -> list[int] | None:
        """A gate's state per column of a part of the span, the most open of each."""
        if self.states is None:
            return None
        edges = (start - self.start + np.linspace(0, frames, columns + 1)) / BIN_FRAMES
        openness = np.array([0.0, 3.0, 2.0, 1.0])[self.states]  # so that the most open is the largest
        return [(0, 3, 2, 1)[int(value)] for value in reduce_columns(openness, edges, np.maximum)]

    def ribbon_columns(self, start: int, frames: int, columns: int) -> tuple[list[int], dict[str, Array]] | None:
        """Who is in charge, and what each detector hears, per column of a part of the span."""
        edges = (start - self.start + np.linspace(0, frames, columns + 1)) / BIN_FRAMES
        return None if self.ribbon is None else self.ribbon.columns(edges)

    def statistics(self) -> dict[str, float]:
        """held_pct (share of time with at least HELD_DB taken or given), usual_db (median while so), deepest_db."""
        taken, given = _held(self.histogram), _held(self.lifted)
        sign = -1.0 if taken.sum() >= given.sum() else 1.0
        extreme = self.deepest_db.min(initial=0.0) if sign < 0 else self.highest_db.max(initial=0.0)
        return {
            "held_pct": 100.0 * int((taken + given).sum()) / max(self.frames, 1),
            "usual_db": sign * _median_db(taken + given),
            "deepest_db": float(extreme),
        }

    def lifts(self) -> dict[str, float]:
        """Of what is given alone: lifted_pct, the share of time, and lifted_db, the median while so."""
        given = _held(self.lifted)
        return {"lifted_pct": 100.0 * int(given.sum()) / max(self.frames, 1), "lifted_db": _median_db(given)}

    def steady_db(self) -> float | None:
        """The gain, where it hardly varies over what sounds: then a fader would do. None where it does vary, or where
        hardly anything is moved.
        """
        sounding = self.peaks > self.peaks.max(initial=0.0) * 10.0 ** (-SOUNDS_DB / 20.0)
        gains = np.where(-self.deepest_db > self.highest_db, self.deepest_db, self.highest_db)[sounding]
        if gains.size < STEADY_BINS:
            return None
        low, middle, high = np.quantile(gains, [0.05, 0.5, 0.95])
        return float(middle) if high - low < STEADY_DB and abs(middle) >= HELD_DB else None


def _gate_facts(counts: Counts, frames: int, rate: int) -> dict[str, float | None]:
    """open_pct, openings, and shortest_ms of those that closed again."""
    shortest = int(counts[SHORTEST])
    return {
        "open_pct": 100.0 * int(counts[FRAMES_OPEN]) / max(frames, 1),
        "openings": int(counts[OPENINGS]),
        "shortest_ms": 1000.0 * shortest / rate if shortest else None,
    }


class Fold:
    """Takes in the blocks of a span and folds them into bins."""

    def __init__(self, start: int, frames: int, *, sample_rate: int, keyed: bool, banded: bool) -> None:
        self._start, self._frames, self._channels, self._rate, self._keyed = start, frames, 1, sample_rate, keyed
        self._banded = banded
        bins = -(-frames // BIN_FRAMES)
        self.heard = np.zeros(bins)
        self._peaks, self._deepest, self._highest, self._squares = (*(np.zeros(bins) for _ in range(3)), np.zeros(1))
        self._histogram, self._lifted = np.zeros(HISTOGRAM_BINS, np.int64), np.zeros(HISTOGRAM_BINS, np.int64)
        self._states, self._counts, self._gated = np.zeros(bins, np.int8), np.zeros(GATE_COUNTS, np.int64), False
        self._dip, self._returns, self._returned = np.zeros(3, np.int64), np.zeros(MAX_RETURNS, np.int64), 0
        self._bands: dict[str, Band] = {}
        self._ribbon: Ribbon | None = None
        self._meter = LoudnessMeter(sample_rate=sample_rate)

    def feed(self, result: Array, gains_db: dict[str, Array], marks: dict[str, Array], first: int) -> None:
        """Fold the next frames of the result, and of what the processor told: gains, and marks by name."""
        state, self._channels = marks.get("state"), result.shape[0]
        gain_db = gains_db.get("gain_db", np.zeros(result.shape[1]))
        if self._banded and gains_db:
            gain_db = np.empty(result.shape[1])
            furthest_of(np.stack(list(gains_db.values())), gain_db)
            for name, row in gains_db.items():
                band = self._bands.setdefault(name, Band.of(self._peaks.size))
                fold_band(row, first, band.deepest_db, band.highest_db, band.histogram, band.times, band.total_db)
        fold_block(
            result, gain_db, first, result.shape[1], self._peaks, self._squares, self._deepest, self._highest,
            self._histogram, self._lifted,
        )  # fmt: skip
        if self._keyed:
            self._returned = fold_returns(gain_db, self._returned, self._dip, self._returns)
        if state is not None:
            self._gated = True
            fold_states(state, first, self._states, self._counts)
        if IN_CHARGE in marks:
            self._feed_ribbon(marks, first)
        self._meter.feed(result)

    def _feed_ribbon(self, marks: dict[str, Array], first: int) -> None:
        names = tuple(name.removeprefix(HEARD) for name in marks if name.startswith(HEARD))
        if self._ribbon is None:
            bins = self._peaks.size
            levels = np.full((len(names), bins), SILENT_DB, np.float32)
            self._ribbon = Ribbon(np.zeros((bins, len(names) + 1), np.int64), levels, names)
        heard = np.stack([marks[HEARD + name] for name in names])
        fold_ribbon(marks[IN_CHARGE], heard, first, self._ribbon.counts, self._ribbon.levels)

    def span(self) -> Span:
        """What all that was fed comes to."""
        peak, samples = float(self._peaks.max(initial=0.0)), self._frames * self._channels
        returns = self._returns[: self._returned]
        return Span(
            self._start, self._frames, self._peaks, self._deepest, self._highest, self._histogram, self._lifted,
            measure_level(float(self._squares[0]), peak, samples, self._meter), self._states if self._gated else None,
            _gate_facts(self._counts, self._frames, self._rate) if self._gated else None,
            float(np.median(returns)) / self._rate if returns.size else None,
            self._bands, self.heard if self.heard.any() else None, self._ribbon,
        )  # fmt: skip
