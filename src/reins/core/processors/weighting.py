"""The weighting that makes highs count as loud as they seem: up by 0 to 6 dB/oct above 100 Hz."""

import math
from functools import cache

import numpy as np

from reins.core.processors.base import Array

FROM_HZ = 100.0
STEPS = 10
TOP_HZ = 60000.0


@cache
def rising_sections(sample_rate: int, db_oct: float = 3.0) -> Array:
    """Sections of a filter that is flat up to 100 Hz and then rises by so many dB per octave.

    At 3 within 0.6 dB of that from 200 Hz to 12 kHz at 48 kHz, and within 1.5 dB at the bend and at 20 kHz.

    A row of steps: a zero, then a pole half a step later on a log scale, rises half as steeply as a zero alone would,
    by 6 dB per octave; one that comes sooner less.
    """
    share = db_oct / 6.0
    step = (TOP_HZ / FROM_HZ) ** (1.0 / STEPS)
    rows = []
    for index in range(STEPS):
        zero_hz = FROM_HZ * step ** (index + 0.5 * (1.0 - share))
        pole_hz = zero_hz * step**share
        z = math.exp(-2.0 * math.pi * zero_hz / sample_rate)
        p = math.exp(-2.0 * math.pi * pole_hz / sample_rate)
        gain = (1.0 - p) / (1.0 - z)
        rows.append((np.array([gain, -gain * z]), np.array([1.0, -p])))
    pairs = zip(rows[::2], rows[1::2], strict=True)
    return np.array([[*np.convolve(b, d), *np.convolve(a, c)[1:]] for (b, a), (d, c) in pairs])
