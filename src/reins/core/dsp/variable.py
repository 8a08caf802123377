"""State-variable filters whose gain may move with every sample: bells and shelves, and the regions they cover.

Trapezoidal integration keeps the two states' energy bounded for any positive coefficients, so that they may change
from sample to sample (V. Zavalishin, "The Art of VA Filter Design", ch. 4). At rest each answers as the cookbook's
formula for the same frequency, Q and gain (R. Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter
coefficients"): with A = 10^(gain_db / 40) and w = tan(pi f / rate),

    bell        g = w           k = 1 / (Q A)   y = x + k (A^2 - 1) v1
    low shelf   g = w / sqrt A  k = 1 / Q       y = x + k (A - 1) v1 + (A^2 - 1) v2
    high shelf  g = w sqrt A    k = 1 / Q       y = A^2 x + k (1 - A) A v1 + (1 - A^2) v2

where v1 and v2 are band-pass and low-pass outputs of the filter with these g and k. The kernels keep the two states in
matrix form, c1 = 2 a1 - 1, c2 = 2 g a1, c3 = 1 - 2 g^2 a1, a1 = 1 / (1 + g (g + k)): half as many operations wait for
one another.
"""

import math
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import fused, inlined, kernel
from reins.core.dsp.decibels import dbs_to_amplitude
from reins.core.dsp.gains import to_lin
from reins.core.dsp.lanes import begun, first, keep, pair, second
from reins.core.dsp.matched import MOST_DB, STEPS_PER_DB, matched_one

Array = npt.NDArray[np.float64]

BELL, LOW_SHELF, HIGH_SHELF = 0, 1, 2
SHAPES = {"bell": BELL, "low_shelf": LOW_SHELF, "high_shelf": HIGH_SHELF}
CHUNK = 512
FIRST, SECOND = 3, 9  # rows of scratch where coefficients begin: of a band, and of one that goes with it
SCRATCH_ROWS = 15
C1, C2, C3, M0, M1, M2 = 0, 1, 2, 3, 4, 5


def prewarped(frequency_hz: float, sample_rate: int) -> float:
    """w = tan(pi f / rate); a frequency at or above 0.499 of the rate is taken as that."""
    return math.tan(math.pi * min(frequency_hz, 0.499 * sample_rate) / sample_rate)


def fixed(g: float, k: float, m0: float, m1: float, m2: float) -> Array:
    """Coefficients of m0 x + m1 v1 + m2 v2 of a filter with these g and k; see the module."""
    a1 = 1.0 / (1.0 + g * (g + k))
    return np.array([2.0 * a1 - 1.0, 2.0 * g * a1, 1.0 - 2.0 * g * g * a1, m0, 0.5 * m1, 0.5 * m2])


def fixed_in_rows(rows: int, g: Any, k: Any, m0: Any, m1: Any, m2: Any) -> Array:
    """As fixed, (rows, 6), from arrays (rows,) or numbers."""
    a1 = 1.0 / (1.0 + g * (g + k))
    made = np.empty((rows, 6))
    made[:, C1], made[:, C2], made[:, C3] = 2.0 * a1 - 1.0, 2.0 * g * a1, 1.0 - 2.0 * g * g * a1
    made[:, M0], made[:, M1], made[:, M2] = m0, 0.5 * m1, 0.5 * m2
    return made


def _region(shape: str, w: Any, q: Any, *, rest: bool) -> tuple[Any, ...]:
    """g, k, m0, m1, m2 of a region: numbers or arrays."""
    k = 1.0 / q if shape == "bell" else math.sqrt(2.0)
    m0, m1, m2 = {"bell": (0.0, k, 0.0), "low_shelf": (0.0, 0.0, 1.0), "high_shelf": (1.0, -k, -1.0)}[shape]
    return (w, k, 1.0 - m0, -m1, -m2) if rest else (w, k, m0, m1, m2)


def regions(shape: str, *, warped: Array, q: Any, rest: bool = False) -> Array:
    """As region, (rows, 6), for w = tan(pi f / rate) (rows,) and q (rows,) or a number."""
    return fixed_in_rows(warped.size, *_region(shape, warped, q, rest=rest))


@lru_cache(512)
def region(shape: str, *, freq_hz: float, q: float, sample_rate: int, rest: bool = False) -> Array:
    """Coefficients of the part of the spectrum a band covers, 0 dB at its most; or, with rest, of all but that.

    A bell covers a band-pass of its own Q, a shelf a Butterworth low-pass or high-pass at its frequency. To be read
    only: the same array is given again.
    """
    return fixed(*_region(shape, prewarped(freq_hz, sample_rate), q, rest=rest))


