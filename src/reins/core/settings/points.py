"""Drawn points as a kind of setting: a line through them, each piece bent as its first point says."""

import itertools
from collections.abc import Sequence
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


Span = tuple[float, float]
Drawn = Annotated[Point, BeforeValidator(_as_point)]


def points(
    default: Sequence[Point], *, most: int, least: int = 2, places: Span, values: Span, at: str = "Hz", of: str = "",
    label: str, group: str, help: str,
) -> Any:  # fmt: skip
    """A setting that is a line of `least` to `most` points; from where to where both go, the unit of places; of: the
    setting in dB that values are a share of, in percent.
    """
    extra: dict[str, Any] = {"label": label, "unit": "", "group": group, "kind": "points", "at": at}
    extra |= {"of": of} if of else {}
    extra |= {"places": list(places), "values": list(values), "fewest": least}
    return Field(default, min_length=least, max_length=most, description=help, json_schema_extra=extra)


def checked_points(points: list[Point], *, places: Span, values: Span) -> list[Point]:
    """The points, or PartError saying what is allowed: rising places within limits, values within theirs."""
    (begin, end), (low, high) = places, values
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
