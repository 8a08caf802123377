"""Filters of dsp.variable whose settings move along rows of a block: each row of coefficients from its frame on, or,
where it is heard, straight from where a row begins to where it ends.
"""

import numpy as np

from reins.core.dsp.compiled import inlined, kernel
from reins.core.dsp.decibels import db_to_amplitude
from reins.core.dsp.matched import MOST_DB, STEPS_PER_DB
from reins.core.dsp.variable import (
    BELL,
    C1,
    C2,
    C3,
    CHUNK,
    LOW_SHELF,
    M0,
    M1,
    M2,
    run_moving,
    run_still,
)


@kernel("void(f8[:,::1], f8[:,::1], i8[::1], f8[:,::1], b1, f8[:,::1])")
def filter_in_rows(source, coefficients, begins, state, add, out):
    """As filter_still, with coefficients (rows, 6): row k from frame begins[k] on."""
    for row in range(begins.size):
        begin, end = begins[row], begins[row + 1] if row + 1 < begins.size else source.shape[1]
        run_still(source[:, begin:end], coefficients[row], state, add, out[:, begin:end])


@inlined
def _loudest(signal, out):
    """out (frames,) = the larger magnitude of all channels (channels, frames)."""
    left, right = signal[0], signal[-1]
    for i in range(out.size):
        a, b = abs(left[i]), abs(right[i])
        out[i] = a if a > b else b


@kernel("void(f8[:,::1], i8[::1], i8[::1], f8[:,:,::1], i8[::1], f8[:,:,::1], f8[:,::1], f8[:,::1])")
def watch_in_rows(source, rows, places, coefficients, begins, state, region, out):
    """As watch_regions, with coefficients (bands, rows in time, 6): row k from frame begins[k] on."""
    for band in range(rows.size):
        for part in range(begins.size):
            begin, end = begins[part], begins[part + 1] if part + 1 < begins.size else source.shape[1]
            own = state[places[band], : source.shape[0]]
            run_still(source[:, begin:end], coefficients[band, part], own, False, region[:, begin:end])
        _loudest(region, out[rows[band]])


@inlined
def _swept_coefficients(root, count, shape, warped, inverse_q, behind, rows):
    """Coefficients of a bell or shelf for each frame's gain, root = 10^(gain_db / 80), while w and 1 / Q go straight:
    (value, slope) `behind` frames before the first.
    """
    c1, c2, c3, m0, m1, m2 = rows[C1], rows[C2], rows[C3], rows[M0], rows[M1], rows[M2]
    for i in range(count):
        w, q, a = warped[0] + warped[1] * (behind + i), inverse_q[0] + inverse_q[1] * (behind + i), root[i] * root[i]
        if shape == BELL:
            g, k, m0[i], m1[i], m2[i] = w, q / a, 0.0, 0.5 * q * (a - 1.0 / a), 0.0
        elif shape == LOW_SHELF:
            g, k, m0[i], m1[i], m2[i] = w / root[i], q, 0.0, 0.5 * q * (a - 1.0), 0.5 * (a * a - 1.0)
        else:
            g, k, m0[i], m1[i], m2[i] = w * root[i], q, a * a - 1.0, 0.5 * q * (1.0 - a) * a, 0.5 * (1.0 - a * a)
        a1 = 2.0 / (1.0 + g * (g + k))
        c1[i], c2[i], c3[i] = a1 - 1.0, g * a1, 1.0 - g * g * a1


@kernel("void(f8[:,::1], f8[::1], i8, f8[:,::1], i8[::1], i8[::1], i8, f8[:,::1], f8[:,::1], f8[:,::1])")
def filter_along(source, total_db, shape, turns, begins, into, length, scratch, state, out):
    """Add to out what one band adds to source (channels, frames), its gain total_db (frames,) and its place moving.

    turns (4, rows): w where each row begins and where it ends, `length` frames later, then 1 / Q; begins, into (rows,):
    the row's first frame in the block, and how far into the row that lies. state (channels, 2) is carried.
    """
    bits = scratch.view(np.int64)
    total, root, coefficients = scratch[0], scratch[1], scratch[3:]
    frames = source.shape[1]
    for row in range(begins.size):
        warped = turns[0, row], (turns[1, row] - turns[0, row]) / length
        inverse_q = turns[2, row], (turns[3, row] - turns[2, row]) / length
        end = begins[row + 1] if row + 1 < begins.size else frames
        for start in range(begins[row], end, CHUNK):
            count = min(CHUNK, end - start)
            given = total_db[start:]
            for i in range(count):
                total[i] = 0.25 * given[i]
            db_to_amplitude(total, root, bits[1], scratch[2], bits[2], count)
            behind = into[row] + start - begins[row]
            _swept_coefficients(root, count, shape, warped, inverse_q, behind, coefficients)
            run_moving(source[:, start : start + count], coefficients, state, out[:, start : start + count])


