"""One pass over a block: what a processor did and how loud source and result are, folded into fine bins.

A bin is BIN_FRAMES long. Everything the screen shows of a span - columns at any zoom, statistics, histogram - is made
from the bins, so that a whole take is run once and looked at many times.
"""

from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import kernel

Array = npt.NDArray[np.float64]
Counts = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float32]

BIN_FRAMES = 64
STEPS_PER_DB = 20
HISTOGRAM_BINS = 60 * STEPS_PER_DB + 1  # bin k holds k / 20 dB up to, not with, the next; 60 and more the last
ROUNDING = 1e-9  # of a step, so that what is 0.5 dB but for its last digit counts as 0.5
HELD_DB = 0.5  # a frame counts as held when at least this much is taken (or given)


@kernel("void(f8[:,::1], f8[::1], i8, i8, f8[::1], f8[::1], f8[::1], f8[::1], i8[::1], i8[::1])")
def fold_block(
    result: Array,
    gain_db: Array,
    first_frame: int,
    frames_wanted: int,
    peaks: Array,
    squares: Array,
    deepest: Array,
    highest: Array,
    histogram: Counts,
    lifted: Counts,
) -> None:
    """Fold result (channels, frames) and gain_db (frames) into bins; first_frame is counted within the span.

    peaks, deepest, highest: per bin the largest magnitude, lowest and highest gain. squares (1): their sum so far over
    all channels. histogram counts frames by gain taken, lifted those by gain given.
    """
    channels = result.shape[0]
    i = 0
    while i < frames_wanted:
        index = (first_frame + i) // BIN_FRAMES
        stop = min(frames_wanted, (index + 1) * BIN_FRAMES - first_frame)
        peak, low, high = peaks[index], deepest[index], highest[index]
        square = 0.0
        for channel in range(channels):
            for k in range(i, stop):
                x = result[channel, k]
                a = abs(x)
                peak = a if a > peak else peak
                square += x * x
        for k in range(i, stop):
            g = gain_db[k]
            low = g if g < low else low
            high = g if g > high else high
            step = int(min(abs(g), 60.0) * STEPS_PER_DB + ROUNDING)
            if g < 0.0:
                histogram[step] += 1
            elif g > 0.0:
                lifted[step] += 1
        peaks[index], deepest[index], highest[index] = peak, low, high
        squares[0] += square
        i = stop


# What is counted of a gate over a span: frames open, times opened, frames of the shortest opening, frames of the
# opening that is going on, state of the last frame.
FRAMES_OPEN, OPENINGS, SHORTEST, GOING_ON, LAST = 0, 1, 2, 3, 4
GATE_COUNTS = 5


@kernel("void(f8[::1], i8, i1[::1], i8[::1])")
def fold_states(states: Array, first_frame: int, bins: npt.NDArray[np.int8], counts: Counts) -> None:
    """Fold a gate's states (frames) into bins and counts.

    A bin keeps its most open state (1 open, 2 holding, 3 closing, 0 closed). An opening lasts from the first frame that
    is open to the last before it closes; states as in dsp.gating.
    """
    for i in range(states.size):
        state = int(states[i])
        index = (first_frame + i) // BIN_FRAMES
        known = bins[index]
        if state != 0 and (known == 0 or state < known):
            bins[index] = state
        is_open = state == 1 or state == 2
        was_open = counts[LAST] == 1 or counts[LAST] == 2
        if is_open:
            counts[FRAMES_OPEN] += 1
            counts[GOING_ON] = counts[GOING_ON] + 1 if was_open else 1
            if not was_open:
                counts[OPENINGS] += 1
        elif was_open and (counts[SHORTEST] == 0 or counts[GOING_ON] < counts[SHORTEST]):
            counts[SHORTEST] = counts[GOING_ON]
        counts[LAST] = state


@kernel("void(f8[::1], f8[:,::1], i8, i8[:,::1], f4[:,::1])")
def fold_ribbon(charge: Array, heard: Array, first_frame: int, counts: Counts, levels: Floats) -> None:
    """Fold who is in charge (frames), 0 nobody, into how many frames of each bin are whose (bins, speeds), and what
    each detector hears in dB (detectors, frames) into its highest (detectors, bins).
    """
    for i in range(charge.size):
        index = (first_frame + i) // BIN_FRAMES
        counts[index, int(charge[i])] += 1
        for row in range(heard.shape[0]):
            if heard[row, i] > levels[row, index]:
                levels[row, index] = heard[row, i]


