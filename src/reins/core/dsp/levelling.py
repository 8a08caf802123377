"""Two sounds made equally loud while they run: by their mean powers of the last moments, K-weighted (dsp.loudness); and
what that leaves over, because a mean comes late, by those of some seconds.
"""

import math

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import flush, fused, kernel
from reins.core.dsp.lanes import begun, first, keep, pair, second
from reins.core.dsp.loudness import k_weighting
from reins.core.units import one_pole_k

Array = npt.NDArray[np.float64]
QUICK_MS, SLOW_MS = 200.0, 3000.0  # over which loudness is compared
QUIET = 1e-9  # of the power: what lies under -90 dB is no reason to change anything
POWERS = 4  # of source and made; of source and what the first gain made of it, over seconds


@fused
def _run(source, made, sections, state, quick_k, slow_k, powers, out):
    """As level_alike. All four filters go in one loop: none waits for another."""
    left, right, made_left, made_right, out_left, out_right = source[0], source[-1], made[0], made[-1], out[0], out[-1]
    power, other, all_power, all_other = powers[0], powers[1], powers[2], powers[3]
    b0, b1, b2, a1, a2 = sections[0, 0], sections[0, 1], sections[0, 2], sections[0, 3], sections[0, 4]
    c0, c1, c2, d1, d2 = sections[1, 0], sections[1, 1], sections[1, 2], sections[1, 3], sections[1, 4]
    p, q = begun(state[0, 0])
    r, s = begun(state[0, 1])
    t, u = begun(state[1, 0])
    v, w = begun(state[1, 1])
    share = 1.0 if source.shape[0] == 2 else 0.5  # one channel is its own neighbour
    for i in range(left.size):
        x, z = pair(left[i], right[i]), pair(made_left[i], made_right[i])
        y = b0 * x + p
        p, q = (b1 * x + q) - a1 * y, b2 * x - a2 * y
        x = c0 * y + r
        r, s = (c1 * y + s) - d1 * x, c2 * y - d2 * x
        y = b0 * z + t
        t, u = (b1 * z + u) - a1 * y, b2 * z - a2 * y
        heard = c0 * y + v
        v, w = (c1 * y + w) - d1 * heard, c2 * y - d2 * heard
        squares, others = x * x, heard * heard
        a, b = share * (first(squares) + second(squares)), share * (first(others) + second(others))
        power += quick_k * (a - power)
        other += quick_k * (b - other)
        ratio = (power + QUIET) / (other + QUIET)
        all_power += slow_k * (a - all_power)
        all_other += slow_k * (ratio * b - all_other)
        levelled = math.sqrt(ratio * (all_power + QUIET) / (all_other + QUIET)) * z
        out_left[i], out_right[i] = first(levelled), second(levelled)
    keep(state[0, 0], p, q)
    keep(state[0, 1], r, s)
    keep(state[1, 0], t, u)
    keep(state[1, 1], v, w)
    powers[0], powers[1], powers[2], powers[3] = flush(power), flush(other), flush(all_power), flush(all_other)


@kernel("void(f8[:,::1], f8[:,::1], f8[:,::1], f8[:,:,:,::1], f8, f8, f8[::1], f8[:,::1])")
def level_alike(source, made, sections, state, quick_k, slow_k, powers, out):
    """out = made (channels, frames) times what makes it as loud as source: both heard through two sections (2, 5).

    quick_k, slow_k: one pole each on the powers; powers (POWERS,) and state (2, 2, channels, 2), of source and made,
    are carried.
    """
    _run(source, made, sections, state, quick_k, slow_k, powers, out)


class Levelled:
    """Makes what was made of a sound as loud as that, while both run."""

    carried = ("_state", "_powers")

    def __init__(self, channels: int, sample_rate: int) -> None:
        self._weights, self._state = k_weighting(sample_rate), np.zeros((2, 2, channels, 2))
        self._quick_k, self._slow_k = one_pole_k(QUICK_MS, sample_rate), one_pole_k(SLOW_MS, sample_rate)
        self._powers = np.zeros(POWERS)

    def process(self, source: Array, made: Array) -> Array:
        """made (channels, frames), as loud as source."""
        out = np.empty_like(made)
        level_alike(source, made, self._weights, self._state, self._quick_k, self._slow_k, self._powers, out)
        return out
