"""Drawn points as a kind of setting: a line through them, each piece bent as its first point says."""

import itertools
from typing import Annotated, Any, NamedTuple

from pydantic import BeforeValidator, Field

from reins.core.settings.models import PartError


class Point(NamedTuple):
    """A point of a drawn line: its place, its value, and how the piece behind it is bent, -1 to 1 (0 is straight)."""

    at: float
    value: float
    bend: float = 0.0


def _as_point(value: Any) -> Any:
    """A point that came as a list of two or three numbers, as JSON has it."""
    return tuple(value) if isinstance(value, list) else value


Drawn = Annotated[Point, BeforeValidator(_as_point)]


def points(default: list[Point], *, most: int, least: int = 2, label: str, group: str, help: str, **axes: Any) -> Any:
    """A setting that is a drawn line of `least` to `most` points; axes: what the screen is told of both directions."""
    extra = {"label": label, "unit": "", "group": group, "kind": "points", **axes}
    return Field(default, min_length=least, max_length=most, description=help, json_schema_extra=extra)


def checked_points(points: list[Point], *, begin: float, end: float, low: float, high: float) -> list[Point]:
    """The points, or PartError saying what is allowed: rising places from begin to end, values from low to high."""
    for index, point in enumerate(points):
        if not (begin <= point.at <= end and low <= point.value <= high and abs(point.bend) <= 1.0):
            raise PartError(
                f"point {index} is [{point.at:g}, {point.value:g}, {point.bend:g}]; allowed: a place from {begin:g} to "
                f"{end:g}, a value from {low:g} to {high:g}, a bend from -1 to 1."
            )
    for index, (earlier, later) in enumerate(itertools.pairwise(points), 1):
        if later.at < earlier.at:
            raise PartError(
                f"point {index} stands at {later.at:g}, before point {index - 1}; allowed: places that rise."
            )
    return points