@kernel("i8(f8[::1], i8, i8[::1], i8[::1])")
def fold_returns(gain_db: Array, count: int, state: Counts, lengths: Counts) -> int:
    """Note how long each dip takes from its deepest moment back to within HELD_DB; returns how many are noted.

    state (3,) is carried: whether a dip goes on, frames since its deepest, that depth in thousandths of a dB.
    """
    for i in range(gain_db.size):
        depth = int(-gain_db[i] * 1000.0)
        if depth >= int(HELD_DB * 1000.0):
            if state[0] == 0 or depth >= state[2]:
                state[0], state[1], state[2] = 1, 0, depth
            else:
                state[1] += 1
        elif state[0] == 1:
            if count < lengths.size:
                lengths[count] = state[1] + 1
                count += 1
            state[0] = 0
    return count


@kernel("void(f8[::1], i8, f4[::1], f4[::1], i8[::1], i8[::1], f8[::1])")
def fold_band(
    gain_db: Array, first_frame: int, deepest: Floats, highest: Floats, histogram: Counts, times: Counts, total: Array
) -> None:
    """Fold the gain of one band (frames) into bins of its deepest and highest and a histogram of how far it moved.

    times (2,): whether it is moving, and how often it began to (by HELD_DB; it has stopped at half that). total (1,):
    the sum of its gain in dB.
    """
    for i in range(gain_db.size):
        g = gain_db[i]
        far = abs(g)
        index = (first_frame + i) // BIN_FRAMES
        deepest[index] = min(deepest[index], g)
        highest[index] = max(highest[index], g)
        histogram[int(min(far, 60.0) * STEPS_PER_DB + ROUNDING)] += 1
        total[0] += g
        if times[0] == 0 and far >= HELD_DB:
            times[0] = 1
            times[1] += 1
        elif far < 0.5 * HELD_DB:
            times[0] = 0


@kernel("void(f4[:,:,::1], i8[::1], i8[::1], i8[::1], i1[:,::1])")
def fold_bins(gains_db: Any, columns: Counts, low: Counts, high: Counts, codes: npt.NDArray[np.int8]) -> None:
    """Fold gains of windows (lanes, windows, bins) into codes (columns, rows), half dB each, by what is furthest from
    0: a window belongs to a column (those outside are passed over), a row has the bins from low to high.
    """
    for window in range(columns.size):
        column = columns[window]
        if column < 0 or column >= codes.shape[0]:
            continue
        for lane in range(gains_db.shape[0]):
            for row in range(low.size):
                least = most = 0.0
                for i in range(low[row], high[row]):
                    least = min(least, gains_db[lane, window, i])
                    most = max(most, gains_db[lane, window, i])
                code = int(np.rint(2.0 * max(-63.5, min(63.5, least if -least > most else most))))
                if abs(code) > abs(codes[column, row]):
                    codes[column, row] = code


@kernel("void(f8[:,::1], f8, f8, f8[::1], i8, i8, f8[::1])")
def fold_loudest(
    signal: Array, blend: float, rms_k: float, state: Array, first: int, every: int, loudest: Array
) -> None:
    """Into columns of so many frames the highest level of a signal (channels, frames): of its peak, of its average over
    one pole, or of so much of a blend of both in dB. state (1,): the mean square, carried. Frames before the first
    column or behind the last are passed over.
    """
    mean, i = state[0], 0
    while i < signal.shape[1]:
        column = (first + i) // every
        stop = min(signal.shape[1], (column + 1) * every - first)
        most = 0.0
        for k in range(i, stop):
            a = 0.0
            for channel in range(signal.shape[0]):
                a = max(a, abs(signal[channel, k]))
            mean += rms_k * (a * a - mean)
            if blend > 0.0:
                a = max(a, 1e-9) ** (1.0 - blend) * max(mean, 1e-18) ** (0.5 * blend)
            most = max(most, a)
        if 0 <= column < loudest.size:
            loudest[column] = max(loudest[column], most)
        i = stop
    state[0] = mean if mean > 1e-30 else 0.0


@kernel("void(f8[:,::1], i8, f8[::1])")
def fold_peaks(signal: Array, first_frame: int, peaks: Array) -> None:
    """Fold the largest magnitude of a signal (channels, frames) into bins; frames outside the bins are passed over."""
    for i in range(signal.shape[1]):
        index = (first_frame + i) // BIN_FRAMES
        if first_frame + i >= 0 and index < peaks.size:
            for channel in range(signal.shape[0]):
                peaks[index] = max(peaks[index], abs(signal[channel, i]))


@kernel("void(f8[:,::1], f8[::1])")
def furthest_of(gains_db: Array, out: Array) -> None:
    """Of several gains (bands, frames) the one furthest from 0 dB in each frame."""
    for i in range(out.size):
        far = 0.0
        for band in range(gains_db.shape[0]):
            far = gains_db[band, i] if abs(gains_db[band, i]) > abs(far) else far
        out[i] = far
