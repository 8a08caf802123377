"""Bending of a waveform: what a curve without memory adds to a signal, at a raised rate.

For u, the signal times k = 10^(drive_db / 20) - 1, and an offset b, what is added is f(u + b) - f(b), over f'(b), less
u; so nothing is added where the curve is straight, and the signal itself passes by untouched. The curves:

    soft    f = u / sqrt(1 + u^2)              bends at all levels; all odd harmonics
    hard    f = u within -1 .. 1, else +-1     straight up to a corner
    odd     f = u - u^3 / 3 within -1 .. 1, else +-2/3   below the corner the third harmonic alone: of a sine of
            amplitude A it is A^3 / 12
    even    f = u + (sqrt(1 + u^2) - 1) / 2    even harmonics alone

soft, hard and odd are taken by the mean of the curve between two samples, (F(u1) - F(u0)) / (u1 - u0), F the curve's
integral, which takes most of what would fold back (J. D. Parker, V. Zavalishin, E. Le Bivic, "Reducing the aliasing of
nonlinear waveshaping using continuous-time convolution", DAFx 2016); what is straight is then averaged alike, so that
its difference stays nothing. For soft, F = sqrt(1 + u^2), and the quotient comes without a small difference:
(u1 + u0) / (F(u1) + F(u0)).
"""

import math

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import inlined, kernel

Array = npt.NDArray[np.float64]
SOFT, HARD, ODD, EVEN = 0, 1, 2, 3
TILE = 512  # frames worked on at a time
KINDS = {"soft": SOFT, "hard": HARD, "odd": ODD, "even": EVEN}


@inlined
def _curve(u, kind):
    if kind == SOFT:
        return u / math.sqrt(1.0 + u * u)
    if kind == EVEN:
        return u + 0.5 * (math.sqrt(1.0 + u * u) - 1.0)
    c = min(1.0, max(-1.0, u))
    return c if kind == HARD else c - c * c * c / 3.0


@inlined
def _slope(u, kind):
    if kind == SOFT:
        return (1.0 + u * u) ** -1.5
    if kind == EVEN:
        return 1.0 + 0.5 * u / math.sqrt(1.0 + u * u)
    return 1.0 if kind == HARD else 1.0 - u * u


@inlined
def _clip_integral(u):
    a = abs(u)
    return 0.5 * u * u if a <= 1.0 else a - 0.5


@inlined
def _odd_integral(u):
    a = abs(u)
    return u * u * (0.5 - u * u / 12.0) if a <= 1.0 else 2.0 / 3.0 * a - 0.25


@inlined
def _bend_part(now, last, kind, offset, rest, share, roots, made):
    """What is added at the frames `now`, those before them being `last`."""
    count = now.size
    if kind == SOFT:
        roots[0] = math.sqrt(1.0 + (last[0] + offset) ** 2)
        above = roots[1:]
        for i in range(count):  # each root is of two means
            u = now[i] + offset
            above[i] = math.sqrt(1.0 + u * u)
        for i in range(count):
            total = (now[i] + offset) + (last[i] + offset)
            made[i] = (total / (above[i] + roots[i]) - rest) * share - (0.5 * total - offset)
    elif kind == HARD:
        for i in range(count):
            u0, u1 = last[i] + offset, now[i] + offset
            middle, step = 0.5 * (u1 + u0), u1 - u0
            # Where both lie on one straight piece, or too near for a quotient, the curve at their middle is it.
            near = abs(step) < 1e-5 or max(abs(u0), abs(u1)) <= 1.0
            by = 1.0 if near else step
            quotient = (_clip_integral(u1) - _clip_integral(u0)) / by
            made[i] = (min(1.0, max(-1.0, middle)) if near else quotient) - middle
    elif kind == ODD:
        for i in range(count):
            u0, u1 = last[i] + offset, now[i] + offset
            total, step, squares = u1 + u0, u1 - u0, u1 * u1 + u0 * u0
            near = abs(step) < 1e-5
            by = 1.0 if near else step
            quotient = (_odd_integral(u1) - _odd_integral(u0)) / by
            middle = min(1.0, max(-1.0, 0.5 * total))
            beyond = middle - middle * middle * middle / 3.0 if near else quotient
            inside = max(abs(u0), abs(u1)) <= 1.0
            mean = total * (0.5 - squares * (1.0 / 12.0)) if inside else beyond
            made[i] = (mean - rest) * share - (0.5 * total - offset)
    else:
        for i in range(count):
            u = now[i] + offset
            made[i] = (u + 0.5 * (math.sqrt(1.0 + u * u) - 1.0) - rest) * share - now[i]


@kernel("void(f8[:,::1], i8, f8, f8[::1], f8[:,::1])", "void(f4[:,::1], i8, f8, f8[::1], f4[:,::1])")
def bend(driven, kind, offset, before, out):
    """What the curve adds to driven (channels, frames) into out; offset: b, within -0.9 .. 0.9; before (channels,): the
    last sample before, carried.
    """
    rest, share = _curve(offset, kind), 1.0 / _slope(offset, kind)
    frames = driven.shape[1]
    roots = np.empty(TILE + 1)
    for channel in range(driven.shape[0]):
        # What lies before each frame is the row itself, one to the left: of the first alone it is carried. So the loops
        # have no branches but those that choose between two values, and vectorise.
        first = float(driven[channel, 0])
        _bend_part(driven[channel, :1], np.full(1, before[channel]), kind, offset, rest, share, roots, out[channel, :1])
        for start in range(1, frames, TILE):
            stop = min(start + TILE, frames)
            now, last = driven[channel, start:stop], driven[channel, start - 1 : stop - 1]
            _bend_part(now, last, kind, offset, rest, share, roots, out[channel, start:stop])
        before[channel] = first if frames == 1 else driven[channel, frames - 1]
