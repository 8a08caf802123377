"""Gain elements of compressors by kind: the static law and the memory of each; all else is that of dsp.dynamics.

FET: curve and times of dsp.dynamics, its way back of two speeds as the automatic release there; and after them a lead:
what the gain is deeper than one pole of OVER_K on itself, `overshoot` times that is added, so that it goes too deep for
a moment.

OPTICAL: a lamp and a cell. The cell has a quick part and a slow one, QUICK of what is wanted in dB and the rest; both
follow with the attack, the quick one comes back with the release, the slow one with a time between two that goes with
how much light the cell remembers: that fills and fades over seconds, towards how deep it holds, LIT_DB counting as all.
Two parts and a memory of light are how such cells are described in the trade (common practice); the shares and times
are chosen so that after half a second of light half of the dB is back within 60 ms and the rest takes 0.4 to 2 s.

MU: a valve whose gain falls the more the further it is driven: what lies o dB over the threshold is held by
sqrt(o^2 + w^2) - w, w the growth in dB, so that the ratio is 1 at the threshold and grows without end; the knee
softens o. Up to two slower ways back join the first, each filled by longer holding (dynamics.slow_step). That such a
stage has a ratio that grows with level is common practice; the hyperbola is ours.
"""

import math

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import inlined, kernel
from reins.core.dsp.decibels import dbs_to_amplitude
from reins.core.dsp.dynamics import (
    ATTACK_K,
    AUTO_RELEASE,
    CHUNK,
    KEY_FLOOR_DB,
    KNEE_DB,
    LANE_STATE,
    PARAMS,
    RELEASE_K,
    SLOPE,
    THRESHOLD_DB,
    VALLEY_FRAMES,
    apply_gain,
    ignore_below,
    levels_db,
    slow_release,
    slow_step,
    smooth,
    softened,
    target_of,
)

Array = npt.NDArray[np.float64]
FET, OPTICAL, MU = 0, 1, 2
OVERSHOOT, OVER_K = PARAMS, PARAMS + 1  # of the FET
SLOW_FRAMES, SLOWEST_FRAMES, MEMORY_UP_K, MEMORY_DOWN_K = PARAMS, PARAMS + 1, PARAMS + 2, PARAMS + 3  # of the optical
GROWTH_DB, THIRD_FILL_K, THIRD_DRAIN_K = PARAMS, PARAMS + 1, PARAMS + 2  # of the variable-mu; no third way back: 0
CIRCUIT_PARAMS = PARAMS + 4
OVER = LANE_STATE  # state beyond that of dsp.dynamics: of the FET
CELL_QUICK, CELL_SLOW, CELL_MEMORY = LANE_STATE, LANE_STATE + 1, LANE_STATE + 2  # of the optical
THIRD, THIRD_VALLEY = LANE_STATE, LANE_STATE + 1  # of the variable-mu; the valley takes four places
CIRCUIT_STATE = LANE_STATE + 5
QUICK = 0.62
LIT_DB = 12.0


@inlined
def _lead(gain, count, overshoot, k, state):
    over = state[OVER]
    for i in range(count):
        now = gain[i]
        over += k * (now - over)
        gain[i] = now + overshoot * (now - over) if now < over else now
    state[OVER] = over if abs(over) > 1e-30 else 0.0


@inlined
def _cell(target, gain, count, params, state):
    quick, slow, memory = state[CELL_QUICK], state[CELL_SLOW], state[CELL_MEMORY]
    attack, release = params[ATTACK_K], params[RELEASE_K]
    least, most, up, down = params[SLOW_FRAMES], params[SLOWEST_FRAMES], params[MEMORY_UP_K], params[MEMORY_DOWN_K]
    for i in range(count):
        wanted = -target[i]
        to_quick, to_slow = QUICK * wanted, (1.0 - QUICK) * wanted
        quick += (attack if to_quick > quick else release) * (to_quick - quick)
        slow += (attack if to_slow > slow else 1.0 / (least + memory * (most - least))) * (to_slow - slow)
        lit = wanted / LIT_DB if wanted < LIT_DB else 1.0
        memory += (up if lit > memory else down) * (lit - memory)
        gain[i] = -(quick + slow)
    state[CELL_QUICK] = quick if quick > 1e-30 else 0.0
    state[CELL_SLOW] = slow if slow > 1e-30 else 0.0
    state[CELL_MEMORY] = memory if memory > 1e-30 else 0.0


