"""Level, static curve, ballistics and gain: the passes of every level-driven processor.

Our own because no library offers block-wise dynamics with carried state. Each kernel walks its block in
chunks of CHUNK frames and, within a chunk, in passes that vectorise: logarithm and power are those of dsp.decibels, the
static curve has no branches, and the one-pole recursion stands alone in its loop.

Source of curve and ballistics: Giannoulis, Massberg, Reiss, "Digital Dynamic Range Compressor Design: A
Tutorial and Analysis", J. Audio Eng. Soc. 60(6), 2012; cited below by equation. The gate, in dsp.gating, shares level
and gain.
"""

import numpy as np

from reins.core.dsp.compiled import inlined, kernel
from reins.core.dsp.decibels import FLOOR_AMPLITUDE, amplitude_to_db, db_to_amplitude

CHUNK = 1024
SCRATCH_ROWS = 5

# State of one gain lane: gain and slow gain in dB, frames of hold left, mean square; of the automatic release the
# valley, frames until it ends and until demand does, frames that has lasted.
GAIN, SLOW, HOLD, MEAN_SQUARE, VALLEY, VALLEY_LEFT, DEMAND_LEFT, DEMAND_AGE = 0, 1, 2, 3, 4, 5, 6, 7
LANE_STATE = 8
TABLE_LOWEST_DB, TABLE_STEPS_PER_DB = -140.0, 16.0  # of tables of gains; those of dsp.curving
VALLEY_NEAR_DB = 0.1  # a dip within this of the valley counts as it

# Places of the settings, ready for the kernel, in its parameter array. One array costs a tenth of passing twenty
# numbers one by one.
BLEND, RMS_K, LINK, LINK_BY_MEAN = 0, 1, 2, 3  # 0 peak .. 1 RMS; 0 apart .. 1 tied
THRESHOLD_DB, SLOPE, KNEE_DB, RANGE_DB = 4, 5, 6, 7  # slope = 1/ratio - 1
ATTACK_K, RELEASE_K, HOLD_FRAMES, AUTO_RELEASE, FILL_K, DRAIN_K = 8, 9, 10, 11, 12, 13
OUTPUT, MID_SIDE, FIRST_DRY, FIRST_WET, SECOND_DRY, SECOND_WET = 14, 15, 16, 17, 18, 19
# Which side of the threshold the curve acts on (1 above, -1 below), whether attack is the way back to 0 dB, the sign of
# the gain: (1, 0, 1) compresses, (-1, 1, 1) expands downward, (1, 0, -1) upward; and what the key's level must reach.
SIDE, MIRRORED, GAIN_SIGN, KEY_FLOOR_DB = 20, 21, 22, 23
VALLEY_FRAMES = 24
SOFT_RANGE = 25  # whether the range is approached over its last SOFT_DB
PARAMS = 26
SOFT_DB = 3.0


@inlined
def lane_level_db(signal, level, level_bits, work, work_bits, rms, rms_bits, count, blend, rms_k, state):
    """Level of one lane in dB: peak, RMS with a one-pole window, or a blend of the two in dB."""
    if blend < 1.0:
        for i in range(count):
            a = abs(signal[i])
            level[i] = a if a > FLOOR_AMPLITUDE else FLOOR_AMPLITUDE
        amplitude_to_db(level, level_bits, work, work_bits, count)
    if blend > 0.0:
        keep = 1.0 - rms_k
        ms = state[MEAN_SQUARE]
        for i in range(count):
            work[i] = rms_k * (signal[i] * signal[i])
        for i in range(count):
            ms = keep * ms + work[i]
            rms[i] = ms
        state[MEAN_SQUARE] = ms if ms > 1e-30 else 0.0
        for i in range(count):
            rms[i] = rms[i] if rms[i] > FLOOR_AMPLITUDE * FLOOR_AMPLITUDE else FLOOR_AMPLITUDE * FLOOR_AMPLITUDE
        amplitude_to_db(rms, rms_bits, work, work_bits, count)
        # The mean square is a power: half its dB value is the level.
        if blend >= 1.0:
            for i in range(count):
                level[i] = 0.5 * rms[i]
        else:
            for i in range(count):
                level[i] = (1.0 - blend) * level[i] + blend * 0.5 * rms[i]


@inlined
def softened(d, knee_db, half, knee_scale):
    """How far a level is over the threshold, d dB, with a knee: d far above, 0 far below, a parabola between."""
    u = d + half
    u = u if u > 0.0 else 0.0
    u = u if u < knee_db else knee_db
    past = d - half
    past = past if past > 0.0 else 0.0
    return u * u * knee_scale + past


