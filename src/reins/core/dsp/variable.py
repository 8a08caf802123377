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

from reins.core.dsp.compiled import flush, fused, inlined, kernel
from reins.core.dsp.decibels import db_to_amplitude
from reins.core.dsp.gains import to_lin
from reins.core.dsp.matched import MOST_DB, STEPS_PER_DB, matched_one

Array = npt.NDArray[np.float64]

BELL, LOW_SHELF, HIGH_SHELF = 0, 1, 2
SHAPES = {"bell": BELL, "low_shelf": LOW_SHELF, "high_shelf": HIGH_SHELF}
CHUNK = 512
SCRATCH_ROWS = 9
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


@fused
def run_still(source, coefficients, state, add, out):
    """out = the filter's answer to source (channels, frames), added to what is there when add is set."""
    c1, c2, c3, m0, m1, m2 = coefficients
    into = 1.0 - c3
    channels, frames = source.shape
    if channels == 2:
        left, right, out_left, out_right = source[0], source[1], out[0], out[1]
        p1, p2 = state[0]
        q1, q2 = state[1]
        for i in range(frames):
            x, z = left[i], right[i]
            r1, s1 = c1 * p1 + (c2 * x - c2 * p2), c1 * q1 + (c2 * z - c2 * q2)
            r2, s2 = c3 * p2 + (into * x + c2 * p1), c3 * q2 + (into * z + c2 * q1)
            out_left[i] = (out_left[i] if add else 0.0) + (m0 * x + m1 * (p1 + r1) + m2 * (p2 + r2))
            out_right[i] = (out_right[i] if add else 0.0) + (m0 * z + m1 * (q1 + s1) + m2 * (q2 + s2))
            p1, p2, q1, q2 = r1, r2, s1, s2
        state[0, 0], state[0, 1], state[1, 0], state[1, 1] = flush(p1), flush(p2), flush(q1), flush(q2)
    else:
        only, out_only = source[0], out[0]
        p1, p2 = state[0]
        for i in range(frames):
            x = only[i]
            r1, r2 = c1 * p1 + (c2 * x - c2 * p2), c3 * p2 + (into * x + c2 * p1)
            out_only[i] = (out_only[i] if add else 0.0) + (m0 * x + m1 * (p1 + r1) + m2 * (p2 + r2))
            p1, p2 = r1, r2
        state[0, 0], state[0, 1] = flush(p1), flush(p2)


@kernel("void(f8[:,::1], f8[::1], f8[:,::1], b1, f8[:,::1])")
def filter_still(source, coefficients, state, add, out):
    """out = the answer of a filter of fixed coefficients to source (channels, frames), or with `add` out + that.

    source and out may be the same array. state (channels, 2) is carried.
    """
    run_still(source, coefficients, state, add, out)


@inlined
def loudest(signal, out):
    """out (frames,) = the larger magnitude of all channels (channels, frames)."""
    first = signal[0]
    for i in range(out.size):
        out[i] = abs(first[i])
    for channel in range(1, signal.shape[0]):
        other = signal[channel]
        for i in range(out.size):
            a = abs(other[i])
            out[i] = a if a > out[i] else out[i]


@kernel("void(f8[:,::1], i8[::1], i8[::1], f8[:,::1], f8[:,:,::1], f8[:,::1], f8[:,::1])")
def watch_regions(source, rows, places, coefficients, state, region, out):
    """The magnitude of what each band covers of source (channels, frames), the louder channel.

    Band k of coefficients (bands, 6) fills row rows[k] of out (rows, frames) and has its state, carried, at places[k]
    of state (places, channels or more, 2). region (channels, frames) is scratch.
    """
    for band in range(rows.size):
        run_still(source, coefficients[band], state[places[band]], False, region)
        loudest(region, out[rows[band]])


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


