"""Where a moved setting goes: on its own scale, a logarithmic one in the logarithm, all others straight.

What may be moved of given settings is read from their descriptions (settings.describing): every number that changes
neither latency nor the number of anything.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, get_args, get_origin

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel

from reins.core.settings.describing import Moves
from reins.core.settings.fields import limits_of

Array = npt.NDArray[np.float64]
_ways: "dict[tuple[type[BaseModel], tuple[int, ...]], dict[str, Way]]" = {}


@dataclass(frozen=True)
class Way:
    """How a setting may go: its limits, its scale, and how a processor hears of it."""

    low: float
    high: float
    lowest: float  # that may be given: 0, where that is off, lies below `low`
    log: bool
    off_as: float
    moves: Moves
    label: str
    unit: str

    def place(self, value: float | Array) -> float | Array:
        """Where a value lies on the scale; 0 where that means off lies where `off_as` does."""
        if not self.log:
            return value
        shown = np.where(np.asarray(value) <= 0.0, self.off_as, value)
        placed = np.log(np.maximum(shown, self.low))
        return float(placed) if placed.ndim == 0 else placed

    def value(self, place: Array) -> Array:
        """The values that lie at places of the scale, within the limits."""
        return np.clip(np.exp(place) if self.log else place, self.low, self.high)


def way_of(field: Any) -> Way | None:
    """The way of a setting by its Pydantic field; None where it may not move."""
    extra = field.json_schema_extra or {}
    if extra.get("kind") != "number" or not extra["moves"]:
        return None
    return _way(extra, *limits_of(field))


def _way(extra: Mapping[str, Any], low: float, high: float) -> Way:
    log = extra["scale"] == "log"
    least = extra.get("least", low)
    off_as = extra.get("off_as", least)
    return Way(least if log else low, high, low, log, off_as, extra.get("moves", "grid"), extra["label"], extra["unit"])


def ways_of(settings: BaseModel) -> dict[str, Way]:
    """By dotted path every setting that may be moved, those of bands and of lists of numbers among them; to be read
    only. It hangs on the kind of settings and on how long their lists are, and is asked at every step of a drag.
    """
    place = type(settings), tuple(len(value) for value in vars(settings).values() if isinstance(value, list))
    if place not in _ways:
        _ways[place] = _read(settings, "")
    return _ways[place]


def _read(settings: BaseModel, prefix: str) -> dict[str, Way]:
    found: dict[str, Way] = {}
    for name, field in type(settings).model_fields.items():
        value, path = vars(settings)[name], prefix + name
        if isinstance(value, BaseModel):
            found |= _read(value, f"{path}.")
        elif isinstance(value, list):
            extra: Any = field.json_schema_extra or {}
            for place, part in enumerate(value):
                if isinstance(part, BaseModel):
                    found |= _read(part, f"{path}.{place}.")
                elif get_origin(field.annotation) is list and get_args(field.annotation)[0] is float:
                    found[f"{path}.{place}"] = _way(extra, float(extra["low"]), float(extra["high"]))
        elif (way := way_of(field)) is not None:
            found[path] = way
    return found