#: A region that lets everything through.
EVERYTHING = np.array([1.0, 0.0, 1.0, 1.0, 0.0, 0.0])


def as_sections(coefficients: Array) -> Array:
    """A filter of fixed coefficients as one second-order section (1, 5): b0, b1, b2, a1, a2."""
    c1, c2, c3, m0, m1, m2 = coefficients
    # States: p' = c1 p - c2 q + c2 x, q' = c2 p + c3 q + (1 - c3) x; y = m0 x + m1 (p + p') + m2 (q + q').
    a1, a2 = -(c1 + c3), c1 * c3 + c2 * c2
    band = np.array([c2, 0.0, -c2])  # of p + p', over 1 + a1 z^-1 + a2 z^-2
    low = np.array([1.0 - c3, 2.0 * (1.0 - c3), 1.0 - c3])
    b = m0 * np.array([1.0, a1, a2]) + m1 * band + m2 * low
    return np.array([[*b, a1, a2]])


def still(shape: str, *, freq_hz: float, q: float, gain_db: float, sample_rate: int) -> Array:
    """Coefficients of what a bell or shelf at rest adds to its input (the result less the input)."""
    return fixed(*_still(shape, prewarped(freq_hz, sample_rate), q, 10.0 ** (gain_db / 80.0)))


def stills(shape: str, *, warped: Array, q: Any, gain_db: Array) -> Array:
    """As still, (rows, 6), for w = tan(pi f / rate) and gain_db (rows,), q (rows,) or a number."""
    return fixed_in_rows(warped.size, *_still(shape, warped, q, to_lin(0.25 * gain_db)))


def _still(shape: str, w: Any, q: Any, root: Any) -> tuple[Any, ...]:
    """g, k, m0, m1, m2 of what is added, with root = 10^(gain_db / 80): numbers or arrays."""
    a = root * root
    if shape == "bell":
        k = 1.0 / (q * a)
        return w, k, 0.0, k * (a * a - 1.0), 0.0
    k = 1.0 / q
    if shape == "low_shelf":
        return w / root, k, 0.0, k * (a - 1.0), a * a - 1.0
    return w * root, k, a * a - 1.0, k * (1.0 - a) * a, 1.0 - a * a


def still_matched(shape: str, *, freq_hz: float, q: float, gain_db: float, sample_rate: int) -> Array:
    """As still, after the analogue curve (dsp.matched)."""
    g, k, m0, m1, m2 = matched_one(shape, freq_hz, q, gain_db, sample_rate)
    return fixed(g, k, m0 - 1.0, m1, m2)


def response(coefficients: Array, frequencies_hz: Array, sample_rate: int) -> npt.NDArray[np.complex128]:
    """What a filter of fixed coefficients does at each frequency, as complex numbers."""
    c1, c2, _, m0, m1, m2 = coefficients
    a1 = 0.5 * (c1 + 1.0)
    g = 0.5 * c2 / a1
    k = (1.0 / a1 - 1.0) / g - g
    t = 1j * np.tan(np.pi * np.minimum(frequencies_hz / sample_rate, 0.4999)) / g
    below = t * t + k * t + 1.0
    answer: npt.NDArray[np.complex128] = m0 + 2.0 * (m1 * t + m2) / below
    return answer


@inlined
def taken(coefficients):
    """As numbers: what is written in a loop could be the array, for all the compiler knows, which would then be read
    again for each frame.
    """
    return (
        coefficients[0], coefficients[1], coefficients[2], coefficients[3], coefficients[4], coefficients[5]
    )  # fmt: skip


@inlined
def next_states(x, p, q, c1, c2, c3):
    """The next states of a still filter: x, p and q pairs, or numbers."""
    return c1 * p + (c2 * x - c2 * q), c3 * q + ((1.0 - c3) * x + c2 * p)


@inlined
def step_still(x, p, q, coefficients):
    """The next states of a still filter, and what it answers."""
    c1, c2, c3, m0, m1, m2 = coefficients
    r, s = next_states(x, p, q, c1, c2, c3)
    return r, s, m0 * x + m1 * (p + r) + m2 * (q + s)


@fused
def run_still(source, coefficients, state, add, out):
    """out = the filter's answer to source (channels, frames), added to what is there when add is set."""
    left, right, out_left, out_right = source[0], source[-1], out[0], out[-1]
    p, q = begun(state)
    numbers = taken(coefficients)
    for i in range(left.size):
        p, q, y = step_still(pair(left[i], right[i]), p, q, numbers)
        if add:
            y = pair(out_left[i], out_right[i]) + y
        out_left[i], out_right[i] = first(y), second(y)
    keep(state, p, q)