@inlined
def _over_threshold_gain(level, target, count, side, threshold_db, slope, knee_db, range_db):
    """Gain of the static curve, eq. (4) of the paper less its input, without branches; side -1 acts below instead, a
    slope above 0 lifts.
    """
    half = 0.5 * knee_db
    knee_scale = 0.5 / knee_db if knee_db > 0.0 else 0.0
    for i in range(count):
        g = slope * softened(side * (level[i] - threshold_db), knee_db, half, knee_scale)
        g = g if g < range_db else range_db
        target[i] = g if g > -range_db else -range_db


@inlined
def _into_range(target, count, range_db):
    """Gains without bounds, so that they come to a range softly: straight up to SOFT_DB before it, then x as
    SOFT_DB x / (SOFT_DB + x).
    """
    soft = min(SOFT_DB, range_db)
    for i in range(count):
        g = target[i]
        over = max(abs(g) - (range_db - soft), 0.0)
        far = min(abs(g), range_db - soft) + (soft * over / (soft + over) if over > 0.0 else 0.0)
        target[i] = far if g > 0.0 else -far


@inlined
def nearer(g, target, attack, release):
    """The next gain: one pole towards what is wanted, by direction. What waits for the gain before is one product, one
    sum and a choice.
    """
    down, up = (1.0 - attack) * g + attack * target, (1.0 - release) * g + release * target
    return down if target < g else up


@inlined
def smooth(target, gain, count, attack_k, release_k, hold_frames, state):
    """One pole on the gain in dB, branching by direction (eq. (17) on the gain); hold delays the way back."""
    g = state[GAIN]
    attack_keep, release_keep = 1.0 - attack_k, 1.0 - release_k
    if hold_frames == 0:
        for i in range(count):
            t = target[i]
            down = attack_keep * g + attack_k * t
            up = release_keep * g + release_k * t
            g = down if t < g else up
            gain[i] = g
    else:
        left = state[HOLD]
        for i in range(count):
            t = target[i]
            if t <= g:
                g = attack_keep * g + attack_k * t
                left = hold_frames
            elif left > 0:
                left -= 1
            else:
                g = release_keep * g + release_k * t
            gain[i] = g
        state[HOLD] = left
    state[GAIN] = g if abs(g) > 1e-30 else 0.0


@inlined
def slow_step(slow, fast, target, fill_k, drain_k, span, valley):
    """The next slow gain of the automatic release, all in dB: it fills towards the valley of the fast gain while more
    is wanted than it holds, and drains otherwise; the deeper of the two is used.

    valley: state (valley, frames until it ends, frames until demand does, frames it has lasted). Demand lasts `span`
    frames longer than it is there and counts `span` frames later, so that a lone hit fills no more than it is long. The
    valley is the deepest the fast gain has
    been over `span` frames, half a period of the lowest tone: so the slow gain comes to rest there, and a steady bass
    note is held by a gain that stands still instead of one that follows its every half wave.
    """
    if fast <= valley[0] + VALLEY_NEAR_DB:
        valley[0], valley[1] = min(fast, valley[0]), span
    elif valley[1] > 0.0:
        valley[1] -= 1.0
    else:
        valley[0] = fast
    if target < slow:
        valley[2] = span
    elif valley[2] > 0.0:
        valley[2] -= 1.0
    valley[3] = valley[3] + 1.0 if valley[2] > 0.0 else 0.0
    goal = valley[0] if valley[3] > span else max(target, slow)
    return slow + (fill_k if goal < slow else drain_k) * (goal - slow)


@inlined
def slow_release(target, gain, count, params, state):
    """The second release of the automatic kind, into gain: the deeper of it and the fast one."""
    slow, fill_k, drain_k, span = state[SLOW], params[FILL_K], params[DRAIN_K], params[VALLEY_FRAMES]
    for i in range(count):
        slow = slow_step(slow, gain[i], target[i], fill_k, drain_k, span, state[VALLEY:])
        gain[i] = slow if slow < gain[i] else gain[i]
    state[SLOW] = slow if abs(slow) > 1e-30 else 0.0


