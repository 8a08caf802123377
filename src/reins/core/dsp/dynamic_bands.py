"""Gains of several bands at once, from what each one's detector hears; the passes are those of dsp.dynamics."""

import numpy as np

from reins.core.dsp.compiled import inlined, kernel
from reins.core.dsp.decibels import FLOOR_AMPLITUDE, amplitudes_to_db
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
    nearer,
    negate,
    slow_release,
    smooth,
    table_gain,
    target_of,
)


@inlined
def _smooth_four(targets, gains, start, count, params, states):
    """smooth without hold for four neighbours side by side: none waits for the others."""
    a, b, c, d = states[0][GAIN], states[1][GAIN], states[2][GAIN], states[3][GAIN]
    want_a, want_b, want_c, want_d = targets[0, start:], targets[1, start:], targets[2, start:], targets[3, start:]
    gain_a, gain_b, gain_c, gain_d = gains[0, start:], gains[1, start:], gains[2, start:], gains[3, start:]
    # As numbers: what is written could be the parameters, for all the compiler knows.
    attack_a, attack_b, attack_c, attack_d = (
        params[0, ATTACK_K], params[1, ATTACK_K], params[2, ATTACK_K], params[3, ATTACK_K]
    )  # fmt: skip
    release_a, release_b, release_c, release_d = (
        params[0, RELEASE_K], params[1, RELEASE_K], params[2, RELEASE_K], params[3, RELEASE_K]
    )  # fmt: skip
    for i in range(count):
        a, b = nearer(a, want_a[i], attack_a, release_a), nearer(b, want_b[i], attack_b, release_b)
        c, d = nearer(c, want_c[i], attack_c, release_c), nearer(d, want_d[i], attack_d, release_d)
        gain_a[i], gain_b[i], gain_c[i], gain_d[i] = a, b, c, d
    for state, gain in zip(states, (a, b, c, d)):  # noqa: B905 (numba knows no strict)
        state[GAIN] = gain if abs(gain) > 1e-30 else 0.0


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
        if blend == 0.0:
            for i in range(count):
                level[i] = heard[i] if heard[i] > FLOOR_AMPLITUDE else FLOOR_AMPLITUDE
            amplitudes_to_db(level, bits[0], scratch[1], bits[1], count)
        else:
            lane_level_db(
                heard, level, bits[0], scratch[1], bits[1], scratch[2], bits[2], count, blend, k, state[places[band]]
            )
        if curves.shape[0] > 0 and curves[band, 0] == curves[band, 0]:  # a band without a curve has no numbers there
            _curved_target(level, heard, count, curves[band], params[band, RANGE_DB])
        else:
            target_of(level, heard, count, params[band])
    four = bands - bands % 4
    for band in range(0, four, 4):
        own = (state[places[band]], state[places[band + 1]], state[places[band + 2]], state[places[band + 3]])
        _smooth_four(amplitude[band:], gain_db[band:], start, count, params[band:], own)
    for band in range(four, bands):
        own, last = state[places[band]], params[band]
        smooth(amplitude[band, start:], gain_db[band, start:], count, last[ATTACK_K], last[RELEASE_K], 0, own)
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
