"""Level, static curve, ballistics and gain: the passes of every level-driven processor.

Our own because no library offers block-wise dynamics with carried state. Each kernel walks its block in
chunks of CHUNK frames and, within a chunk, in passes that vectorise: logarithm and power are polynomials on
the bits of the float, the static curve has no branches, and the one-pole recursion stands alone in its loop.

Source of curve and ballistics: Giannoulis, Massberg, Reiss, "Digital Dynamic Range Compressor Design: A
Tutorial and Analysis", J. Audio Eng. Soc. 60(6), 2012; cited below by equation.
"""

import numpy as np

from reins.core.dsp.compiled import inlined, kernel

CHUNK = 1024
SCRATCH_ROWS = 6
FLOOR_AMPLITUDE = 1e-6  # -120 dB
DB_PER_LOG2 = 6.020599913279624  # 20 log10(2)
LOG2_PER_DB = 1.0 / DB_PER_LOG2
TWO_OVER_LN2 = 2.8853900817779268
SQRT_HALF_BITS = 0x3FE6A09E667F3BCD
MANTISSA = 0x000FFFFFFFFFFFFF
BIAS_BITS = 1023 << 52
ROUND = 6755399441055744.0  # 1.5 * 2**52: adding it rounds to an integer held in the low bits
EXPONENT_AS_FLOAT = 0x4330000000000000  # the bits of 2**52
TWO_52 = 4503599627370496.0

# State of one gain lane: gain and slow gain in dB, frames of hold left, mean square.
GAIN, SLOW, HOLD, MEAN_SQUARE = 0, 1, 2, 3
LANE_STATE = 4


@inlined
def _amplitude_to_db(values, bits, work, work_bits, count):
    """Replace amplitudes (at least the floor) by dB; log2 of the mantissa as an atanh series, error below 1e-8 dB."""
    for i in range(count):
        shifted = bits[i] - SQRT_HALF_BITS + BIAS_BITS
        exponent = shifted >> 52
        bits[i] = bits[i] - ((exponent - 1023) << 52)
        work_bits[i] = exponent | EXPONENT_AS_FLOAT
    for i in range(count):
        m = values[i]
        s = (m - 1.0) / (m + 1.0)
        q = s * s
        series = 1.0 + q * (1 / 3 + q * (1 / 5 + q * (1 / 7 + q * (1 / 9 + q * (1 / 11)))))
        values[i] = DB_PER_LOG2 * ((work[i] - (TWO_52 + 1023.0)) + TWO_OVER_LN2 * s * series)


@inlined
def _db_to_amplitude(db, out, out_bits, work, work_bits, count):
    """out = 10^(db/20) by 2^n times a polynomial of degree 9; exactly 1 at 0 dB, error below 1e-9 dB."""
    for i in range(count):
        t = db[i] * LOG2_PER_DB
        rounded = t + ROUND
        f = (t - (rounded - ROUND)) * 0.6931471805599453
        work[i] = rounded
        p = 1 / 5040 + f * (1 / 40320 + f * (1 / 362880))
        out[i] = 1.0 + f * (1.0 + f * (1 / 2 + f * (1 / 6 + f * (1 / 24 + f * (1 / 120 + f * (1 / 720 + f * p))))))
    for i in range(count):
        out_bits[i] = out_bits[i] + (work_bits[i] << 52)


@inlined
def _lane_level_db(signal, level, level_bits, work, work_bits, rms, rms_bits, count, blend, rms_k, state):
    """Level of one lane in dB: peak, RMS with a one-pole window, or a blend of the two in dB."""
    if blend < 1.0:
        for i in range(count):
            a = abs(signal[i])
            level[i] = a if a > FLOOR_AMPLITUDE else FLOOR_AMPLITUDE
        _amplitude_to_db(level, level_bits, work, work_bits, count)
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
        _amplitude_to_db(rms, rms_bits, work, work_bits, count)
        # The mean square is a power: half its dB value is the level.
        if blend >= 1.0:
            for i in range(count):
                level[i] = 0.5 * rms[i]
        else:
            for i in range(count):
                level[i] = (1.0 - blend) * level[i] + blend * 0.5 * rms[i]


@inlined
def _over_threshold_gain(level, target, count, threshold_db, slope, knee_db, range_db):
    """Gain of the static curve, eq. (4) of the paper less its input, without branches."""
    half = 0.5 * knee_db
    knee_scale = 0.5 / knee_db if knee_db > 0.0 else 0.0
    for i in range(count):
        d = level[i] - threshold_db
        u = d + half
        u = u if u > 0.0 else 0.0
        u = u if u < knee_db else knee_db
        past = d - half
        past = past if past > 0.0 else 0.0
        g = slope * (u * u * knee_scale + past)
        target[i] = g if g > -range_db else -range_db


