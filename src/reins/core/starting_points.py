"""Starting points by source: settings from common practice, each with one sentence on what it does and why."""

from dataclasses import replace

from reins.core.points_by_frequency import BY_FREQUENCY
from reins.core.points_by_level import BY_LEVEL
from reins.core.promises import PROMISES
from reins.core.starting_point import StartingPoint
from reins.errors import NotFoundError

STARTING_POINTS = tuple(
    replace(point, promise=PROMISES.get((point.type, point.name))) for point in (*BY_LEVEL, *BY_FREQUENCY)
)


def starting_points(kind: str) -> list[StartingPoint]:
    """The starting points of a processor type."""
    return [point for point in STARTING_POINTS if point.type == kind]


def find_starting_point(kind: str, name: str) -> StartingPoint:
    """A starting point by name, or NotFoundError."""
    for point in starting_points(kind):
        if point.name == name:
            return point
    raise NotFoundError("starting point", name)
