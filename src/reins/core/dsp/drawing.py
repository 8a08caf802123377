"""Drawn curves over the frames of a session, bent pieces and jumps included.

Between two points f(t) = (exp(6 b t) - 1) / (exp(6 b) - 1), t from 0 to 1, b the bend of the first, straight for 0. A
jump is taken in a straight way over `ramp`, beginning where it lies. What a frame is given depends on its number alone
and on that of the last multiple of GRID before it, never on where a block begins, as long as that is such a multiple.
"""

import math

from reins.core.dsp.compiled import inlined, kernel

GRID = 64
NEARLY_STRAIGHT = 0.05  # of 6 b: below it the products of _bent would lose digits


@inlined
def _segment(at, place):
    """The last point that lies at a place or before it."""
    low, high = 0, at.size
    while high - low > 1:
        middle = (low + high) // 2
        if at[middle] <= place:
            low = middle
        else:
            high = middle
    return low


@inlined
def _run_frames(frame, per_frame, begin, upcoming, most):
    """Frames from `frame` on that lie before the place `upcoming`, counted from `begin`; between 1 and `most`."""
    count = min(most, max(1.0, math.ceil((upcoming + begin) / per_frame - frame)))
    while count < most and (frame + count) * per_frame - begin < upcoming:
        count += 1
    while count > 1 and (frame + count - 1) * per_frame - begin >= upcoming:
        count -= 1
    return count


@inlined
def _bent(out, bend, t, step, start, rise):
    """out = start + rise f over times t, t + step, ...: the exponential goes on by one product a frame."""
    curve = 6.0 * bend
    if bend == 0.0:
        for i in range(out.size):
            out[i] = start + rise * (t + step * i)
    elif abs(curve) < NEARLY_STRAIGHT:
        whole = math.expm1(curve)
        for i in range(out.size):
            out[i] = start + rise * (math.expm1(curve * (t + step * i)) / whole)
    else:
        scale = rise / math.expm1(curve)
        e, grows, start = math.exp(curve * t) * scale, math.exp(curve * step), start - scale
        for i in range(out.size):
            out[i] = start + e
            e *= grows


@kernel("void(f8[:,::1], b1, f8, f8, f8, f8, f8, f8[::1], f8[::1])")
def add_curve(points, wraps, per_frame, offset, ramp, first, way, work, out):
    """Add `way` times a curve to out (frames,), whose first frame is number `first`, a multiple of GRID.

    points (5, points): rising places, values and bends; where the last jump at or before a point lies, and from which
    value it came, at -inf where there is none. A frame lies at frame per_frame -
    offset, of which a curve that wraps takes what lies beyond whole numbers. ramp: the length of a jump, in places.
    work (GRID,) is written over.
    """
    at, value, bend, jump_at, jump_from = points[0], points[1], points[2], points[3], points[4]
    last, i = at.size - 1, 0
    while i < out.size:
        frame = first + i
        most = min(GRID - i % GRID, out.size - i)
        begin = offset
        place = frame * per_frame - begin
        if wraps:
            turns = math.floor(place)
            begin += turns
            place = frame * per_frame - begin
        if place < at[0] or (place >= at[last] and not wraps):
            here = 0 if place < at[0] else last
            count = most if here == last else int(_run_frames(frame, per_frame, begin, at[0], most))
            for k in range(count):
                work[k] = value[here]
        else:
            here = min(_segment(at, place), last - 1)
            width = at[here + 1] - at[here]
            count = int(_run_frames(frame, per_frame, begin, at[here + 1], most))
            rise = value[here + 1] - value[here]
            _bent(work[:count], bend[here], (place - at[here]) / width, per_frame / width, value[here], rise)
        since = place - jump_at[here]
        if since < ramp and place >= at[0] and frame - since / per_frame > 1e-6:  # frame 0 is no jump
            for k in range(count):
                share = min(1.0, (since + k * per_frame) / ramp)
                work[k] = jump_from[here] + (work[k] - jump_from[here]) * share
        part = out[i : i + count]
        for k in range(count):
            part[k] += way * work[k]
        i += count