@kernel("void(f8[:,::1], f8[::1], f8[:,::1], b1, f8[:,::1])")
def filter_still(source, coefficients, state, add, out):
    """out = the answer of a filter of fixed coefficients to source (channels, frames), or with `add` out + that.

    source and out may be the same array. state (channels, 2) is carried.
    """
    run_still(source, coefficients, state, add, out)


@inlined
def _bell_coefficients(root, count, w, inverse_q, rows):
    """Coefficients of a bell for each frame's gain, given as root = 10^(gain_db / 80), with one division for both
    1 / A and a1; see the module.
    """
    c1, c2, c3, m1 = rows[C1], rows[C2], rows[C3], rows[M1]
    for i in range(count):
        a = root[i] * root[i]
        below = a * (1.0 + w * w) + w * inverse_q  # a1 = A / below
        inverse = 1.0 / (a * below)
        a1 = 2.0 * a * a * inverse
        c1[i], c2[i], c3[i] = a1 - 1.0, w * a1, 1.0 - w * w * a1
        m1[i] = 0.5 * inverse_q * (a - inverse * below)


@inlined
def _shelf_coefficients(root, count, shape, w, inverse_q, rows):
    """Coefficients of a shelf for each frame's gain, given as root = 10^(gain_db / 80); see the module."""
    g, k, m0, m1, m2 = rows[C1], rows[C2], rows[M0], rows[M1], rows[M2]
    if shape == LOW_SHELF:
        for i in range(count):
            a = root[i] * root[i]
            g[i], k[i] = w / root[i], inverse_q
            m0[i], m1[i], m2[i] = 0.0, 0.5 * inverse_q * (a - 1.0), 0.5 * (a * a - 1.0)
    else:
        for i in range(count):
            a = root[i] * root[i]
            g[i], k[i] = w * root[i], inverse_q
            m0[i], m1[i], m2[i] = a * a - 1.0, 0.5 * inverse_q * (1.0 - a) * a, 0.5 * (1.0 - a * a)
    c1, c2, c3 = rows[C1], rows[C2], rows[C3]
    for i in range(count):
        ahead = g[i]
        a1 = 2.0 / (1.0 + ahead * (ahead + k[i]))
        c1[i], c2[i], c3[i] = a1 - 1.0, ahead * a1, 1.0 - ahead * ahead * a1


@inlined
def _step_moving(x, p, q, c1, c2, c3):
    d = x - q
    return c2 * d + c1 * p, (c2 * p + x) - c3 * d


@fused
def _run_moving_bell(source, rows, state, out):
    """As run_moving for a bell, which needs its band-pass alone."""
    row1, row2, row3, gain = rows[C1], rows[C2], rows[C3], rows[M1]
    left, right, out_left, out_right = source[0], source[-1], out[0], out[-1]
    p, q = begun(state)
    for i in range(left.size):
        r, q = _step_moving(pair(left[i], right[i]), p, q, row1[i], row2[i], row3[i])
        y = pair(out_left[i], out_right[i]) + gain[i] * (p + r)
        out_left[i], out_right[i] = first(y), second(y)
        p = r
    keep(state, p, q)


@fused
def _run_two_bells(source, rows, others, state, other_state, serial, out):
    """As _run_moving_bell for one bell and the next; with serial the next one works on what the first has made."""
    row1, row2, row3, gain = rows[C1], rows[C2], rows[C3], rows[M1]
    other1, other2, other3, other_gain = others[C1], others[C2], others[C3], others[M1]
    left, right, out_left, out_right = source[0], source[-1], out[0], out[-1]
    p, q = begun(state)
    u, v = begun(other_state)
    for i in range(left.size):
        x, y = pair(left[i], right[i]), pair(out_left[i], out_right[i])
        r, q = _step_moving(x, p, q, row1[i], row2[i], row3[i])
        y = y + gain[i] * (p + r)
        p = r
        w, v = _step_moving(y if serial else x, u, v, other1[i], other2[i], other3[i])
        y = y + other_gain[i] * (u + w)
        u = w
        out_left[i], out_right[i] = first(y), second(y)
    keep(state, p, q)
    keep(other_state, u, v)


@fused
def run_moving(source, rows, state, out):
    """Add to out what the filter makes of source (channels, frames), with coefficients for each frame."""
    row1, row2, row3, rest0, rest1, rest2 = rows[C1], rows[C2], rows[C3], rows[M0], rows[M1], rows[M2]
    left, right, out_left, out_right = source[0], source[-1], out[0], out[-1]
    p, q = begun(state)
    for i in range(left.size):
        x = pair(left[i], right[i])
        r, s = _step_moving(x, p, q, row1[i], row2[i], row3[i])
        y = pair(out_left[i], out_right[i]) + (rest0[i] * x + rest1[i] * (p + r) + rest2[i] * (q + s))
        out_left[i], out_right[i] = first(y), second(y)
        p, q = r, s
    keep(state, p, q)