@inlined
def _mu_target(level, target, count, params):
    """The gain in dB that a level wants of a variable-mu stage; none where its slope is 0."""
    threshold, knee, growth = params[THRESHOLD_DB], params[KNEE_DB], params[GROWTH_DB]
    half, knee_scale = 0.5 * knee, 0.5 / knee if knee > 0.0 else 0.0
    holds = 1.0 if params[SLOPE] < 0.0 else 0.0
    for i in range(count):
        over = softened(level[i] - threshold, knee, half, knee_scale)
        target[i] = holds * (growth - math.sqrt(over * over + growth * growth))


@inlined
def _third_way(target, gain, count, params, state):
    third, fill, drain, span = state[THIRD], params[THIRD_FILL_K], params[THIRD_DRAIN_K], params[VALLEY_FRAMES]
    for i in range(count):
        third = slow_step(third, gain[i], target[i], fill, drain, span, state[THIRD_VALLEY:])
        gain[i] = third if third < gain[i] else gain[i]
    state[THIRD] = third if abs(third) > 1e-30 else 0.0


@inlined
def _gain_of(which, level, gain, target, count, params, state):
    """From the level of a lane in dB to its gain in dB."""
    if params[KEY_FLOOR_DB] > -120.0:
        ignore_below(level, count, params[KEY_FLOOR_DB])
    if which == MU:
        _mu_target(level, target, count, params)
        smooth(target, gain, count, params[ATTACK_K], params[RELEASE_K], 0, state)
        if params[AUTO_RELEASE] > 0.0:
            slow_release(target, gain, count, params, state)
        if params[THIRD_FILL_K] > 0.0:
            _third_way(target, gain, count, params, state)
        return
    target_of(level, target, count, params)
    if which == FET:
        smooth(target, gain, count, params[ATTACK_K], params[RELEASE_K], 0, state)
        if params[AUTO_RELEASE] > 0.0:
            slow_release(target, gain, count, params, state)
        _lead(gain, count, params[OVERSHOOT], params[OVER_K], state)  # at 0 too, so that it is ready
    else:
        _cell(target, gain, count, params, state)


@kernel("void(i8, f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], i8[::1], f8[:,::1], f8[:,::1], f8[:,::1])")
def run_circuit(which, heard, source, state, params, begins, scratch, gain_db, out):
    """Hold a block; arrays as for dynamics.follow_moving, but state (lanes, CIRCUIT_STATE), params (rows,
    CIRCUIT_PARAMS).
    """
    gain_lanes, frames = gain_db.shape
    bits = scratch.view(np.int64)
    for row in range(begins.size):
        now, end = params[row], begins[row + 1] if row + 1 < begins.size else frames
        for start in range(begins[row], end, CHUNK):
            count = min(CHUNK, end - start)
            levels_db(heard, start, count, scratch, bits, state, now)
            for lane in range(gain_lanes):
                level, gain = scratch[lane], gain_db[lane, start : start + count]
                _gain_of(which, level, gain, scratch[2], count, now, state[lane])
                dbs_to_amplitude(gain, level, bits[lane], scratch[4], bits[4], count)
            apply_gain(source, start, count, scratch[0], scratch[gain_lanes - 1], now, out)


@kernel("void(f8[:,::1], f8[:,::1], f8[:,::1], i8[::1], f8[:,::1], f8[:,::1])")
def apply_late(gain_db, source, params, begins, scratch, out):
    """out = source (channels, frames) held by gains that were found before (lanes, frames), as run_circuit does."""
    gain_lanes, frames = gain_db.shape
    bits = scratch.view(np.int64)
    for row in range(begins.size):
        end = begins[row + 1] if row + 1 < begins.size else frames
        for start in range(begins[row], end, CHUNK):
            count = min(CHUNK, end - start)
            for lane in range(gain_lanes):
                gain = gain_db[lane, start : start + count]
                dbs_to_amplitude(gain, scratch[lane], bits[lane], scratch[4], bits[4], count)
            apply_gain(source, start, count, scratch[0], scratch[gain_lanes - 1], params[row], out)


@kernel("void(i8, f8[::1], f8[::1], f8[::1])")
def _law(which, level_db, params, gain_db):
    if which == MU:
        _mu_target(level_db, gain_db, level_db.size, params)
    else:
        target_of(level_db, gain_db, level_db.size, params)


def static_db(which: int, level_db: Array, params: Array) -> Array:
    """The gain in dB that steady levels (n,) want of a kind, by parameters (CIRCUIT_PARAMS,)."""
    gain_db = np.empty(level_db.size)
    _law(which, np.ascontiguousarray(level_db, np.float64), params, gain_db)
    return gain_db
