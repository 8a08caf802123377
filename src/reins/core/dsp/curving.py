"""A transfer curve of one's own: its gain at every level from a table, after the level has risen and fallen as attack
and release let it.

The table holds the gain in dB for levels from LOWEST_DB up, STEPS_PER_DB a decibel, straight between. Points are
joined by straight lines, rounded by the mean over a knee, or by a monotone cubic (F. N. Fritsch, R. E. Carlson,
"Monotone piecewise cubic interpolation", SIAM J. Numer. Anal. 17(2), 1980; the slopes at points by Fritsch and
Butland's weighted harmonic mean, 1984).
"""

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import inlined, kernel
from reins.core.dsp.decibels import dbs_to_amplitude
from reins.core.dsp.dynamics import (
    ATTACK_K,
    CHUNK,
    GAIN,
    PARAMS,
    RELEASE_K,
    SLOW,
    TABLE_LOWEST_DB,
    TABLE_STEPS_PER_DB,
    apply_mixed,
    levels_db,
    table_gain,
)

Array = npt.NDArray[np.float64]
LOWEST_DB, HIGHEST_DB, STEPS_PER_DB = TABLE_LOWEST_DB, 40.0, TABLE_STEPS_PER_DB
MOST_GAIN_DB, SILENT_DB = 60.0, -139.0
ATTACK_SHAPE, RELEASE_SHAPE, FLOOR_DB = PARAMS, PARAMS + 1, PARAMS + 2
CURVE_PARAMS = PARAMS + 3
QUICKER, ABOUT_DB = 3.0, 24.0  # how much quicker a way that is quick first begins, where it is so long
INERTIA = 4.0  # of a way that begins slowly: what neither rings nor goes beyond


def levels() -> Array:
    """The levels of a table."""
    return np.arange(round((HIGHEST_DB - LOWEST_DB) * STEPS_PER_DB) + 1) / STEPS_PER_DB + LOWEST_DB


def joined_db(points: Array, *, smooth: bool, knee_db: float, below: float, above: float) -> Array:
    """The level out for each of levels(), through points (n, 2) of level in and out, in dB; below, above: slopes beyond
    the ends.
    """
    at = levels()
    come, gone = points[:, 0], points[:, 1]
    within = np.clip(at, come[0], come[-1])
    inside = monotone_cubic(come, gone, within) if smooth else np.interp(within, come, gone)
    out = inside + below * np.minimum(at - come[0], 0.0) + above * np.maximum(at - come[-1], 0.0)
    half = round(0.5 * knee_db * STEPS_PER_DB)
    if not smooth and half:
        wide = np.arange(-half, half + 1)
        longer = np.concatenate([out[0] + below * (wide[wide < 0] / STEPS_PER_DB), out])
        longer = np.concatenate([longer, out[-1] + above * (wide[wide > 0] / STEPS_PER_DB)])
        out = np.convolve(longer, np.full(wide.size, 1.0 / wide.size), "valid")
    return out


def monotone_cubic(x: Array, y: Array, at: Array) -> Array:
    """PCHIP through (x, y), x rising, at places within."""
    h, slope = np.diff(x), np.diff(y) / np.diff(x)
    if x.size == 2:
        return y[0] + slope[0] * (at - x[0])
    d = np.zeros(x.size)
    alike = slope[:-1] * slope[1:] > 0.0
    one, other = 2.0 * h[1:] + h[:-1], h[1:] + 2.0 * h[:-1]
    with np.errstate(divide="ignore", invalid="ignore"):
        d[1:-1] = np.where(alike, (one + other) / (one / slope[:-1] + other / slope[1:]), 0.0)
    d[0], d[-1] = _end_slope(h[0], h[1], slope[0], slope[1]), _end_slope(h[-1], h[-2], slope[-1], slope[-2])
    k = np.clip(np.searchsorted(x, at, side="right") - 1, 0, h.size - 1)
    t = (at - x[k]) / h[k]
    return np.asarray(
        y[k] * (1 + 2 * t) * (1 - t) ** 2 + h[k] * d[k] * t * (1 - t) ** 2
        + y[k + 1] * t**2 * (3 - 2 * t) + h[k] * d[k + 1] * t**2 * (t - 1)
    )  # fmt: skip


