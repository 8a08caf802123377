"""Gains of several bands at once, from what each one's detector hears; the passes are those of dsp.dynamics."""

import numpy as np

from reins.core.dsp.compiled import inlined, kernel
from reins.core.dsp.dynamics import (
    ATTACK_K,
    AUTO_RELEASE,
    BLEND,
    CHUNK,
    GAIN,
    GAIN_SIGN,
    RANGE_DB,
    RELEASE_K,
    RMS_K,
    lane_level_db,
    negate,
    slow_release,
    smooth,
    table_gain,
    target_of,
)


@inlined
def _smooth_two(targets, gains, count, params, states):
    """smooth without hold for two lanes side by side: neither waits for the other."""
    one, other = states[0][GAIN], states[1][GAIN]
    attack, release, other_attack, other_release = (
        params[0][ATTACK_K], params[0][RELEASE_K], params[1][ATTACK_K], params[1][RELEASE_K]
    )  # fmt: skip
    target, other_target = targets
    gain, other_gain = gains
    for i in range(count):
        t, u = target[i], other_target[i]
        down, up = (1.0 - attack) * one + attack * t, (1.0 - release) * one + release * t
        one = down if t < one else up
        gain[i] = one
        down, up = (1.0 - other_attack) * other + other_attack * u, (1.0 - other_release) * other + other_release * u
        other = down if u < other else up
        other_gain[i] = other
    states[0][GAIN] = one if abs(one) > 1e-30 else 0.0
    states[1][GAIN] = other if abs(other) > 1e-30 else 0.0


@inlined
def _curved_target(level, target, count, table, range_db):
    """The gain in dB that a level in dB wants by a table of gains, within a range."""
    for i in range(count):
        target[i] = max(-range_db, min(range_db, table_gain(table, level[i])))


@inlined
def _follow_bands(amplitude, places, state, params, curves, scratch, gain_db, start, count):
    """follow_bands over `count` frames from `start` on."""
    bits, bands = scratch.view(np.int64), amplitude.shape[0]
    for band in range(bands):
        level, heard = scratch[0], amplitude[band, start:]
        blend, k = params[band, BLEND], params[band, RMS_K]
        lane_level_db(
            heard, level, bits[0], scratch[1], bits[1], scratch[2], bits[2], count, blend, k, state[places[band]]
        )
        if curves.shape[0] > 0 and curves[band, 0] == curves[band, 0]:  # a band without a curve has no numbers there
            _curved_target(level, heard, count, curves[band], params[band, RANGE_DB])
        else:
            target_of(level, heard, count, params[band])
    for band in range(0, bands - 1, 2):
        _smooth_two(
            (amplitude[band, start:], amplitude[band + 1, start:]),
            (gain_db[band, start:], gain_db[band + 1, start:]),
            count,
            (params[band], params[band + 1]),
            (state[places[band]], state[places[band + 1]]),
        )
    if bands % 2:
        last = params[bands - 1]
        smooth(
            amplitude[bands - 1, start:],
            gain_db[bands - 1, start:],
            count,
            last[ATTACK_K],
            last[RELEASE_K],
            0,
            state[places[bands - 1]],
        )
    for band in range(bands):
        if params[band, AUTO_RELEASE] > 0.0:
            slow_release(amplitude[band, start:], gain_db[band, start:], count, params[band], state[places[band]])
        if params[band, GAIN_SIGN] < 0.0:
            negate(gain_db[band, start:], count)


@kernel("void(f8[:,::1], i8[::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1])")
def follow_bands(amplitude, places, state, params, curves, scratch, gain_db):
    """The gain in dB of each band from the magnitudes its detector hears (bands, frames), which are used up.

    The state of band k, carried, is row places[k] of state (places, LANE_STATE); params (bands, PARAMS); gain_db
    (bands, frames) is filled. curves (bands, levels): gains of bands moved by a curve, no numbers for the others;
    (0, 0) where there is none.
    """
    frames = amplitude.shape[1]
    for start in range(0, frames, CHUNK):
        _follow_bands(amplitude, places, state, params, curves, scratch, gain_db, start, min(CHUNK, frames - start))


@kernel("void(f8[:,::1], i8[::1], f8[:,::1], f8[:,:,::1], f8[:,::1], i8[::1], f8[:,::1], f8[:,::1])")
def follow_bands_in_rows(amplitude, places, state, params, curves, begins, scratch, gain_db):
    """As follow_bands, with params (rows, bands, PARAMS): row k from frame begins[k] on."""
    frames = amplitude.shape[1]
    for row in range(begins.size):
        end = begins[row + 1] if row + 1 < begins.size else frames
        for start in range(begins[row], end, CHUNK):
            count = min(CHUNK, end - start)
            _follow_bands(amplitude, places, state, params[row], curves, scratch, gain_db, start, count)
