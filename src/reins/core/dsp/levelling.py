"""Two sounds made equally loud while they run: by their mean powers of the last moments, K-weighted (dsp.loudness); and
what that leaves over, because a mean comes late, by those of some seconds.
"""

import math

from reins.core.dsp.compiled import flush, kernel

QUICK_MS, SLOW_MS = 200.0, 3000.0  # over which loudness is compared
QUIET = 1e-9  # of the power: what lies under -90 dB is no reason to change anything
POWERS = 4  # of source and made; of source and what the first gain made of it, over seconds


@kernel("void(f8[:,::1], f8[:,::1], f8[:,::1], f8, f8, f8[::1], f8[:,::1])")
def level_alike(source, weighted, made, quick_k, slow_k, powers, out):
    """out = made (channels, frames) times what makes it as loud as source: both heard K-weighted, source and weighted
    (the same of made). quick_k, slow_k: one pole each on the powers; powers (POWERS,) are carried.
    """
    channels, frames = made.shape
    power, other, all_power, all_other = powers
    for i in range(frames):
        a, b = source[0, i] * source[0, i], weighted[0, i] * weighted[0, i]
        if channels == 2:
            a, b = a + source[1, i] * source[1, i], b + weighted[1, i] * weighted[1, i]
        power += quick_k * (a - power)
        other += quick_k * (b - other)
        first = (power + QUIET) / (other + QUIET)
        all_power += slow_k * (a - all_power)
        all_other += slow_k * (first * b - all_other)
        gain = math.sqrt(first * (all_power + QUIET) / (all_other + QUIET))
        out[0, i] = gain * made[0, i]
        if channels == 2:
            out[1, i] = gain * made[1, i]
    powers[0], powers[1], powers[2], powers[3] = flush(power), flush(other), flush(all_power), flush(all_other)
