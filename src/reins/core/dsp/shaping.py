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

from reins.core.dsp.compiled import inlined, kernel, roomy
from reins.core.dsp.raising import TILE, Way, begin_with, fall, in_parts, keep_last, rise, turn

Array = npt.NDArray[np.float64]
SOFT, HARD, ODD, EVEN = 0, 1, 2, 3
STRAIGHT = 4  # nothing is bent, and all that is driven comes back: the way to the raised rate by itself
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
def _bend_soft(now, last, offset, rest, share, below, above, made):
    """What soft adds at the frames `now`, those before them being `last`; below holds the roots of those before, above
    is given those of these. All numbers are as wide as the signal, which is twice as fast where that is narrow.
    """
    one, half = now.dtype.type(1.0), now.dtype.type(0.5)
    for i in range(now.size):
        u = now[i] + offset
        above[i] = math.sqrt(one + u * u)
    for i in range(now.size):
        total = (now[i] + offset) + (last[i] + offset)
        made[i] = (total / (above[i] + below[i]) - rest) * share - (half * total - offset)


@inlined
def _bend_part(now, last, kind, offset, rest, share, made):
    """What the others add; hard and odd compare integrals, which takes wide numbers."""
    if kind == HARD:
        for i in range(now.size):
            u0, u1 = last[i] + offset, now[i] + offset
            middle, step = 0.5 * (u1 + u0), u1 - u0
            # Where both lie on one straight piece, or too near for a quotient, the curve at their middle is it.
            near = abs(step) < 1e-5 or max(abs(u0), abs(u1)) <= 1.0
            by = 1.0 if near else step
            quotient = (_clip_integral(u1) - _clip_integral(u0)) / by
            made[i] = (min(1.0, max(-1.0, middle)) if near else quotient) - middle
    elif kind == ODD:
        for i in range(now.size):
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
        one, half = now.dtype.type(1.0), now.dtype.type(0.5)
        narrow, least, most = now.dtype.type(offset), now.dtype.type(rest), now.dtype.type(share)
        for i in range(now.size):
            u = now[i] + narrow
            made[i] = (u + half * (math.sqrt(one + u * u) - one) - least) * most - now[i]


@roomy
def _bend(driven, frames, kind, offset, out, gone):
    """As bend, of so many frames; planes as in dsp.raising."""
    as_wide = driven.dtype.type
    rest, share = _curve(offset, kind), 1.0 / _slope(offset, kind)
    count, past = driven.shape[1], gone.shape[2]
    begin_with(gone, out)
    below, above = np.empty(TILE, driven.dtype), np.empty(TILE, driven.dtype)
    # The sample before each lies at the same place of the plane before, that of the first plane's one frame earlier in
    # the last. So the loops have no branches but those that choose between two values, and vectorise.
    for channel in range(driven.shape[0]):
        for start in range(0, frames, TILE):
            n = min(TILE, frames - start)
            last = driven[channel, count - 1, start:][:n]
            if kind == SOFT:
                for i in range(n):
                    u = last[i] + as_wide(offset)
                    below[i] = math.sqrt(as_wide(1.0) + u * u)
            for plane in range(count):
                now, made = driven[channel, plane, 1 + start :][:n], out[channel, plane, past + start :][:n]
                if kind == STRAIGHT:
                    for i in range(n):  # to assign the whole makes numba compile 37 functions more
                        made[i] = now[i]
                elif kind == SOFT:
                    _bend_soft(now, last, as_wide(offset), as_wide(rest), as_wide(share), below, above, made)
                    below, above = above, below
                else:
                    _bend_part(now, last, kind, offset, rest, share, made)
                last = now
    keep_last(gone, out, frames)


@kernel("void(f8[:,:,::1], i8, f8, f8[:,:,::1], f8[:,:,::1])", makes_room=True)
def bend(driven, kind, offset, out, gone):
    """What the curve adds to driven (channels, planes, 1 + frames), the frame before them first, into out (channels,
    planes, past + frames), which begins with gone; offset: b, within -0.9 .. 0.9.
    """
    _bend(driven, driven.shape[2] - 1, kind, offset, out, gone)


@kernel("void(f8[:,::1], f8, i8, f8, i8[:,::1], f4[::1], i8[::1], i8, f4[::1], f4[::1], f8[:,::1])", makes_room=True)
def bend_raised(signal, k, kind, offset, steps, taps, counts, wait, gone, room, out):
    """out (channels, frames) = what the curve adds to k times signal at a raised rate, over k.

    steps, taps, counts, wait, gone and room: a raising.Way, gone is carried. All of the way in one kernel: to call one
    for each step took as long as a step does.
    """
    frames = signal.shape[1]
    driven, _, first_tap, end, past_end = rise(signal, k, steps, taps, counts, gone, room)
    made, past, end, past_end = turn(frames, steps, counts, gone, room, signal.shape[0], end, past_end)
    _bend(driven, frames, kind, offset, made, past)
    fall(made, k, steps, taps, counts, wait, gone, room, (first_tap, end, past_end), out)


class Bender:
    """What a curve adds to a signal at a raised rate, raising.LATENCY_FRAMES late."""

    carried = ("way",)

    def __init__(self, channels: int, sample_rate: int, times: int) -> None:
        self.way = Way(channels, sample_rate, times)

    def process(self, signal: Array, k: float, kind: int, offset: float) -> Array:
        """What it adds to k times the signal (channels, frames), over k; offset: b, within -0.9 .. 0.9."""
        return in_parts(signal, lambda part: self._added(part, k, kind, offset))

    def _added(self, signal: Array, k: float, kind: int, offset: float) -> Array:
        way, out = self.way, np.empty(signal.shape)
        room = way.room(signal.shape[1])
        bend_raised(signal, k, kind, offset, way.steps, way.taps, way.counts, way.wait, way.gone, room, out)
        return out
