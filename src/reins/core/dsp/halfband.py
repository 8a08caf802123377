"""Twice the rate and half the rate: linear-phase half-band filters, every second tap of which is nothing.

Windowed sincs (J. F. Kaiser's window, "Nonrecursive digital filter design using the I0-sinh window function", ISCAS
1974) whose stop band lies 96 dB down, or such of equal ripple. The first passes 20 kHz at 44.1 kHz; those further up
have far more room and are short. With taps h[0..2M], M odd, only the middle one and those at even places
count.
"""

from functools import lru_cache

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import kernel

Array = npt.NDArray[np.float64]
REACHES = (65, 11, 9, 7)  # M of each doubling, from the base rate up
ATTENUATION_DB = 96.0
TILE = 512  # frames worked on at a time


@lru_cache(16)
def half_band_taps(reach: int, attenuation_db: float) -> Array:
    """h[0], h[2] ... up to the middle, for a sum of 1 of all taps."""
    n = np.arange(2 * reach + 1)
    h = 0.5 * np.sinc((n - reach) / 2.0) * np.kaiser(n.size, 0.1102 * (attenuation_db - 8.7))
    even = h[::2] * (0.5 / h[::2].sum())
    return np.ascontiguousarray(even[: (reach + 1) // 2])


@lru_cache(16)
def equal_ripple_taps(reach: int, edge: float) -> Array:
    """As half_band_taps, of the filter with the least ripple up to `edge`, a share of the higher rate, and above half
    that rate less the edge: what a half-band filter passes at f and at half the rate less f adds up to 1.

    By weights that grow where the ripple is large (C. L. Lawson, 1961, from memory).
    """
    count = (reach + 1) // 2
    spread = 0.5 - 0.5 * np.cos(np.pi * np.linspace(0.0, 1.0, 8 * count))  # denser towards both ends
    terms = 2.0 * np.cos(2.0 * np.pi * edge * np.outer(spread, np.arange(1, 2 * count, 2)))
    weights, least = np.ones(spread.size), np.inf
    best: Array = np.zeros(count)
    for _ in range(20):
        by = np.sqrt(weights)
        taps = np.asarray(np.linalg.lstsq(terms * by[:, None], 0.5 * by, rcond=None)[0], np.float64)
        ripple = np.abs(terms @ taps - 0.5)
        if ripple.max() < least:
            least, best = ripple.max(), taps
        weights = weights * ripple / (weights * ripple).mean()
    return np.ascontiguousarray(best[::-1])


@kernel("void(f8[:,::1], f8[::1], f8[::1], f8[:,::1])")
def _up(joined, taps, sums, out):
    """out (channels, 2 n) from joined (channels, reach + n): the last `reach` frames and the next n.

    Taps stand mirrored around the middle, so pairs of frames share one; the loop over frames is the inner one, so that
    it vectorises and the order of each sum never depends on the block; TILE frames at a time stay at hand. Both
    phases lie as pairs: a doubled index could be negative, for all the compiler knows, and would not vectorise.
    """
    reach, frames = 2 * taps.size - 1, joined.shape[1] - (2 * taps.size - 1)
    for channel in range(joined.shape[0]):
        pairs = out[channel].reshape(frames, 2)
        for start in range(0, frames, TILE):
            n = min(TILE, frames - start)
            row, made = joined[channel, start:], pairs[start : start + n]
            for i in range(n):
                sums[i] = 0.0
            for j in range(taps.size):
                newer, older = row[reach - j : reach - j + n], row[j : j + n]
                h = taps[j] + taps[j]
                for i in range(n):
                    sums[i] += h * (newer[i] + older[i])
            middle = row[(reach + 1) // 2 : (reach + 1) // 2 + n]
            for i in range(n):
                made[i, 0], made[i, 1] = sums[i], middle[i]


@kernel("void(f8[:,::1], f8[::1], f8[::1], f8[::1], f8[:,::1])")
def _down(joined, taps, evens, sums, out):
    """out (channels, n) from joined (channels, 2 reach + 2 n); see _up."""
    reach, frames = 2 * taps.size - 1, out.shape[1]
    for channel in range(joined.shape[0]):
        pairs = joined[channel].reshape(reach + frames, 2)
        for start in range(0, frames, TILE):
            n = min(TILE, frames - start)
            part, made = pairs[start : start + n + reach], out[channel, start:]
            odd = part[(reach - 1) // 2 :]
            for i in range(n + reach):
                evens[i] = part[i, 0]
            for i in range(n):
                sums[i] = 0.5 * odd[i, 1]
            for j in range(taps.size):
                newer, older = evens[reach - j : reach - j + n], evens[j : j + n]
                for i in range(n):
                    sums[i] += taps[j] * (newer[i] + older[i])
            for i in range(n):
                made[i] = sums[i]


class Doubler:
    """A signal at twice the rate; `reach` of the new frames later."""

    carried = ()

    def __init__(self, channels: int, reach: int) -> None:
        self.reach, self._taps = reach, half_band_taps(reach, ATTENUATION_DB)
        self._before = np.zeros((channels, reach))

    def process(self, signal: Array) -> Array:
        """(channels, 2 n) from the next (channels, n)."""
        joined = np.concatenate([self._before, signal], axis=1)
        self._before = joined[:, signal.shape[1] :].copy()
        out = np.empty((signal.shape[0], 2 * signal.shape[1]))
        _up(joined, self._taps, np.empty(TILE), out)
        return out


class Halver:
    """A signal at half the rate; `reach` of the old frames later."""

    carried = ()

    def __init__(self, channels: int, reach: int) -> None:
        self.reach, self._taps = reach, half_band_taps(reach, ATTENUATION_DB)
        self._before = np.zeros((channels, 2 * reach))

    def process(self, signal: Array) -> Array:
        """(channels, n) from the next (channels, 2 n)."""
        joined = np.concatenate([self._before, signal], axis=1)
        self._before = joined[:, signal.shape[1] :].copy()
        n = signal.shape[1] // 2
        out = np.empty((signal.shape[0], n))
        _down(joined, self._taps, np.empty(self.reach + TILE), np.empty(TILE), out)
        return out
