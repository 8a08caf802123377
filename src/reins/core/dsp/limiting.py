"""The limiter's kernels: peaks on and between the samples, and a gain that is in place before the peak arrives.

Gain: the least gain wanted over a window (a sliding minimum), one pole on its way back in dB, then a mean over the
lookahead. Every value in that mean is at most what the peak wants, so the mean is too. The mean is summed in whole
numbers (2^-40 steps, rounded down): no drift, and exactly 1 at rest.
"""

import math
from functools import cache

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import inlined, kernel
from reins.core.dsp.decibels import FLOOR_AMPLITUDE, amplitude_to_db
from reins.core.dsp.dynamics import slow_step

Array = npt.NDArray[np.float64]

PHASES, TAPS = 8, 32  # eight times finer: a sine at the Nyquist rate is read at most 0.17 dB too low
REACH = 2.4  # no phase can make more of its samples: its magnitudes add up to less
STEPS = float(1 << 40)
NEPER_PER_DB = math.log(10.0) / 20.0

# State of a lane: gain and slow gain in dB, the sum of the mean in steps (whole numbers below 2^53: exact), and of the
# automatic release what dsp.dynamics.slow_step has: the valley, frames until it ends and until demand does, its age.
GAIN, SLOW, TOTAL, VALLEY, VALLEY_LEFT, DEMAND_LEFT, DEMAND_AGE = 0, 1, 2, 3, 4, 5, 6
LANE_STATE = 7
PIECE = 256  # frames looked at together when asking whether anything can reach the ceiling