@inlined
def _step_below(place, count):
    """The last entry of a ladder at or before a place, the one after, and how far between them it lies."""
    low = min(max(int(place), 0), max(count - 2, 0))
    return low, min(low + 1, count - 1), min(max(place - low, 0.0), 1.0)


@inlined
def _blend(tables, f_place, q_place, first, last, out):
    """Steps first .. last of the table between neighbours of tables (frequencies, Qs, steps, columns)."""
    f, f_next, f_part = _step_below(f_place, tables.shape[0])
    q, q_next, q_part = _step_below(q_place, tables.shape[1])
    for step in range(first, last + 1):
        for column in range(tables.shape[3]):
            near, far = tables[f, q, step, column], tables[f_next, q, step, column]
            near += f_part * (far - near)
            if q_next != q:
                low, high = tables[f, q_next, step, column], tables[f_next, q_next, step, column]
                near += q_part * (low + f_part * (high - low) - near)
            out[step, column] = near


@kernel(
    "void(f8[:,::1], f8[::1], f8[:,:,:,::1], f8[:,::1], i8[::1], i8[::1], i8, f8[:,:,::1], f8[:,::1], f8[:,::1],"
    " f8[:,::1])"
)
def filter_along_matched(source, total_db, tables, places, begins, into, length, ends, scratch, state, out):
    """As filter_along, between tables (frequencies, Qs, steps, 5) of dsp.matched; places (4, rows): where among the
    frequencies each row begins and ends, then among the Qs. ends (2, steps, 5) is scratch: the table there, as far as
    the row's gains reach; between them coefficients go straight.
    """
    rows, total = scratch[3:], scratch[0]
    c1, c2, c3, m0, m1, m2 = rows[C1], rows[C2], rows[C3], rows[M0], rows[M1], rows[M2]
    near, far = ends[0], ends[1]
    frames, steps = source.shape[1], tables.shape[2]
    for row in range(begins.size):
        end = begins[row + 1] if row + 1 < begins.size else frames
        for start in range(begins[row], end, CHUNK):
            count = min(CHUNK, end - start)
            given, least, most = total_db[start:], steps - 1.0, 0.0
            for i in range(count):
                place = (given[i] + MOST_DB) * STEPS_PER_DB
                total[i] = min(max(place, 0.0), steps - 1.0)
                least, most = min(least, total[i]), max(most, total[i])
            first, last = min(int(least), steps - 2), min(int(most) + 1, steps - 1)
            _blend(tables, places[0, row], places[2, row], first, last, near)
            _blend(tables, places[1, row], places[3, row], first, last, far)
            for i in range(count):
                s = min(int(total[i]), steps - 2)
                up, on = total[i] - s, (into[row] + start + i - begins[row]) / length
                a, b, c, d = (1.0 - on) * (1.0 - up), (1.0 - on) * up, on * (1.0 - up), on * up
                g = a * near[s, 0] + b * near[s + 1, 0] + c * far[s, 0] + d * far[s + 1, 0]
                k = a * near[s, 1] + b * near[s + 1, 1] + c * far[s, 1] + d * far[s + 1, 1]
                a1 = 2.0 / (1.0 + g * (g + k))
                c1[i], c2[i], c3[i] = a1 - 1.0, g * a1, 1.0 - g * g * a1
                m0[i] = a * near[s, 2] + b * near[s + 1, 2] + c * far[s, 2] + d * far[s + 1, 2]
                m1[i] = 0.5 * (a * near[s, 3] + b * near[s + 1, 3] + c * far[s, 3] + d * far[s + 1, 3])
                m2[i] = 0.5 * (a * near[s, 4] + b * near[s + 1, 4] + c * far[s, 4] + d * far[s + 1, 4])
            run_moving(source[:, start : start + count], rows, state, out[:, start : start + count])