@kernel(
    "void(f8[:,::1], i8[::1], i8[::1], f8[:,::1], f8[::1], i8[::1], f8[::1], f8[::1], b1, f8[:,::1], f8[:,:,::1],"
    " f8[:,::1])"
)
def filter_moving(source, rows, places, gain_db, base_db, shapes, warped, inverse_q, serial, scratch, state, out):
    """Add to out what some bands add to source (channels, frames), their gains moving with every frame.

    Band k moves by row rows[k] of gain_db (rows, frames), added to base_db at its place, places[k]; shapes, warped =
    tan(pi f / rate) and inverse_q at its place say what it is, state (places, channels, 2) is carried. serial: source
    and out are the same array, the bands stand in a row. scratch (SCRATCH_ROWS, CHUNK).
    """
    bits = scratch.view(np.int64)
    total, root = scratch[0], scratch[1]
    frames = source.shape[1]
    for start in range(0, frames, CHUNK):
        count = min(CHUNK, frames - start)
        stop, waits = start + count, -1  # the place of a bell that waits for the next, to go with it
        for band in range(rows.size):
            place = places[band]
            bell, coefficients = shapes[place] == BELL, scratch[SECOND if waits >= 0 else FIRST :]
            given, base = gain_db[rows[band], start:stop], base_db[place]
            for i in range(count):
                total[i] = 0.25 * (given[i] + base)
            dbs_to_amplitude(total, root, bits[1], scratch[2], bits[2], count)
            if bell:
                _bell_coefficients(root, count, warped[place], inverse_q[place], coefficients)
                if waits < 0 and band + 1 < rows.size:
                    waits = place
                    continue
            else:
                _shelf_coefficients(root, count, shapes[place], warped[place], inverse_q[place], coefficients)
            heard, made = source[:, start:stop], out[:, start:stop]
            if waits >= 0 and bell:
                _run_two_bells(heard, scratch[FIRST:], coefficients, state[waits], state[place], serial, made)
            else:
                if waits >= 0:
                    _run_moving_bell(heard, scratch[FIRST:], state[waits], made)
                if bell:
                    _run_moving_bell(heard, coefficients, state[place], made)
                else:
                    run_moving(heard, coefficients, state[place], made)
            waits = -1


@inlined
def _matched_coefficients(total, count, table, rows):
    """Coefficients for each frame's gain in dB, between the rows of a table of g, k, m0, m1, m2 (dsp.matched)."""
    c1, c2, c3, m0, m1, m2 = rows[C1], rows[C2], rows[C3], rows[M0], rows[M1], rows[M2]
    last = table.shape[0] - 2
    for i in range(count):
        place = (total[i] + MOST_DB) * STEPS_PER_DB
        low = min(max(int(place), 0), last)
        part = min(max(place - low, 0.0), 1.0)
        near, far = table[low], table[low + 1]
        g, k = near[0] + part * (far[0] - near[0]), near[1] + part * (far[1] - near[1])
        a1 = 2.0 / (1.0 + g * (g + k))
        c1[i], c2[i], c3[i] = a1 - 1.0, g * a1, 1.0 - g * g * a1
        m0[i] = near[2] + part * (far[2] - near[2])
        m1[i] = 0.5 * (near[3] + part * (far[3] - near[3]))
        m2[i] = 0.5 * (near[4] + part * (far[4] - near[4]))


@kernel("void(f8[:,::1], i8[::1], i8[::1], f8[:,::1], f8[::1], f8[:,:,::1], f8[:,::1], f8[:,:,::1], f8[:,::1])")
def filter_moving_matched(source, rows, places, gain_db, base_db, tables, scratch, state, out):
    """As filter_moving, by tables (places, steps, 5) of dsp.matched."""
    total, coefficients = scratch[0], scratch[3:]
    frames = source.shape[1]
    for band in range(rows.size):
        place = places[band]
        for start in range(0, frames, CHUNK):
            count = min(CHUNK, frames - start)
            stop = start + count
            given = gain_db[rows[band], start:stop]
            for i in range(count):
                total[i] = given[i] + base_db[place]
            _matched_coefficients(total, count, tables[place], coefficients)
            run_moving(source[:, start:stop], coefficients, state[place], out[:, start:stop])
