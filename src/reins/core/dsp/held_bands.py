"""Parts of a sound, held: those it was split into, each by itself, and their sum; or one part that is watched, in what
it leaves of the whole. The passes are those of dsp.dynamics.
"""

import numpy as np

from reins.core.dsp.compiled import fused, inlined, kernel
from reins.core.dsp.dynamics import CHUNK, apply_gain, follow_part
from reins.core.dsp.lanes import begun, first, keep, pair, second
from reins.core.dsp.variable import step_still, taken


@kernel("void(f8[:,:,::1], f8[:,:,::1], f8[:,:,::1], f8[:,::1], f8[:,::1], f8[:,:,::1], f8[:,::1])", makes_room=True)
def hold_bands(heard, bands, state, params, scratch, gain_db, out):
    """As dynamics.follow_curve for each band: heard (bands, lanes, frames), bands (bands, channels, frames), state
    (bands, lanes, LANE_STATE), params (bands, PARAMS), gain_db (bands, gain lanes, frames); out (channels, frames) is
    the sum of what is made of them.
    """
    gain_lanes, frames = gain_db.shape[1], gain_db.shape[2]
    bits = scratch.view(np.int64)
    part = np.empty((bands.shape[1], CHUNK))
    for start in range(0, frames, CHUNK):
        count = min(CHUNK, frames - start)
        made = out[:, start : start + count]
        made[:] = 0.0
        for band in range(bands.shape[0]):
            now = params[band]
            follow_part(heard[band], start, count, state[band], now, scratch, bits, gain_db[band])
            source = bands[band, :, start : start + count]
            apply_gain(source, 0, count, scratch[0], scratch[gain_lanes - 1], now, part)
            for channel in range(made.shape[0]):
                row, more = made[channel], part[channel]
                for i in range(count):
                    row[i] += more[i]


@inlined
def _section(x, p, q, numbers):
    """The next states of a section in transposed direct form II, and what it answers (dsp.filters)."""
    b0, b1, b2, a1, a2 = numbers
    y = b0 * x + p
    return (b1 * x + q) - a1 * y, b2 * x - a2 * y, y


@inlined
def _numbers(section):
    return section[0], section[1], section[2], section[3], section[4]


@fused
def _watch_and_take(heard, source, sections, section_state, taking, taking_state, watched, part):
    """What four sections make of heard, and what a still filter takes of source: five filters in one loop, none of
    which waits for another longer than a frame.
    """
    left, right, source_left, source_right = heard[0], heard[-1], source[0], source[-1]
    watched_left, watched_right, part_left, part_right = watched[0], watched[-1], part[0], part[-1]
    one, two, three, four = (
        _numbers(sections[0]), _numbers(sections[1]), _numbers(sections[2]), _numbers(sections[3])
    )  # fmt: skip
    band = taken(taking)
    a, b = begun(section_state[0])
    c, d = begun(section_state[1])
    e, f = begun(section_state[2])
    g, h = begun(section_state[3])
    p, q = begun(taking_state)
    for i in range(left.size):
        x = pair(left[i], right[i])
        a, b, x = _section(x, a, b, one)
        c, d, x = _section(x, c, d, two)
        e, f, x = _section(x, e, f, three)
        g, h, x = _section(x, g, h, four)
        p, q, y = step_still(pair(source_left[i], source_right[i]), p, q, band)
        watched_left[i], watched_right[i], part_left[i], part_right[i] = first(x), second(x), first(y), second(y)
    keep(section_state[0], a, b)
    keep(section_state[1], c, d)
    keep(section_state[2], e, f)
    keep(section_state[3], g, h)
    keep(taking_state, p, q)


@kernel(
    "void(f8[:,::1], f8[:,::1], f8[:,::1], f8[:,:,::1], f8[::1], f8[:,::1], f8[:,::1], f8[:,::1], f8, f8[:,::1],"
    " f8[:,::1], f8[:,::1], f8[:,::1])",
    makes_room=True,
)
def hold_watched(
    heard, source, sections, section_state, taking, taking_state, state, params, output, scratch, watched, gain_db, out
):
    """out = output times source, and what a band of it is changed by: held as dynamics.follow_curve does, by the level
    of what sections (4, 5) let through of heard (lanes, frames), which is written into watched.

    taking (6,): the filter that takes the band; section_state (4, lanes, 2), taking_state (channels, 2) and state are
    carried.
    """
    gain_lanes, frames = gain_db.shape
    bits, now = scratch.view(np.int64), params[0]
    part = np.empty((source.shape[0], CHUNK))
    for start in range(0, frames, CHUNK):
        count = min(CHUNK, frames - start)
        stop = start + count
        _watch_and_take(
            heard[:, start:stop], source[:, start:stop], sections, section_state, taking, taking_state,
            watched[:, start:stop], part,
        )  # fmt: skip
        follow_part(watched, start, count, state, now, scratch, bits, gain_db)
        apply_gain(part, 0, count, scratch[0], scratch[gain_lanes - 1], now, part)
        for channel in range(out.shape[0]):
            made, more, whole = out[channel, start:], part[channel], source[channel, start:]
            for i in range(count):
                made[i] = more[i] + output * whole[i]
