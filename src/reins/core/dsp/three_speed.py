"""One gain from three detectors at once: peaks, hits and the body of a sound, each with a curve and times of its own.

Each detector's level in dB, its sensitivity added, gives a wish by the shared curve; a gain follows each wish with its
own attack and way back, and the deepest of the three is used. `glide` hands down: what the quicker one holds, times
glide, is a wish of the slower one too, so that at 1 the way back of a lone peak is taken over by that of hits and then
by that of the body, and at 0 each lets go by itself.

The curve: d dB over the threshold, softened by the knee as in dsp.dynamics, are held by slope d, and by growth
(1 + slope) (sqrt(d^2 + w^2) - w) more, w = GROWTH_DB: so at growth 1 the ratio goes from `ratio` to a limit.

That several detectors with times of their own hold what one alone cannot is common practice; the hand-over is ours.
"""

import math

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import flush, fused, inlined, kernel
from reins.core.dsp.decibels import FLOOR_AMPLITUDE, amplitudes_to_db, dbs_to_amplitude
from reins.core.dsp.dynamics import (
    ATTACK_K,
    CHUNK,
    GAIN,
    KEY_FLOOR_DB,
    KNEE_DB,
    LINK,
    LINK_BY_MEAN,
    MEAN_SQUARE,
    PARAMS,
    RELEASE_K,
    RMS_K,
    SLOPE,
    THRESHOLD_DB,
    apply_gain,
    ignore_below,
    levels_db,
    nearer,
    softened,
)
from reins.core.dsp.lanes import first, pair, second

Array = npt.NDArray[np.float64]
PEAKS, HITS, BODY = 0, 1, 2
GROWTH, SENSITIVITY_DB, GLIDE = PARAMS, PARAMS + 1, PARAMS + 2  # a sensitivity of -inf is off
SIZE = PARAMS + 3  # parameters of one detector; those of all three follow each other
GROWTH_DB = 11.0
LEAST_DB = 0.05  # under it nobody is in charge
SCRATCH_ROWS = 11  # five of dsp.dynamics, and three wishes of two lanes


@inlined
def _larger(both):
    a, b = first(both), second(both)
    return a if a > b else b


@inlined
def _not_under(value, least):
    return value if value > least else least


@fused
def _measures(left, right, hits_k, body_k, state, peaks, hits, body, count):
    """The magnitude, and the means of the squares over both windows, the larger of two lanes."""
    least, least_square = FLOOR_AMPLITUDE, FLOOR_AMPLITUDE * FLOOR_AMPLITUDE
    own, other = state[HITS], state[BODY]
    hit = pair(own[0, MEAN_SQUARE], own[-1, MEAN_SQUARE])
    held = pair(other[0, MEAN_SQUARE], other[-1, MEAN_SQUARE])
    for i in range(count):
        x = pair(left[i], right[i])
        square = x * x
        hit, held = hit + hits_k * (square - hit), held + body_k * (square - held)
        a, b = abs(left[i]), abs(right[i])
        peaks[i] = _not_under(a if a > b else b, least)
        hits[i], body[i] = _not_under(_larger(hit), least_square), _not_under(_larger(held), least_square)
    own[0, MEAN_SQUARE], own[-1, MEAN_SQUARE] = flush(first(hit)), flush(second(hit))
    other[0, MEAN_SQUARE], other[-1, MEAN_SQUARE] = flush(first(held)), flush(second(held))


@inlined
def _tied_levels(heard, start, count, scratch, bits, state, params):
    """The three levels in dB of tied lanes, the louder for both, into rows 0 to 2 of scratch: as levels_db gives them,
    but for those of powers, which are twice as many dB; all in one pass, whose sums do not wait for each other, and
    with one logarithm a detector.
    """
    left, right = heard[0, start:], heard[-1, start:]
    hits_k, body_k = params[SIZE + RMS_K], params[2 * SIZE + RMS_K]
    _measures(left, right, hits_k, body_k, state, scratch[0], scratch[1], scratch[2], count)
    for row in range(3):
        amplitudes_to_db(scratch[row], bits[row], scratch[3], bits[3], count)


@inlined
def _wanted(over_db, slope, growth, knee, half, knee_scale):
    over = softened(over_db, knee, half, knee_scale)
    return slope * over - growth * (math.sqrt(over * over + GROWTH_DB * GROWTH_DB) - GROWTH_DB)


@inlined
def _wish(level, wish, count, params):
    slope, knee, threshold = params[SLOPE], params[KNEE_DB], params[THRESHOLD_DB]
    growth, half, knee_scale = params[GROWTH] * (1.0 + slope), 0.5 * knee, 0.5 / knee if knee > 0.0 else 0.0
    for i in range(count):
        wish[i] = _wanted(level[i] - threshold, slope, growth, knee, half, knee_scale)


