"""Spreads: up to nine settings of a processor side by side, each run over what is in view."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from reins.core.chainfile import ProcessorEntry, parse_settings, settings_over
from reins.core.measure.span import Span
from reins.core.moves.scales import Way, ways_of
from reins.core.settings.fields import place_of
from reins.core.settings.paths import value_at
from reins.core.settings.words import said
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from reins.errors import SettingsError

MOST_TILES = 9
TIMES_EITHER_WAY = 4.0  # of a time or a frequency, where no range is given: a quarter of it to four times
SHARE_EITHER_WAY = 0.125  # of the limits, of all else
MOST_DB_EITHER_WAY = 6.0


@dataclass(frozen=True)
class Axis:
    """A setting that is spread, by its path, from one value to another; without a range, about what it is now."""

    path: str
    low: float | None = None
    high: float | None = None


@dataclass(frozen=True)
class Spreading:
    """A setting and the values it is given, on its own scale, in words too; where each is."""

    path: str
    label: str
    low: float
    high: float
    values: list[float]
    words: list[str]


def can_spread(settings: Any) -> dict[str, str]:
    """By path each setting that may be spread, in words."""
    return {path: way.label for path, way in ways_of(settings).items()}


def spread(entry: ProcessorEntry, axes: Sequence[Axis]) -> list[Spreading]:
    """The values of one setting, nine, or of two, three each. SettingsError for what cannot be spread."""
    if not 1 <= len(axes) <= 2 or len({axis.path for axis in axes}) != len(axes):
        raise SettingsError(f"{len(axes)} settings are to be spread; allowed: one, or two different ones.")
    return [_values(entry, axis, MOST_TILES if len(axes) == 1 else 3) for axis in axes]


def _values(entry: ProcessorEntry, axis: Axis, count: int) -> Spreading:
    way = ways_of(entry.settings).get(axis.path)
    if way is None:
        can = ", ".join(can_spread(entry.settings))
        raise SettingsError(f"“{axis.path}” cannot be spread; allowed: {can or 'nothing of this processor'}.")
    low, high = _range(way, float(value_at(entry.settings, axis.path)), axis)
    between = np.linspace(way.place(low), way.place(high), count)
    # The way's own scale, rounded as a hand would set it, its ends as they were asked for.
    values = [low, *(_rounded(float(value), way) for value in way.value(between)[1:-1]), high]
    field: Any = place_of(type(entry.settings), axis.path)
    extra = (field.json_schema_extra if field is not None else None) or {"unit": way.unit}
    return Spreading(axis.path, way.label, low, high, values, [said(value, extra) for value in values])


def _range(way: Way, now: float, axis: Axis) -> tuple[float, float]:
    if axis.low is not None and axis.high is not None:
        if not way.low <= axis.low < axis.high <= way.high:
            raise SettingsError(
                f"{way.label} from {axis.low:g} to {axis.high:g}; allowed: upwards within {way.low:g} to {way.high:g}."
            )
        return axis.low, axis.high
    if way.log:
        middle = min(max(now, way.low), way.high)
        ends = middle / TIMES_EITHER_WAY, middle * TIMES_EITHER_WAY
    else:
        aside = SHARE_EITHER_WAY * (way.high - way.low)
        aside = min(aside, MOST_DB_EITHER_WAY) if way.unit == "dB" else aside
        ends = now - aside, now + aside
    low, high = (_rounded(min(max(end, way.low), way.high), way) for end in ends)
    return (low, high) if low < high else (way.low, way.high)


def _rounded(value: float, way: Way) -> float:
    """Two figures on a logarithmic scale, one decimal on others; within the limits."""
    value = float(f"{value:.2g}") if way.log else round(value, 1 if way.high - way.low > 10.0 else 3)
    return min(max(value, way.low), way.high)


def tiles(spreadings: Sequence[Spreading]) -> list[dict[str, float]]:
    """Settings by path of each tile: rows go with the first, columns with the second."""
    first = spreadings[0]
    if len(spreadings) == 1:
        return [{first.path: value} for value in first.values]
    second = spreadings[1]
    return [{first.path: one, second.path: other} for one in first.values for other in second.values]


def tried(trial: Trial, processor_id: str, settings: dict[str, Any]) -> Trial:
    """A trial whose processor has settings changed by path, and is on; SettingsError for what is not allowed."""
    entries = [
        entry.model_copy(
            update={
                "on": True,
                "settings": parse_settings(entry.type, settings_over(entry, settings), entry.type),
            }
        )
        if entry.id == processor_id
        else entry
        for entry in trial.entries
    ]
    return replace(trial, entries=entries)


def measured(
    trial: Trial, processor_id: str, start: int, frames: int, check: Callable[[], None] = lambda: None
) -> tuple[Span, dict[str, float | None]]:
    """What a tile shows: the span, and its figures: crest_db, integrated_lufs, held_pct, usual_db, deepest_db."""
    span = measure_span(trial, processor_id, start, frames, check)
    what = span.statistics()
    figures = {name: what.get(name) for name in ("held_pct", "usual_db", "deepest_db")}
    figures |= {"crest_db": span.result.crest_db, "integrated_lufs": span.result.integrated_lufs}
    return span, {k: None if v is None or not math.isfinite(v) else round(float(v), 2) for k, v in figures.items()}
