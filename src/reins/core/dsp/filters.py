"""Second-order sections: Butterworth cuts and the kernel that runs a cascade with carried state.

Our own kernel rather than scipy.signal.sosfilt: scipy stays out of start-up, and this one takes its state as an
array that a processor can copy when a setting glides.
"""

import math

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import inlined, kernel
from reins.core.dsp.lanes import begun, first, keep, pair, second

Array = npt.NDArray[np.float64]


def _section(b0: float, b1: float, b2: float, a0: float, a1: float, a2: float) -> list[float]:
    return [b0 / a0, b1 / a0, b2 / a0, a1 / a0, a2 / a0]


def butterworth_cut(kind: str, *, cutoff_hz: float, order: int, sample_rate: int) -> Array:
    """Sections (order+1)//2 rows of b0, b1, b2, a1, a2 of a Butterworth "low_cut" or "high_cut".

    Bilinear transform with the cutoff prewarped; each pole pair is a cookbook low- or high-pass with
    Q = 1 / (2 sin((2k+1) pi / (2 order))) (R. Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter
    coefficients"). A cutoff at or above 0.499 of the sample rate is taken as that.
    """
    w = 2.0 * math.pi * min(cutoff_hz, 0.499 * sample_rate) / sample_rate
    cos_w, sin_w = math.cos(w), math.sin(w)
    sign = 1.0 if kind == "high_cut" else -1.0
    rows = []
    for k in range(order // 2):
        alpha = sin_w * math.sin((2 * k + 1) * math.pi / (2 * order))
        edge = (1.0 - sign * cos_w) / 2.0
        rows.append(_section(edge, sign * 2.0 * edge, edge, 1.0 + alpha, -2.0 * cos_w, 1.0 - alpha))
    if order % 2:
        t = math.tan(w / 2.0)
        top = t if kind == "high_cut" else 1.0
        rows.append(_section(top, sign * top, 0.0, t + 1.0, t - 1.0, 0.0))
    return np.array(rows)


def ring_s(frequency_hz: float, q: float) -> float:
    """How long a resonance of second order takes to fall by 60 dB: its amplitude goes as exp(-pi f t / Q), below Q 0.5
    as the slower of its two real poles.
    """
    damping = 0.5 / q
    slower = damping if damping <= 1.0 else damping - math.sqrt(damping * damping - 1.0)
    return 3.0 * math.log(10.0) / (2.0 * math.pi * frequency_hz * slower)


def sections_response(sections: Array, frequencies_hz: Array, sample_rate: int) -> npt.NDArray[np.complex128]:
    """What a cascade does at each frequency, as complex numbers."""
    z = np.exp(-2j * np.pi * np.minimum(frequencies_hz / sample_rate, 0.5))
    answer = np.ones(frequencies_hz.shape, complex)
    for b0, b1, b2, a1, a2 in sections:
        answer *= (b0 + (b1 + b2 * z) * z) / (1.0 + (a1 + a2 * z) * z)
    return answer


@kernel("void(f8[:], f8, i8, f8, f8[:,:,::1])")
def _fill_cuts(cutoff_hz, sign, order, sample_rate, out):
    """butterworth_cut for each cutoff (rows,) into out (rows, order / 2, 5), order even; one by one, since sines of
    numpy's may differ by where in an array a value stands.
    """
    for row in range(cutoff_hz.size):
        w = 2.0 * math.pi * min(cutoff_hz[row], 0.499 * sample_rate) / sample_rate
        cos_w, sin_w = math.cos(w), math.sin(w)
        edge = (1.0 - sign * cos_w) / 2.0
        for k in range(order // 2):
            alpha = sin_w * math.sin((2 * k + 1) * math.pi / (2 * order))
            a0 = 1.0 + alpha
            out[row, k, 0], out[row, k, 1], out[row, k, 2] = edge / a0, sign * 2.0 * edge / a0, edge / a0
            out[row, k, 3], out[row, k, 4] = -2.0 * cos_w / a0, (1.0 - alpha) / a0


def butterworth_cuts(kind: str, *, cutoff_hz: Array, order: int, sample_rate: int) -> Array:
    """butterworth_cut of even order for each cutoff (rows,): (rows, order / 2, 5)."""
    out = np.empty((cutoff_hz.size, order // 2, 5))
    _fill_cuts(cutoff_hz, 1.0 if kind == "high_cut" else -1.0, order, float(sample_rate), out)
    return out


@inlined
def _run_two(sections, state, left, right):
    """Two sections in one loop: neither waits for the other, but for one sample."""
    b0, b1, b2, a1, a2 = sections[0]
    c0, c1, c2, d1, d2 = sections[1]
    p1, p2 = begun(state[0])
    q1, q2 = begun(state[1])
    for i in range(left.size):
        x = pair(left[i], right[i])
        y = b0 * x + p1
        p1 = (b1 * x + p2) - a1 * y
        p2 = b2 * x - a2 * y
        z = c0 * y + q1
        q1 = (c1 * y + q2) - d1 * z
        q2 = c2 * y - d2 * z
        left[i], right[i] = first(z), second(z)
    keep(state[0], p1, p2)
    keep(state[1], q1, q2)


@inlined
def _run_one(section, state, left, right):
    b0, b1, b2, a1, a2 = section
    p1, p2 = begun(state)
    for i in range(left.size):
        x = pair(left[i], right[i])
        y = b0 * x + p1
        p1 = (b1 * x + p2) - a1 * y
        p2 = b2 * x - a2 * y
        left[i], right[i] = first(y), second(y)
    keep(state, p1, p2)


@inlined
def _run_sections(sections, state, signal):
    count = sections.shape[0]
    for channel in range(0, signal.shape[0], 2):
        both = signal[channel : channel + 2]
        left, right = both[0], both[-1]
        for row in range(0, count - 1, 2):
            _run_two(sections[row:], state[row:, channel : channel + 2], left, right)
        if count % 2:
            _run_one(sections[count - 1], state[count - 1, channel : channel + 2], left, right)


@kernel("void(f8[:,::1], f8[:,:,::1], f8[:,::1])")
def run_sections(sections, state, signal):
    """Filter signal (channels, frames) in place through sections (n, 5); state (n, channels, 2) is carried.

    Transposed direct form II: y = b0 x + s1; s1 = b1 x - a1 y + s2; s2 = b2 x - a2 y.
    """
    _run_sections(sections, state, signal)


@kernel("void(f8[:,:,::1], i8[::1], f8[:,:,::1], f8[:,::1])")
def run_sections_in_rows(sections, begins, state, signal):
    """As run_sections, with sections (rows, n, 5): row k from frame begins[k] on."""
    for row in range(begins.size):
        end = begins[row + 1] if row + 1 < begins.size else signal.shape[1]
        _run_sections(sections[row], state, signal[:, begins[row] : end])
