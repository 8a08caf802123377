"""State-variable filters that are swept: g, k and what is mixed go straight from one point of a grid to the next.

The recursion is that of dsp.cuts (V. Zavalishin, "The Art of VA Filter Design", ch. 3 and 4), with the same states, so
that a filter may be swept, rest and be swept again.
"""

from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import flush, kernel

Array = npt.NDArray[np.float64]
G, K, M0, M1, M2 = 0, 1, 2, 3, 4
COLUMNS = 5


@kernel("void(f8[:,::1], f8[:,::1], f8[:,::1], i8[::1], i8[::1], i8, f8[:,::1])")
def filter_swept(signal, at, to, begins, into, length, state):
    """Filter signal (channels, frames) in place: m0 x + m1 v1 + m2 v2.

    at, to (rows, COLUMNS): g, k, m0, m1, m2 where each row begins and where it ends, `length` frames later; begins
    (rows,): its first frame in the block, which may lie `into` (rows,) frames behind the row's own begin. state
    (channels, 2) is carried.
    """
    channels, frames = signal.shape
    # Both channels side by side, as in dsp.cuts.
    two = channels == 2
    left, right = signal[0], signal[channels - 1]
    for row in range(begins.size):
        end = begins[row + 1] if row + 1 < begins.size else frames
        g, k, m0, m1, m2 = at[row]
        dg, dk = (to[row, G] - g) / length, (to[row, K] - k) / length
        d0, d1, d2 = (to[row, M0] - m0) / length, (to[row, M1] - m1) / length, (to[row, M2] - m2) / length
        s1, s2 = state[0]
        r1, r2 = state[channels - 1]
        for i in range(begins[row], end):
            n = into[row] + i - begins[row]
            w, r = g + dg * n, k + dk * n
            n0, n1, n2 = m0 + d0 * n, m1 + d1 * n, m2 + d2 * n
            a1 = 1.0 / (1.0 + w * (w + r))
            x, z = left[i], right[i]
            v1, u1 = a1 * s1 + w * a1 * (x - s2), a1 * r1 + w * a1 * (z - r2)
            v2, u2 = s2 + w * v1, r2 + w * u1
            s1, r1, s2, r2 = 2.0 * v1 - s1, 2.0 * u1 - r1, 2.0 * v2 - s2, 2.0 * u2 - r2
            left[i] = n0 * x + n1 * v1 + n2 * v2
            if two:
                right[i] = n0 * z + n1 * u1 + n2 * u2
        state[0, 0], state[0, 1] = flush(s1), flush(s2)
        if two:
            state[1, 0], state[1, 1] = flush(r1), flush(r2)


@kernel("void(f8[:], f8[:], i8[::1], i8[::1], i8, f8[::1])")
def _straighten(at, to, begins, into, length, out):
    for row in range(begins.size):
        end = begins[row + 1] if row + 1 < begins.size else out.size
        slope = (to[row] - at[row]) / length
        for i in range(begins[row], end):
            out[i] = at[row] + slope * (into[row] + i - begins[row])


def straight(at: Array, to: Array, rows: Any, frames: int) -> Array:
    """Values over a block's frames that go straight from where each row begins (rows,) to where it ends."""
    out = np.empty(frames)
    _straighten(at, to, rows.begins, rows.into, rows.length, out)
    return out


def columns(g: Any, k: Any, m0: Any, m1: Any, m2: Any, points: int = 1) -> Array:
    """(points, COLUMNS) for filter_swept, from arrays (points,) or numbers."""
    made = np.empty((points, COLUMNS))
    made[:, G], made[:, K], made[:, M0], made[:, M1], made[:, M2] = g, k, m0, m1, m2
    return made
