"""The gate: opens straight in amplitude, holds, closes straight in dB; level and gain as in dsp.dynamics."""

import numpy as np

from reins.core.dsp.compiled import inlined, kernel
from reins.core.dsp.decibels import FLOOR_AMPLITUDE, amplitude_to_db, db_to_amplitude
from reins.core.dsp.dynamics import (
    CHUNK,
    DRAIN_K,
    FILL_K,
    HOLD_FRAMES,
    LANE_STATE,
    PARAMS,
    RANGE_DB,
    THRESHOLD_DB,
    apply_gain,
    apply_mixed,
    levels_db,
)

# State of a gate's lane: gain as amplitude and in dB, whether it is open, frames of hold left, and how long it has been
# open, from 0 to 1; behind the state of its level (dynamics.MEAN_SQUARE).
AMP, GATE_DB, OPEN, GATE_HOLD, SUSTAIN = range(LANE_STATE, LANE_STATE + 5)
GATE_STATE = LANE_STATE + 5
CLOSED, OPENED, HOLDING, CLOSING = 0, 1, 2, 3
# A gate's own settings, behind those it shares with dynamics. Records with names cost more: unpacking one takes a
# kernel 2.6 us a call, a seventh of what a compressor takes for 1024 frames.
CLOSE_DB, SILENT, RISE, FALL_DB, INVERT, SLOWER = range(PARAMS, PARAMS + 6)
GATE_PARAMS = PARAMS + 6


@inlined
def _gate_lane(level, value, known_amp, told, count, params, state):
    """Open, hold, close: writes the gain of each frame as amplitude (known_amp 1, while opening) or in dB (0), and
    returns how many are amplitudes.

    Opening is a straight line in amplitude, closing one in dB; each goes on from wherever the gain is.
    """
    open_db, close_db, range_db = params[THRESHOLD_DB], params[CLOSE_DB], params[RANGE_DB]
    rise, fall_db, hold_frames, invert = params[RISE], params[FALL_DB], params[HOLD_FRAMES], params[INVERT] > 0.0
    silent = params[SILENT] > 0.0
    slower, fill_k, drain_k, sustain = params[SLOWER], params[FILL_K], params[DRAIN_K], state[SUSTAIN]
    amp, db, is_open, left = state[AMP], state[GATE_DB], state[OPEN] > 0.0, state[GATE_HOLD]
    opening = amp >= 0.0  # the one that is not moving is not kept: amp is -1 while dB counts
    amplitudes = 0
    for i in range(count):
        x = level[i]
        if x > open_db or (is_open and x >= close_db):
            is_open, left = True, hold_frames
        elif is_open:
            if left > 0:
                left -= 1
            else:
                is_open = False
        if slower > 0.0:
            sustain = sustain + fill_k * (1.0 - sustain) if is_open else sustain - drain_k * sustain
        if is_open != invert:
            if not opening:
                amp = 0.0 if silent and db <= -range_db else 10.0 ** (db / 20.0)
                opening = True
            amp = amp + rise
            amp = amp if amp < 1.0 else 1.0
            value[i], known_amp[i] = amp, 1.0
            amplitudes += 1
            told[i] = HOLDING if is_open and x < close_db else OPENED
        else:
            if opening:
                db = 0.0 if amp >= 1.0 else 20.0 * np.log10(amp if amp > FLOOR_AMPLITUDE else FLOOR_AMPLITUDE)
                opening = False
            db = db - (fall_db / (1.0 + slower * sustain) if slower > 0.0 else fall_db)
            db = db if db > -range_db else -range_db
            value[i], known_amp[i] = db, 0.0
            told[i] = CLOSED if db == -range_db else CLOSING
    state[SUSTAIN] = sustain if sustain > 1e-30 else 0.0
    state[AMP] = amp if opening else -1.0
    state[GATE_DB], state[OPEN], state[GATE_HOLD] = db, 1.0 if is_open else 0.0, left
    return amplitudes


@inlined
def _gate_part(heard, start, count, state, params, scratch, bits, gain_db, told):
    """The gains of a part of a block: told in dB into gain_db, as amplitudes into the first rows of scratch."""
    silence_db = -params[RANGE_DB] if params[SILENT] > 0.0 else -1e9
    value, known_amp, work, work_bits = scratch[2], scratch[3], scratch[4], bits[4]
    levels_db(heard, start, count, scratch, bits, state, params)
    for lane in range(gain_db.shape[0]):
        level, gain = scratch[lane], gain_db[lane, start : start + count]
        amplitudes = _gate_lane(level, value, known_amp, told[lane, start:], count, params, state[lane])
        if amplitudes > 0:
            for i in range(count):
                gain[i] = value[i] if value[i] > FLOOR_AMPLITUDE else FLOOR_AMPLITUDE
            amplitude_to_db(gain, gain.view(np.int64), work, work_bits, count)
        if amplitudes < count:
            db_to_amplitude(value, level, bits[lane], work, work_bits, count)
        for i in range(count):
            is_amp, quiet = known_amp[i] > 0.0, value[i] <= silence_db
            level[i] = value[i] if is_amp else (0.0 if quiet else level[i])
            gain[i] = gain[i] if is_amp else (-120.0 if quiet else value[i])


@kernel("void(f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1])")
def gate(heard, source, state, params, scratch, gain_db, told, out):
    """Gate a block; arrays as for dynamics.follow_curve, state (lanes, GATE_STATE), told (gain lanes, frames) what it
    is doing. A gain of silence is told as -120 dB.
    """
    gain_lanes, frames = gain_db.shape
    bits, now = scratch.view(np.int64), params[0]
    for start in range(0, frames, CHUNK):
        count = min(CHUNK, frames - start)
        _gate_part(heard, start, count, state, now, scratch, bits, gain_db, told)
        apply_gain(source, start, count, scratch[0], scratch[gain_lanes - 1], now, out)


@kernel(
    "void(f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], i8[::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1])"
)
def gate_moving(heard, source, state, params, begins, mixing, scratch, gain_db, told, out):
    """As gate while something moves; params, begins and mixing as for dynamics.follow_moving."""
    gain_lanes, frames = gain_db.shape
    bits = scratch.view(np.int64)
    for row in range(begins.size):
        now, end = params[row], begins[row + 1] if row + 1 < begins.size else frames
        for start in range(begins[row], end, CHUNK):
            count = min(CHUNK, end - start)
            _gate_part(heard, start, count, state, now, scratch, bits, gain_db, told)
            apply_mixed(source, start, count, scratch, gain_lanes, now, mixing, out)