@fused
def _tell_and_wish(level, by, told, wish, count, params, beside):
    """What a detector wants at so many times a level with its sensitivity added; and that level told, the louder of it
    and what is told already of the lane beside.
    """
    if params[KEY_FLOOR_DB] > -120.0:
        for i in range(count):
            level[i] *= by
        ignore_below(level, count, params[KEY_FLOOR_DB])
        by = 1.0
    more, slope, knee, threshold = params[SENSITIVITY_DB], params[SLOPE], params[KNEE_DB], params[THRESHOLD_DB]
    growth, half, knee_scale = params[GROWTH] * (1.0 + slope), 0.5 * knee, 0.5 / knee if knee > 0.0 else 0.0
    if beside:
        for i in range(count):
            heard = by * level[i] + more
            told[i] = heard if heard > told[i] else told[i]
            wish[i] = _wanted(heard - threshold, slope, growth, knee, half, knee_scale)
    else:
        for i in range(count):
            heard = by * level[i] + more
            told[i] = heard
            wish[i] = _wanted(heard - threshold, slope, growth, knee, half, knee_scale)


@fused
def _follow(wishes, gain, charge, count, params, state):
    """The gain of one lane in dB from its three wishes, and who is in charge; state: of each detector."""
    peaks, hits, body = state[PEAKS][GAIN], state[HITS][GAIN], state[BODY][GAIN]
    peaks_release, glide = params[RELEASE_K], params[GLIDE]
    hits_attack, hits_release = params[SIZE + ATTACK_K], params[SIZE + RELEASE_K]
    body_attack, body_release = params[2 * SIZE + ATTACK_K], params[2 * SIZE + RELEASE_K]
    to_peaks, to_hits, to_body = wishes
    for i in range(count):
        wish = to_peaks[i]
        back = (1.0 - peaks_release) * peaks + peaks_release * wish
        peaks = wish if wish < peaks else back
        hits = nearer(hits, min(to_hits[i], glide * peaks), hits_attack, hits_release)
        body = nearer(body, min(to_body[i], glide * hits), body_attack, body_release)
        to_peaks[i], to_hits[i], to_body[i] = peaks, hits, body  # the wishes are used up
    for i in range(count):  # what waits for nothing, by itself: so it vectorises
        p, h, b = to_peaks[i], to_hits[i], to_body[i]
        now = p if p < h else h
        now = now if now < b else b
        gain[i] = now
        whose = 1.0 if b == now else (2.0 if h == now else 3.0)
        charge[i] = 0.0 if now > -LEAST_DB else whose
    state[PEAKS][GAIN] = peaks if peaks < -1e-30 else 0.0
    state[HITS][GAIN] = hits if hits < -1e-30 else 0.0
    state[BODY][GAIN] = body if body < -1e-30 else 0.0


@kernel("void(f8[:,::1], f8[:,::1], f8[:,:,::1], f8[:,::1], i8[::1], f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1])")
def run_three(heard, source, state, params, begins, scratch, gain_db, told, out):
    """Hold a block; arrays as for dynamics.follow_moving, but state (3, lanes, LANE_STATE), params (rows, 3 SIZE),
    scratch (SCRATCH_ROWS, CHUNK). told (3 + gain lanes, frames) is filled with what each detector hears, its
    sensitivity added, the louder lane; and with who is in charge of each: 0 nobody, 1 body, 2 hits, 3 peaks.
    """
    levels, charge = told[:3], told[3:]
    gain_lanes, frames = gain_db.shape
    bits = scratch.view(np.int64)
    for row in range(begins.size):
        end = begins[row + 1] if row + 1 < begins.size else frames
        now = params[row]
        for start in range(begins[row], end, CHUNK):
            count = min(CHUNK, end - start)
            tied = (now[LINK] == 1.0 and now[LINK_BY_MEAN] == 0.0) or heard.shape[0] == 1
            if tied:
                _tied_levels(heard, start, count, scratch, bits, state, now)
            for detector in range(3):
                own, louder = now[detector * SIZE : (detector + 1) * SIZE], levels[detector, start:]
                if not tied:
                    levels_db(heard, start, count, scratch, bits, state[detector], own)
                for lane in range(gain_lanes):
                    level, wish = scratch[detector if tied else lane], scratch[5 + 3 * lane + detector]
                    by = 0.5 if tied and detector != PEAKS else 1.0  # of a power half its dB is the level
                    _tell_and_wish(level, by, louder, wish, count, own, lane > 0)
            for lane in range(gain_lanes):
                wishes = scratch[5 + 3 * lane], scratch[6 + 3 * lane], scratch[7 + 3 * lane]
                gain, level = gain_db[lane, start : start + count], scratch[lane]
                _follow(wishes, gain, charge[lane, start:], count, now, state[:, lane])
                dbs_to_amplitude(gain, level, bits[lane], scratch[4], bits[4], count)
            apply_gain(source, start, count, scratch[0], scratch[gain_lanes - 1], now, out)


@kernel("void(f8[::1], f8[::1], f8[::1], f8[::1])", makes_room=True)
def _law(level_db, params, work, gain_db):
    gain_db[:] = 0.0
    for detector in range(3):
        own = params[detector * SIZE : (detector + 1) * SIZE]
        _wish(level_db + own[SENSITIVITY_DB], work, level_db.size, own)
        for i in range(level_db.size):
            gain_db[i] = min(gain_db[i], work[i])


def static_db(level_db: Array, params: Array) -> Array:
    """The gain in dB that steady levels (n,) want, by parameters (3 SIZE,)."""
    gain_db = np.empty(level_db.size)
    _law(np.ascontiguousarray(level_db, np.float64), params, np.empty(level_db.size), gain_db)
    return gain_db