@inlined
def _smooth(target, gain, count, attack_k, release_k, hold_frames, state):
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
def _slow_release(target, gain, count, fill_k, drain_k, state):
    """The second release of the automatic kind: fills slowly, drains slowly; the deeper of the two wins."""
    g = state[SLOW]
    for i in range(count):
        t = target[i]
        k = fill_k if t < g else drain_k
        g = (1.0 - k) * g + k * t
        gain[i] = g if g < gain[i] else gain[i]
    state[SLOW] = g if abs(g) > 1e-30 else 0.0


@kernel("void(f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], f8, f8, f8, b1, f8, f8, f8, f8, f8, f8, i8, b1, f8, f8, f8[:,::1])")
def compressor_gain(
    signal, gain_db, gain_lin, state, blend, rms_k, link, link_mean, threshold_db, slope, knee_db, range_db,
    attack_k, release_k, hold_frames, auto_release, fill_k, drain_k, scratch,
):  # fmt: skip
    """Gain of a compressor from what its detector hears.

    signal (lanes, frames): what is detected. gain_db, gain_lin (gain lanes, frames): filled; one gain lane when
    fully linked, else as many as signal lanes. state (lanes, LANE_STATE) is carried. blend 0 peak .. 1 RMS; link
    0..1 moves each lane's level to the lanes' maximum or mean; slope = 1/ratio - 1. scratch (SCRATCH_ROWS, CHUNK).
    """
    lanes, frames = signal.shape
    gain_lanes = gain_db.shape[0]
    bits = scratch.view(np.int64)
    for start in range(0, frames, CHUNK):
        count = min(CHUNK, frames - start)
        for lane in range(lanes):
            _lane_level_db(
                signal[lane, start:], scratch[lane], bits[lane], scratch[2], bits[2], scratch[3], bits[3],
                count, blend, rms_k, state[lane],
            )  # fmt: skip
        if lanes == 2 and link > 0.0:
            a, b = scratch[0], scratch[1]
            for i in range(count):
                tied = 0.5 * (a[i] + b[i]) if link_mean else (a[i] if a[i] > b[i] else b[i])
                a[i], b[i] = a[i] + link * (tied - a[i]), b[i] + link * (tied - b[i])
        for lane in range(gain_lanes):
            gain = gain_db[lane, start : start + count]
            _over_threshold_gain(scratch[lane], scratch[2], count, threshold_db, slope, knee_db, range_db)
            _smooth(scratch[2], gain, count, attack_k, release_k, hold_frames, state[lane])
            if auto_release:
                _slow_release(scratch[2], gain, count, fill_k, drain_k, state[lane])
            _db_to_amplitude(gain, scratch[3], bits[3], scratch[4], bits[4], count)
            gain_lin[lane, start : start + count] = scratch[3, :count]


@kernel("void(f8[:,::1], f8[:,::1], f8, f8, f8, b1, b1, b1, f8[:,::1])")
def apply_gain(source, gain_lin, dry, wet, output, mid_side, first_on, second_on, out):
    """out = output * source * (dry + wet * gain) on the lanes that are on; the others only take the output gain.

    source, out (channels, frames); gain_lin (1 or channels, frames); dry, wet, output linear. With mid_side the
    lanes are M = (L+R)/2 and S = (L-R)/2, back by L = M+S, R = M-S.
    """
    channels, frames = source.shape
    first_gain, second_gain = gain_lin[0], gain_lin[gain_lin.shape[0] - 1]
    first_dry, first_wet = (output * dry, output * wet) if first_on else (output, 0.0)
    second_dry, second_wet = (output * dry, output * wet) if second_on else (output, 0.0)
    if channels == 1:
        for i in range(frames):
            out[0, i] = source[0, i] * (first_dry + first_wet * first_gain[i])
    elif mid_side:
        for i in range(frames):
            m = 0.5 * (source[0, i] + source[1, i]) * (first_dry + first_wet * first_gain[i])
            s = 0.5 * (source[0, i] - source[1, i]) * (second_dry + second_wet * second_gain[i])
            out[0, i] = m + s
            out[1, i] = m - s
    else:
        for i in range(frames):
            out[0, i] = source[0, i] * (first_dry + first_wet * first_gain[i])
            out[1, i] = source[1, i] * (second_dry + second_wet * second_gain[i])
