"""Named curves to begin a rein by the beat with: a word, a sentence, and its points [position, value, bend]."""

from typing import NamedTuple

from reins.core.settings.points import Point


class Shape(NamedTuple):
    """A curve to begin with."""

    name: str
    sentence: str
    points: tuple[Point, ...]


def _shape(name: str, sentence: str, *points: tuple[float, ...]) -> Shape:
    return Shape(name, sentence, tuple(Point(*point) for point in points))


SHAPES = (
    _shape(
        "step back", "Away at once on the beat, back before the next.", (0, 1, 0), (0.15, 1, -0.35), (0.9, 0, 0), (1, 0)
    ),
    _shape("bounce", "Away on the beat, back in a rush at the end.", (0, 1, 0.55), (1, 0)),
    _shape("lean", "Away slowly and back as slowly.", (0, 0, 0.2), (0.5, 1, -0.2), (1, 0)),
    _shape("swell", "Rises over the span and falls back at its end.", (0, 0, 0.4), (0.96, 1, 0), (1, 0)),
    _shape(
        "off the beat", "Away on the half, there on the beat.",
        (0, 0, 0), (0.45, 0, 0), (0.5, 1, -0.3), (0.95, 0, 0), (1, 0),
    ),
    _shape(
        "four steps", "Away in four steps, then back.",
        (0, 0), (0.25, 0), (0.25, 0.33), (0.5, 0.33), (0.5, 0.67), (0.75, 0.67), (0.75, 1), (1, 1),
    ),
)  # fmt: skip