def _end_slope(h: float, further: float, slope: float, next_slope: float) -> float:
    """The three-point slope at an end, kept from turning back."""
    d = ((2.0 * h + further) * slope - h * next_slope) / (h + further)
    if d * slope <= 0.0:
        return 0.0
    return 3.0 * slope if slope * next_slope < 0.0 and abs(d) > 3.0 * abs(slope) else d


def gain_table(out_db: Array, *, times: float = 1.0) -> Array:
    """The gain in dB at each of levels(), so many times, at most MOST_GAIN_DB; none for silence."""
    gain = np.minimum(times * (out_db - levels()), MOST_GAIN_DB)
    return np.where(levels() <= SILENT_DB, np.minimum(gain, 0.0), gain)


@inlined
def _follow_shaped(level, gain, count, times, floor, state):
    """The level over the floor as it moves, into gain: with one pole, quicker or slower at first by its shape."""
    attack, release, rises, falls = times
    g, v = state[GAIN], state[SLOW]
    if rises == 0.0 and falls == 0.0:  # straight, which is what is asked for most
        v = 0.0
        for i in range(count):
            d = max(level[i] - floor, 0.0) - g
            g += (attack if d > 0.0 else release) * d
            gain[i] = g
    else:
        for i in range(count):
            t = max(level[i] - floor, 0.0)
            d = t - g
            k, shape = (attack, rises) if d > 0.0 else (release, falls)
            if shape > 0.0:
                v += min(1.0, INERTIA * k / shape) * (k * d - v)
                g += v
                if (d > 0.0 and g > t) or (d <= 0.0 and g < t):
                    g, v = t, 0.0
            else:
                g += min(1.0, k * (1.0 - QUICKER * shape * min(abs(d) / ABOUT_DB, 1.0))) * d
                v = 0.0
            gain[i] = g
    state[GAIN], state[SLOW] = g, v if abs(v) > 1e-30 else 0.0


@kernel(
    "void(f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], i8[::1], f8[:,::1], f8[::1], f8[:,::1], f8[:,::1], f8[:,::1])"
)
def follow_table(heard, source, state, params, begins, mixing, table, scratch, gain_db, out):
    """As dynamics.follow_moving, with a table of gains for the curve and params (rows, CURVE_PARAMS); the level over
    the floor is what moves, in state[GAIN], with its speed in state[SLOW].
    """
    gain_lanes, frames = gain_db.shape
    bits = scratch.view(np.int64)
    for row in range(begins.size):
        now, end = params[row], begins[row + 1] if row + 1 < begins.size else frames
        attack, release, rises, falls, floor = (
            now[ATTACK_K], now[RELEASE_K], now[ATTACK_SHAPE], now[RELEASE_SHAPE], now[FLOOR_DB]
        )  # fmt: skip
        for start in range(begins[row], end, CHUNK):
            count = min(CHUNK, end - start)
            levels_db(heard, start, count, scratch, bits, state, now)
            for lane in range(gain_lanes):
                level, gain = scratch[lane], gain_db[lane, start : start + count]
                _follow_shaped(level, gain, count, (attack, release, rises, falls), floor, state[lane])
                for i in range(count):
                    gain[i] = table_gain(table, gain[i] + floor)
            for lane in range(gain_lanes):
                gain = gain_db[lane, start : start + count]
                dbs_to_amplitude(gain, scratch[lane], bits[lane], scratch[4], bits[4], count)
            apply_mixed(source, start, count, scratch, gain_lanes, now, mixing, out)