@inlined
def levels_db(heard, start, count, scratch, bits, state, params):
    """Level of each lane in dB into the first rows of scratch, linked as asked."""
    link, blend, by_mean = params[LINK], params[BLEND], params[LINK_BY_MEAN] > 0.0
    if heard.shape[0] == 2 and link == 1.0 and blend == 0.0 and not by_mean:
        # The louder of two peaks: one logarithm instead of two.
        first, second = heard[0, start:], heard[1, start:]
        for i in range(count):
            a, b = abs(first[i]), abs(second[i])
            scratch[2, i] = a if a > b else b
        lane_level_db(
            scratch[2], scratch[0], bits[0], scratch[3], bits[3], scratch[4], bits[4], count, 0.0, 0.0, state[0]
        )
        return
    for lane in range(heard.shape[0]):
        lane_level_db(
            heard[lane, start:], scratch[lane], bits[lane], scratch[2], bits[2], scratch[3], bits[3],
            count, blend, params[RMS_K], state[lane],
        )  # fmt: skip
    if heard.shape[0] == 2 and link > 0.0:
        for i in range(count):
            a, b = scratch[0, i], scratch[1, i]
            tied = 0.5 * (a + b) if by_mean else (a if a > b else b)
            scratch[0, i], scratch[1, i] = a + link * (tied - a), b + link * (tied - b)


@inlined
def _mix(gain, mixing, start, count, levelled):
    """gain = dry + wet * gain, where dry and wet move; times the output, where all lanes are acted on."""
    output, dry, wet = mixing[0, start:], mixing[1, start:], mixing[2, start:]
    if levelled:
        for i in range(count):
            gain[i] = output[i] * (dry[i] + wet[i] * gain[i])
    else:
        for i in range(count):
            gain[i] = dry[i] + wet[i] * gain[i]


@inlined
def apply_gain(source, start, count, first_gain, second_gain, params, out):
    """out = output * source * (dry + wet * gain) on the lanes that are on; the others only take the output gain.

    With mid_side the lanes are M = (L+R)/2 and S = (L-R)/2, back by L = M+S, R = M-S.
    """
    output = params[OUTPUT]
    first_dry, first_wet = output * params[FIRST_DRY], output * params[FIRST_WET]
    second_dry, second_wet = output * params[SECOND_DRY], output * params[SECOND_WET]
    # A sum of two as an index could be negative, for all the compiler knows: parts are taken so that loops vectorise.
    left, right = source[0, start:], source[-1, start:]
    out_left, out_right = out[0, start:], out[-1, start:]
    if params[MID_SIDE] > 0.0:
        for i in range(count):
            m = 0.5 * (left[i] + right[i]) * (first_dry + first_wet * first_gain[i])
            s = 0.5 * (left[i] - right[i]) * (second_dry + second_wet * second_gain[i])
            out_left[i], out_right[i] = m + s, m - s
        return
    for i in range(count):
        out_left[i] = left[i] * (first_dry + first_wet * first_gain[i])
    if source.shape[0] == 2:
        for i in range(count):
            out_right[i] = right[i] * (second_dry + second_wet * second_gain[i])


@inlined
def apply_mixed(source, start, count, scratch, gain_lanes, params, mixing, out):
    """As apply_gain with the gains in the first rows of scratch; mixing: see follow_moving."""
    moves = mixing.shape[1] > 0
    whole = moves and params[FIRST_WET] == 1.0 and params[SECOND_WET] == 1.0  # no lane is left untouched
    if moves:
        for lane in range(gain_lanes):
            _mix(scratch[lane], mixing, start, count, whole)
    apply_gain(source, start, count, scratch[0], scratch[gain_lanes - 1], params, out)
    if moves and not whole:
        output = mixing[0, start:]
        for channel in range(out.shape[0]):
            levelled = out[channel, start:]
            for i in range(count):
                levelled[i] *= output[i]


@inlined
def table_gain(table, level_db):
    """The gain in dB at a level by a table of gains (see dsp.curving), straight between its entries."""
    place = (level_db - TABLE_LOWEST_DB) * TABLE_STEPS_PER_DB
    whole = min(max(int(place), 0), table.size - 2)
    return table[whole] + (place - whole) * (table[whole + 1] - table[whole])


@inlined
def negate(values, count):
    """Turn values the other way up, in place."""
    for i in range(count):
        values[i] = -values[i]


@inlined
def ignore_below(level, count, floor_db):
    """Levels under the floor count as silence."""
    for i in range(count):
        level[i] = level[i] if level[i] >= floor_db else -120.0


@inlined
def target_of(level, target, count, params):
    """The gain in dB that a level in dB wants, by the static curve."""
    soft = params[SOFT_RANGE] > 0.0 and params[RANGE_DB] < np.inf
    most = np.inf if soft else params[RANGE_DB]
    _over_threshold_gain(level, target, count, params[SIDE], params[THRESHOLD_DB], params[SLOPE], params[KNEE_DB], most)
    if soft:
        _into_range(target, count, params[RANGE_DB])
    if params[MIRRORED] > 0.0:
        negate(target, count)


