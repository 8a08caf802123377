"""One pass over a block: what a processor did and how loud source and result are, folded into fine bins.

A bin is BIN_FRAMES long. Everything the screen shows of a span - columns at any zoom, statistics, histogram - is made
from the bins, so that a whole take is run once and looked at many times.
"""

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import kernel

Array = npt.NDArray[np.float64]
Counts = npt.NDArray[np.int64]

BIN_FRAMES = 64
HISTOGRAM_STEP_DB = 0.25
HISTOGRAM_BINS = 241  # 0 to -60 dB; deeper falls into the last
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
            taken = int(-g * (1.0 / HISTOGRAM_STEP_DB) + 0.5)
            if taken > 0:
                histogram[min(taken, HISTOGRAM_BINS - 1)] += 1
            elif taken < 0:
                lifted[min(-taken, HISTOGRAM_BINS - 1)] += 1
        peaks[index], deepest[index], highest[index] = peak, low, high
        squares[0] += square
        i = stop
