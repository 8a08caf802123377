"""A sound folded over a span that repeats: all repetitions laid over each other, and a curve drawn after their mean."""

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
Peaks = Callable[[int, int, int], Array]  # the peaks of so many columns of a part: start, frames, columns
COLUMNS = 160
LEVELS_DB = np.arange(-60.0, 0.1, 1.5)  # edges of the levels that are counted
MOST_TURNS = 400  # of a long session so many repetitions are looked at, evenly spread
MOST_POINTS = 16
QUIET_SHARE = 0.1
LEAST_RANGE_DB = 6.0


def turns_of(first: float, length: float, end: int) -> Array:
    """The frames at which repetitions of `length` frames begin that lie within 0 .. end, the first at `first`."""
    begin = first - np.ceil(first / length) * length if first > 0 else first
    starts = np.arange(begin, end, length)
    inside = starts[(starts >= 0) & (starts + length <= end)]
    return inside if inside.size else np.array([max(0.0, first)])


def turns_over(peaks: Peaks, starts: Array, length: float) -> Array:
    """Peak level in dB of each column of each repetition: (repetitions, COLUMNS)."""
    chosen = starts if starts.size <= MOST_TURNS else starts[np.linspace(0, starts.size - 1, MOST_TURNS).astype(int)]
    rows = [peaks(round(start), max(COLUMNS, round(length)), COLUMNS) for start in chosen]
    return 20.0 * np.log10(np.maximum(np.array(rows), 1e-6))


def density(turns_db: Array) -> npt.NDArray[np.int64]:
    """In how many percent of the repetitions each column sits at each level: (COLUMNS, levels)."""
    place = np.clip(np.digitize(turns_db, LEVELS_DB) - 1, 0, LEVELS_DB.size - 2)
    counts = np.zeros((turns_db.shape[1], LEVELS_DB.size - 1))
    for row in place:
        counts[np.arange(row.size), row] += 1.0
    shares: npt.NDArray[np.int64] = np.rint(100.0 * counts / turns_db.shape[0]).astype(np.int64)
    return shares


def curve_after(turns_db: Array) -> list[tuple[float, float]]:
    """Points (position 0 to 1, value 0 to 1), up to MOST_POINTS, after the mean over all repetitions: 0 where a tenth
    of the span is quieter, 1 at the loudest.

    Fewer points by U. Ramer 1972, D. H. Douglas and T. K. Peucker 1973: a point stays when it lies further than a
    tolerance from the line of its neighbours; the tolerance grows until few enough are left.
    """
    mean_db = 10.0 * np.log10(np.mean(10.0 ** (turns_db / 10.0), axis=0))
    low, high = float(np.quantile(mean_db, QUIET_SHARE)), float(mean_db.max())
    value = np.clip((mean_db - low) / max(high - low, LEAST_RANGE_DB), 0.0, 1.0)
    at = np.linspace(0.0, 1.0, value.size + 1)
    value = np.append(value, value[0])  # it repeats
    tolerance = 0.01
    while len(kept := _simpler(at, value, tolerance)) > MOST_POINTS:
        tolerance *= 1.25
    return [(round(float(at[k]), 4), round(float(value[k]), 3)) for k in kept]


def _simpler(at: Array, value: Array, tolerance: float) -> list[int]:
    """The points that stay, ends included."""
    keep, spans = {0, at.size - 1}, [(0, at.size - 1)]
    while spans:
        first, last = spans.pop()
        if last - first < 2:
            continue
        between = np.arange(first + 1, last)
        line = np.interp(at[between], [at[first], at[last]], [value[first], value[last]])
        away = np.abs(value[between] - line)
        furthest = int(away.argmax())
        if away[furthest] > tolerance:
            middle = int(between[furthest])
            keep.add(middle)
            spans += [(first, middle), (middle, last)]
    return sorted(keep)