@inlined
def _follow_level(level, gain, target, count, params, state):
    """From the level of a lane in dB to its gain in dB: floor, static curve, ballistics."""
    if params[KEY_FLOOR_DB] > -120.0:
        ignore_below(level, count, params[KEY_FLOOR_DB])
    target_of(level, target, count, params)
    smooth(target, gain, count, params[ATTACK_K], params[RELEASE_K], params[HOLD_FRAMES], state)
    if params[AUTO_RELEASE] > 0.0:
        slow_release(target, gain, count, params, state)
    if params[GAIN_SIGN] < 0.0 or params[MIRRORED] > 0.0:
        negate(gain, count)


@inlined
def _same(params, first, last):
    """Whether parameters first .. last are the same in all rows."""
    for row in range(1, params.shape[0]):
        for place in range(first, last + 1):
            if params[row, place] != params[0, place]:
                return False
    return True


@inlined
def follow_part(heard, start, count, state, params, scratch, bits, gain_db):
    """The gains of a part of a block: in dB into gain_db, as amplitudes into the first rows of scratch."""
    levels_db(heard, start, count, scratch, bits, state, params)
    for lane in range(gain_db.shape[0]):
        level, gain = scratch[lane], gain_db[lane, start : start + count]
        _follow_level(level, gain, scratch[2], count, params, state[lane])
        db_to_amplitude(gain, level, bits[lane], scratch[4], bits[4], count)


@kernel("void(f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1])")
def follow_curve(heard, source, state, params, scratch, gain_db, out):
    """Hold a block: from what the detector hears to the result.

    heard (lanes, frames): the detector's signal. source, out (channels, frames): what the gain acts on, and the
    result. gain_db (gain lanes, frames): filled; one lane when fully linked, else as many as heard has.
    state (lanes, LANE_STATE) is carried; params (1, PARAMS) as numbered above; scratch (SCRATCH_ROWS, CHUNK).
    """
    gain_lanes, frames = gain_db.shape
    bits, now = scratch.view(np.int64), params[0]
    for start in range(0, frames, CHUNK):
        count = min(CHUNK, frames - start)
        follow_part(heard, start, count, state, now, scratch, bits, gain_db)
        apply_gain(source, start, count, scratch[0], scratch[gain_lanes - 1], now, out)


@kernel("void(f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], i8[::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1])")
def follow_moving(heard, source, state, params, begins, mixing, scratch, gain_db, out):
    """As follow_curve while something moves: params (rows, PARAMS), row k from frame begins[k] on. mixing (3, frames):
    output gain, dry and wet where one of them moves, else (3, 0); then params have (0, 1) for dry and wet where the
    gain acts, (1, 0) elsewhere. A kernel of its own, so that one that stands still pays nothing.
    """
    gain_lanes, frames = gain_db.shape
    bits = scratch.view(np.int64)
    if not (_same(params, BLEND, LINK_BY_MEAN) and _same(params, OUTPUT, SECOND_WET)):
        for row in range(begins.size):
            now, end = params[row], begins[row + 1] if row + 1 < begins.size else frames
            for start in range(begins[row], end, CHUNK):
                count = min(CHUNK, end - start)
                follow_part(heard, start, count, state, now, scratch, bits, gain_db)
                apply_mixed(source, start, count, scratch, gain_lanes, now, mixing, out)
        return
    # Only curve and times go by rows: all other passes over more than a row at once, which is half as dear.
    row = 0
    for start in range(0, frames, CHUNK):
        count, stop, piece = min(CHUNK, frames - start), min(frames, start + CHUNK), row
        levels_db(heard, start, count, scratch, bits, state, params[0])
        for lane in range(gain_lanes):
            level, gain, at, piece = scratch[lane], gain_db[lane], start, row
            while at < stop:
                end = begins[piece + 1] if piece + 1 < begins.size else frames
                until = min(end, stop)
                part = level[at - start : until - start]
                _follow_level(part, gain[at:until], scratch[2], until - at, params[piece], state[lane])
                at, piece = until, piece + 1 if until == end else piece
            db_to_amplitude(gain[start:stop], level, bits[lane], scratch[4], bits[4], count)
        apply_mixed(source, start, count, scratch, gain_lanes, params[0], mixing, out)
        row = piece