@fused
def _run_moving_bell(source, rows, state, out):
    """As run_moving for a bell, which needs its band-pass alone."""
    row1, row2, row3, gain = rows[C1], rows[C2], rows[C3], rows[M1]
    left, out_left, right, out_right = source[0], out[0], source[-1], out[-1]
    two = source.shape[0] == 2
    p1, p2 = state[0]
    q1, q2 = state[-1]
    for i in range(left.size):
        c1, c2, c3, m = row1[i], row2[i], row3[i], gain[i]
        x, z = left[i], right[i]
        d, e = x - p2, z - q2
        r1, s1 = c2 * d + c1 * p1, c2 * e + c1 * q1
        r2, s2 = (c2 * p1 + x) - c3 * d, (c2 * q1 + z) - c3 * e
        out_left[i] += m * (p1 + r1)
        if two:
            out_right[i] += m * (q1 + s1)
        p1, p2, q1, q2 = r1, r2, s1, s2
    state[-1, 0], state[-1, 1] = flush(q1), flush(q2)
    state[0, 0], state[0, 1] = flush(p1), flush(p2)


@fused
def run_moving(source, rows, state, out):
    """Add to out what the filter makes of source (channels, frames), with coefficients for each frame."""
    row1, row2, row3, rest0, rest1, rest2 = rows[C1], rows[C2], rows[C3], rows[M0], rows[M1], rows[M2]
    p1, p2 = state[0]
    left, out_left = source[0], out[0]
    if source.shape[0] == 2:
        q1, q2 = state[1]
        right, out_right = source[1], out[1]
        for i in range(left.size):
            x, z = left[i], right[i]
            c1, c2, c3, m0, m1, m2 = row1[i], row2[i], row3[i], rest0[i], rest1[i], rest2[i]
            d, e = x - p2, z - q2
            r1, s1 = c2 * d + c1 * p1, c2 * e + c1 * q1
            r2, s2 = (c2 * p1 + x) - c3 * d, (c2 * q1 + z) - c3 * e
            out_left[i] += m0 * x + m1 * (p1 + r1) + m2 * (p2 + r2)
            out_right[i] += m0 * z + m1 * (q1 + s1) + m2 * (q2 + s2)
            p1, p2, q1, q2 = r1, r2, s1, s2
        state[1, 0], state[1, 1] = flush(q1), flush(q2)
    else:
        for i in range(left.size):
            x, c1, c2, c3 = left[i], row1[i], row2[i], row3[i]
            d = x - p2
            r1, r2 = c2 * d + c1 * p1, (c2 * p1 + x) - c3 * d
            out_left[i] += rest0[i] * x + rest1[i] * (p1 + r1) + rest2[i] * (p2 + r2)
            p1, p2 = r1, r2
    state[0, 0], state[0, 1] = flush(p1), flush(p2)


@kernel(
    "void(f8[:,::1], i8[::1], i8[::1], f8[:,::1], f8[::1], i8[::1], f8[::1], f8[::1], f8[:,::1], f8[:,:,::1],"
    " f8[:,::1])"
)
def filter_moving(source, rows, places, gain_db, base_db, shapes, warped, inverse_q, scratch, state, out):
    """Add to out what some bands add to source (channels, frames), their gains moving with every frame.

    Band k moves by row rows[k] of gain_db (rows, frames), added to base_db at its place, places[k]; shapes, warped =
    tan(pi f / rate) and inverse_q at its place say what it is, state (places, channels, 2) is carried. source and out
    may be the same array: then the bands stand in series. scratch (SCRATCH_ROWS, CHUNK).
    """
    bits = scratch.view(np.int64)
    total, root, coefficients = scratch[0], scratch[1], scratch[3:]
    frames = source.shape[1]
    for band in range(rows.size):
        place = places[band]
        for start in range(0, frames, CHUNK):
            count = min(CHUNK, frames - start)
            stop = start + count
            given = gain_db[rows[band], start:stop]
            for i in range(count):
                total[i] = 0.25 * (given[i] + base_db[place])
            db_to_amplitude(total, root, bits[1], scratch[2], bits[2], count)
            w, inverse = warped[place], inverse_q[place]
            if shapes[place] == BELL:
                _bell_coefficients(root, count, w, inverse, coefficients)
                _run_moving_bell(source[:, start:stop], coefficients, state[place], out[:, start:stop])
            else:
                _shelf_coefficients(root, count, shapes[place], w, inverse, coefficients)
                run_moving(source[:, start:stop], coefficients, state[place], out[:, start:stop])


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