@cache
def interpolator() -> Array:
    """Windowed-sinc phases (PHASES, TAPS) around the middle of the taps; phase 0 is the sample itself."""
    n = np.arange(TAPS) - (TAPS // 2 - 1)
    shift = np.arange(PHASES)[:, None] / PHASES
    t = shift - n[None, :]
    window = np.i0(9.0 * np.sqrt(np.maximum(1.0 - (t / (TAPS / 2)) ** 2, 0.0))) / np.i0(9.0)
    return np.ascontiguousarray((np.sinc(t) * window)[:, ::-1])


@inlined
def _add_taps(work, taps, source, count):
    """Four taps at once: fewer passes over the work."""
    c0, c1, c2, c3 = taps[3], taps[2], taps[1], taps[0]
    for i in range(count):
        work[i] += (c0 * source[i] + c1 * source[i + 1]) + (c2 * source[i + 2] + c3 * source[i + 3])


@inlined
def _raise_to(peaks, work, count):
    for i in range(count):
        a = abs(work[i])
        peaks[i] = a if a > peaks[i] else peaks[i]


@kernel("void(f8[:,::1], f8[:,::1], f8, f8[:,::1])")
def between_peaks(padded, phases, ceiling, peaks):
    """Largest magnitude on and after each frame: padded (channels, taps - 1 + frames), peaks (channels, frames).

    Where no sample near by is loud enough for the interpolation to reach the ceiling, the samples' own peaks stand.
    """
    frames = peaks.shape[1]
    taps = phases.shape[1]
    middle = taps // 2 - 1
    work = np.empty(PIECE)
    for channel in range(peaks.shape[0]):
        for start in range(0, frames, PIECE):
            count = min(PIECE, frames - start)
            loudest = 0.0
            for i in range(start, start + count + taps - 1):
                a = abs(padded[channel, i])
                loudest = a if a > loudest else loudest
            for i in range(start, start + count):
                peaks[channel, i] = abs(padded[channel, i + middle])
            if loudest * REACH <= ceiling:
                continue
            for phase in range(1, phases.shape[0]):
                work[:] = 0.0
                for tap in range(0, taps, 4):
                    _add_taps(work, phases[phase, taps - 4 - tap :], padded[channel, start + tap :], count)
                _raise_to(peaks[channel, start:], work, count)


@kernel("void(f8[:,::1], f8[:,::1], i8[:,::1], f8[:,::1], i8[:,::1], i8[:,::1], f8[:,::1], i8[::1])")
def limit_gain(gains, wanted, places, lanes, recent, counters, params, begins):
    """Turn peaks (lanes, frames) into gains, in place.

    wanted, places (lanes, window + 1): the queue of the sliding minimum as a ring, values and frames. lanes (lanes,
    LANE_STATE). recent (lanes, mean): the last gains in whole steps. counters (lanes, 4): frame, the
    queue's first place and length, place of the mean. params (rows, 7), row k from frame begins[k] on: ceiling, link
    0..1, release_k, automatic (0 or 1), fill_k, drain_k, frames of the valley.
    """
    count, frames = gains.shape
    ring, mean = wanted.shape[1], recent.shape[1]
    # Logarithm and power are taken only of what has changed: the least gain stands for a window at a time.
    known_least, known_target = np.ones(count), np.zeros(count)
    known_used, known_steps = np.zeros(count), np.zeros(count, np.int64)
    for row in range(begins.size):
        ceiling, link, release_k, automatic, fill_k, drain_k, span = params[row]
        end = begins[row + 1] if row + 1 < begins.size else frames
        for i in range(begins[row], end):
            deepest = 1.0
            for lane in range(count):
                peak = gains[lane, i]
                need = ceiling / peak if peak > ceiling else 1.0
                gains[lane, i] = need
                deepest = need if need < deepest else deepest
            for lane in range(count):
                frame, first, length, place = counters[lane]
                need = gains[lane, i] + link * (deepest - gains[lane, i])
                back = first + length - 1
                back = back - ring if back >= ring else back
                while length > 0 and wanted[lane, back] >= need:
                    length -= 1
                    back = back - 1 if back > 0 else ring - 1
                back = first + length
                back = back - ring if back >= ring else back
                wanted[lane, back], places[lane, back] = need, frame
                length += 1
                if places[lane, first] <= frame - (ring - 1):
                    first = first + 1 if first + 1 < ring else 0
                    length -= 1
                least = wanted[lane, first]
                target = 0.0
                if least < 1.0:
                    if least != known_least[lane]:
                        known_least[lane], known_target[lane] = least, 20.0 * math.log10(least)
                    target = known_target[lane]
                gain, slow = lanes[lane, GAIN], lanes[lane, SLOW]
                gain = target if target < gain else gain + release_k * (target - gain)
                gain = gain if gain < -1e-12 else 0.0
                if automatic > 0.0:
                    slow = slow_step(slow, gain, target, fill_k, drain_k, span, lanes[lane, VALLEY:])
                    slow = slow if slow < -1e-12 else 0.0
                lanes[lane, GAIN], lanes[lane, SLOW] = gain, slow
                used = slow if automatic > 0.0 and slow < gain else gain
                steps = int(STEPS)
                if used < 0.0:
                    if used != known_used[lane]:
                        known_used[lane], known_steps[lane] = used, math.floor(STEPS * math.exp(used * NEPER_PER_DB))
                    steps = known_steps[lane]
                lanes[lane, TOTAL] += float(steps - recent[lane, place])
                recent[lane, place] = steps
                gains[lane, i] = lanes[lane, TOTAL] / (STEPS * mean)
                place = place + 1 if place + 1 < mean else 0
                counters[lane, 0], counters[lane, 1], counters[lane, 2], counters[lane, 3] = (
                    frame + 1,
                    first,
                    length,
                    place,
                )


@kernel("void(f8[:,::1], f8[:,::1], f8, f8[::1], f8[:,::1])")
def apply_limit(delayed, gains, ceiling, gain_db, out):
    """out = delayed (channels, frames) times its lane of gains (lanes, frames; one lane serves all), kept within the
    ceiling, which the product may pass by a rounding error. gain_db (frames) is the lowest gain of all lanes.
    """
    channels, frames = delayed.shape
    lanes = gains.shape[0]
    for channel in range(channels):
        sound, gain, bounded = delayed[channel], gains[min(channel, lanes - 1)], out[channel]
        for i in range(frames):
            x = sound[i] * gain[i]
            x = x if x < ceiling else ceiling
            bounded[i] = x if x > -ceiling else -ceiling
    first, last, work = gains[0], gains[lanes - 1], np.empty(frames)
    for i in range(frames):
        low = first[i] if first[i] < last[i] else last[i]
        gain_db[i] = low if low > FLOOR_AMPLITUDE else FLOOR_AMPLITUDE
    amplitude_to_db(gain_db, gain_db.view(np.int64), work, work.view(np.int64), frames)
