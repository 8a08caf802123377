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
from reins.core.dsp.decibels import FLOOR_AMPLITUDE, amplitude_to_db, db_to_amplitude, largest_bits
from reins.core.dsp.dynamics import slow_step

Array = npt.NDArray[np.float64]

PHASES, TAPS = 8, 32  # eight times finer: a sine at the Nyquist rate is read at most 0.17 dB too low
REACH = 2.4  # no phase can make more of its samples: its magnitudes add up to less
STEPS = float(1 << 40)

# State of a lane: gain and slow gain in dB, the sum of the mean in steps (whole numbers below 2^53: exact), and of the
# automatic release what dsp.dynamics.slow_step has: the valley, frames until it ends and until demand does, its age.
GAIN, SLOW, TOTAL, VALLEY, VALLEY_LEFT, DEMAND_LEFT, DEMAND_AGE = 0, 1, 2, 3, 4, 5, 6
LANE_STATE = 7
FRAME, FIRST, LENGTH, PLACE = 0, 1, 2, 3  # counters of a lane
PIECE = 256  # frames worked on at a time


@cache
def interpolator() -> Array:
    """Windowed-sinc phases (PHASES, TAPS), in the order of the samples, around the middle of the taps; phase 0 is the
    sample itself.
    """
    n = np.arange(TAPS) - (TAPS // 2 - 1)
    shift = np.arange(PHASES)[:, None] / PHASES
    t = shift - n[None, :]
    window = np.i0(9.0 * np.sqrt(np.maximum(1.0 - (t / (TAPS / 2)) ** 2, 0.0))) / np.i0(9.0)
    return np.ascontiguousarray(np.sinc(t) * window)


@cache
def bound() -> Array:
    """The most that any phase takes of each tap (TAPS,), a hair more for what sums are rounded by."""
    return np.ascontiguousarray(np.abs(interpolator()).max(axis=0) * (1.0 + 1e-9))


@inlined
def _filtered(work, taps, source, count):
    """Four taps at once: fewer passes over the work."""
    work[:count] = 0.0
    for tap in range(0, taps.size, 4):
        c0, c1, c2, c3 = taps[tap], taps[tap + 1], taps[tap + 2], taps[tap + 3]
        part = source[tap:]
        for i in range(count):
            work[i] += (c0 * part[i] + c1 * part[i + 1]) + (c2 * part[i + 2] + c3 * part[i + 3])


@inlined
def _highest_between(window, phases):
    """Largest magnitude of all phases of one frame, from the samples around it (taps,)."""
    highest = 0.0
    for phase in range(1, phases.shape[0]):
        taps, total = phases[phase], 0.0
        for k in range(0, taps.size, 4):
            total += (taps[k] * window[k] + taps[k + 1] * window[k + 1]) + (
                taps[k + 2] * window[k + 2] + taps[k + 3] * window[k + 3]
            )
        highest = max(highest, abs(total))
    return highest


@inlined
def _raise_to(peaks, work, count):
    for i in range(count):
        a = abs(work[i])
        peaks[i] = a if a > peaks[i] else peaks[i]


@inlined
def _between(source, phases, most, ceiling, peaks, count, sizes, work):
    """Raise peaks to what lies between the samples, wherever that may pass the ceiling: source (taps - 1 + count,) with
    magnitudes `sizes`. What the taps could make of those at most is a filter of one phase, so that the others run only
    at the few frames where it says they must.
    """
    _filtered(work, most, sizes, count)
    for i in range(count):
        if work[i] > ceiling:
            peaks[i] = max(peaks[i], _highest_between(source[i:], phases))


@kernel("void(f8[:,::1], i8, f8[:,::1], f8[::1], f8, f8[:,::1])", makes_room=True)
def between_peaks(driven, first, phases, most, ceiling, peaks):
    """Largest magnitude on and after each frame: driven (channels, frames), of which those from `first` on count, taps
    - 1 before the first of peaks (channels, frames), or (1, frames) for the loudest of all channels.

    Where no sample near by is loud enough for the interpolation to reach the ceiling, the samples' own peaks stand.
    """
    frames, taps = peaks.shape[1], phases.shape[1]
    middle = taps // 2 - 1
    work, sizes, own = np.empty(PIECE), np.empty(PIECE + taps), np.empty(PIECE)
    bits, loudest = sizes.view(np.int64), np.empty(1)
    loudest_bits = loudest.view(np.int64)
    peaks[:] = 0.0
    for channel in range(driven.shape[0]):
        lane = peaks[channel if channel < peaks.shape[0] else 0]
        for start in range(0, frames, PIECE):
            count = min(PIECE, frames - start)
            source = driven[channel, first + start :]
            for i in range(count + taps - 1):
                sizes[i] = abs(source[i])
            loudest_bits[0] = largest_bits(bits, count + taps - 1)
            for i in range(count):
                own[i] = sizes[middle + i]
            if loudest[0] * REACH > ceiling:
                _between(source, phases, most, ceiling, own, count, sizes, work)
            _raise_to(lane[start:], own, count)


@kernel("void(f8[:,::1], i8, f8[:,::1])")
def sample_peaks(driven, first, peaks):
    """As between_peaks, of the samples alone; driven from `first` on."""
    peaks[:] = 0.0
    for channel in range(driven.shape[0]):
        _raise_to(peaks[channel if channel < peaks.shape[0] else 0], driven[channel, first:], peaks.shape[1])


@inlined
def _needed(gains, start, count, ceiling, link, needs):
    """The gain that each peak wants into needs (lanes, count), linked as asked; returns the least."""
    least = 1.0
    lanes = gains.shape[0]
    for lane in range(lanes):
        peaks, need = gains[lane, start:], needs[lane]
        for i in range(count):
            need[i] = ceiling / peaks[i] if peaks[i] > ceiling else 1.0
        for i in range(count):
            least = need[i] if need[i] < least else least
    if lanes == 2 and least < 1.0:
        for i in range(count):
            deepest = min(needs[0, i], needs[1, i])
            for lane in range(2):
                needs[lane, i] += link * (deepest - needs[lane, i])
    return least


@inlined
def _least_of_window(needs, count, wanted, places, counters):
    """Turn each need into the least of the window that ends with it, in place: the queue of a sliding minimum."""
    ring = wanted.size
    frame, first, length = counters[FRAME], counters[FIRST], counters[LENGTH]
    for i in range(count):
        need = needs[i]
        back = first + length - 1
        back = back - ring if back >= ring else back
        while length > 0 and wanted[back] >= need:
            length -= 1
            back = back - 1 if back > 0 else ring - 1
        back = first + length
        back = back - ring if back >= ring else back
        wanted[back], places[back] = need, frame
        length += 1
        if places[first] <= frame - (ring - 1):
            first = first + 1 if first + 1 < ring else 0
            length -= 1
        needs[i] = wanted[first]
        frame += 1
    counters[FRAME], counters[FIRST], counters[LENGTH] = frame, first, length


@inlined
def _nothing_wanted(count, wanted, places, counters):
    """As _least_of_window where no frame wants anything, and none in the window did."""
    counters[FRAME] += count
    counters[LENGTH] = 1
    wanted[counters[FIRST]], places[counters[FIRST]] = 1.0, counters[FRAME] - 1


@inlined
def _released(least, count, params, state, used):
    """The gain in dB, down at once and back with one pole, or two, from the least gains wanted."""
    release_k, automatic, fill_k, drain_k, span = params[2], params[3], params[4], params[5], params[6]
    gain, slow, known, target = state[GAIN], state[SLOW], 1.0, 0.0
    for i in range(count):
        if least[i] != known:  # a logarithm only of what has changed: one least gain stands for a window at a time
            known = least[i]
            target = 20.0 * math.log10(known) if known < 1.0 else 0.0
        gain = target if target < gain else gain + release_k * (target - gain)
        gain = gain if gain < -1e-12 else 0.0
        used[i] = gain
        if automatic > 0.0:
            slow = slow_step(slow, gain, target, fill_k, drain_k, span, state[VALLEY:])
            slow = slow if slow < -1e-12 else 0.0
            used[i] = slow if slow < gain else gain
    state[GAIN], state[SLOW] = gain, slow


@inlined
def _mean_of(amplitudes, count, recent, counters, state, gains):
    """The running mean of amplitudes, in whole steps."""
    mean, place, total = recent.size, counters[PLACE], np.int64(state[TOTAL])
    for i in range(count):
        steps = np.int64(STEPS * amplitudes[i])
        total += steps - recent[place]
        recent[place] = steps
        gains[i] = total
        place = place + 1 if place + 1 < mean else 0
    for i in range(count):
        gains[i] /= STEPS * mean
    counters[PLACE], state[TOTAL] = place, total


@inlined
def _rests(state, recent, automatic, span):
    """Whether gains stand at 1, and will as long as nothing is wanted."""
    ready = state[VALLEY] == 0.0 and state[VALLEY_LEFT] == span and state[DEMAND_LEFT] == 0.0 and state[SLOW] == 0.0
    return state[GAIN] == 0.0 and state[TOTAL] == STEPS * recent.size and (automatic == 0.0 or ready)


@kernel("void(f8[:,::1], f8[:,::1], i8[:,::1], f8[:,::1], i8[:,::1], i8[:,::1], f8[:,::1], i8[::1])", makes_room=True)
def limit_gain(gains, wanted, places, lanes, recent, counters, params, begins):
    """Turn peaks (lanes, frames) into gains, in place.

    wanted, places (lanes, window + 1): the queue of the sliding minimum as a ring, values and frames. lanes (lanes,
    LANE_STATE). recent (lanes, mean): the last gains in whole steps. counters (lanes, 4): frame, the
    queue's first place and length, place of the mean. params (rows, 7), row k from frame begins[k] on: ceiling, link
    0..1, release_k, automatic (0 or 1), fill_k, drain_k, frames of the valley.

    Pass by pass over PIECE frames, so that all but two recursions vectorise; where nothing is wanted there is less to
    do, and at rest nothing, which is where most sound is.
    """
    count, frames = gains.shape
    needs, used, work = np.empty((count, PIECE)), np.empty(PIECE), np.empty(PIECE)
    bits = work.view(np.int64)
    for row in range(begins.size):
        now, end = params[row], begins[row + 1] if row + 1 < begins.size else frames
        for start in range(begins[row], end, PIECE):
            n = min(PIECE, end - start)
            least = _needed(gains, start, n, now[0], now[1], needs)
            for lane in range(count):
                need, state, made = needs[lane], lanes[lane], gains[lane, start:]
                if least == 1.0 and wanted[lane, counters[lane, FIRST]] == 1.0:
                    _nothing_wanted(n, wanted[lane], places[lane], counters[lane])
                    if _rests(state, recent[lane], now[3], now[6]):
                        counters[lane, PLACE] = (counters[lane, PLACE] + n) % recent.shape[1]
                        made[:n] = 1.0
                        continue
                else:
                    _least_of_window(need, n, wanted[lane], places[lane], counters[lane])
                _released(need, n, now, state, used)
                db_to_amplitude(used, need, needs.view(np.int64)[lane], work, bits, n)
                _mean_of(need, n, recent[lane], counters[lane], state, made)


@kernel("void(f8[:,::1], i8, f8[:,::1], f8, f8[::1], f8[:,::1])", makes_room=True)
def apply_limit(driven, first, gains, ceiling, gain_db, out):
    """out (channels, frames) = driven from `first` on times its lane of gains (lanes, frames; one lane serves all),
    kept within the ceiling, which the product may pass by a rounding error. gain_db (frames) is the lowest gain of all
    lanes.
    """
    channels, frames = out.shape
    lanes = gains.shape[0]
    for channel in range(channels):
        sound, gain, bounded = driven[channel, first:], gains[min(channel, lanes - 1)], out[channel]
        for i in range(frames):
            x = sound[i] * gain[i]
            x = x if x < ceiling else ceiling
            bounded[i] = x if x > -ceiling else -ceiling
    first, last, work = gains[0], gains[lanes - 1], np.empty(frames)
    for i in range(frames):
        low = first[i] if first[i] < last[i] else last[i]
        gain_db[i] = low if low > FLOOR_AMPLITUDE else FLOOR_AMPLITUDE
    amplitude_to_db(gain_db, gain_db.view(np.int64), work, work.view(np.int64), frames)
