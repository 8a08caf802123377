"""Linkwitz-Riley crossovers, 24 dB/oct, whose bands add up flat.

Each crossover is two equal Butterworth filters of second order in a row on either side (S. Linkwitz, "Active Crossover
Networks for Noncoincident Drivers", J. Audio Eng. Soc. 24(1), 1976). Low and high of one add up to an all-pass of
second order; the lower bands go through the all-passes of the crossovers above them, so that the sum of all bands is
the source through all these all-passes: flat in level, turned in phase.
"""

import math
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import fused, kernel
from reins.core.dsp.cuts import ALL_PASS, LOW_PASS, Swept, prewarped, second_order
from reins.core.dsp.filters import butterworth_cut
from reins.core.dsp.gliding import Glide
from reins.core.dsp.lanes import begun, first, keep, pair, second
from reins.core.dsp.sweeping import straight
from reins.core.dsp.variable import C1, C2, C3, M0, M1, M2, fixed, next_states, run_still

Array = npt.NDArray[np.float64]
BUTTERWORTH_K = math.sqrt(2.0)  # 1 / Q of a Butterworth filter of second order


def crossover_sections(frequency_hz: float, sample_rate: int) -> tuple[Array, Array, Array]:
    """(low, high, all-pass) sections of one crossover."""
    low = butterworth_cut("high_cut", cutoff_hz=frequency_hz, order=2, sample_rate=sample_rate)
    high = butterworth_cut("low_cut", cutoff_hz=frequency_hz, order=2, sample_rate=sample_rate)
    a1, a2 = low[0, 3:]
    return np.repeat(low, 2, axis=0), np.repeat(high, 2, axis=0), np.array([[a2, a1, 1.0, a1, a2]])


def band_paths(crossovers_hz: list[float], sample_rate: int) -> tuple[Array, ...]:
    """For each band, from the lowest, all sections between source and band; to be read only."""
    return _paths(tuple(crossovers_hz), sample_rate)


@lru_cache(64)
def _paths(crossovers_hz: tuple[float, ...], sample_rate: int) -> tuple[Array, ...]:
    each = [crossover_sections(frequency, sample_rate) for frequency in crossovers_hz]
    paths = []
    for band in range(len(each) + 1):
        parts = [high for _, high, _ in each[:band]]
        parts += [low for low, _, _ in each[band : band + 1]]
        parts += [all_pass for _, _, all_pass in each[band + 1 :]]
        paths.append(np.concatenate(parts))
    return tuple(paths)


@fused
def _part(rest, low, turned, states, band, above):
    """Low-pass twice, and the all-pass of both less that: three filters in one loop, none of which waits for another.

    rest (channels, frames) becomes band and above, which may be rest itself; low, turned: coefficients.
    """
    c1, c2, c3, pass_low = low[C1], low[C2], low[C3], low[M2]
    d1, d2, d3, pass_all, turn = turned[C1], turned[C2], turned[C3], turned[M0], turned[M1]
    left, right = rest[0], rest[-1]
    band_left, band_right, above_left, above_right = band[0], band[-1], above[0], above[-1]
    p, q = begun(states[0])
    r, s = begun(states[1])
    u, v = begun(states[2])
    for i in range(left.size):
        x = pair(left[i], right[i])
        _, next_q = ahead = next_states(x, p, q, c1, c2, c3)
        y = pass_low * (q + next_q)
        p, q = ahead
        _, next_s = ahead = next_states(y, r, s, c1, c2, c3)
        y = pass_low * (s + next_s)
        r, s = ahead
        next_u, _ = ahead = next_states(x, u, v, d1, d2, d3)
        z = (pass_all * x + turn * (u + next_u)) - y
        u, v = ahead
        band_left[i], band_right[i], above_left[i], above_right[i] = first(y), second(y), first(z), second(z)
    keep(states[0], p, q)
    keep(states[1], r, s)
    keep(states[2], u, v)


@kernel("void(f8[:,::1], f8[:,:,::1], f8[:,:,:,::1], f8[:,:,::1])")
def split_still(signal, coefficients, states, bands):
    """Bands (crossovers + 1, channels, frames), from the lowest, of signal (channels, frames).

    coefficients (crossovers, 2, 6): of the low-pass and the all-pass of each, as dsp.variable has them; states
    (crossovers, 3 + crossovers, channels, 2) are carried.
    """
    rest = bands[-1]
    for index in range(coefficients.shape[0]):
        low, turned = coefficients[index]
        for lower in range(index):
            run_still(bands[lower], turned, states[index, 3 + lower], False, bands[lower])
        _part(rest if index else signal, low, turned, states[index], bands[index], rest)


@lru_cache(64)
def _at_rest(crossovers_hz: tuple[float, ...], sample_rate: int) -> Array:
    """Of split_still; to be read only."""
    low, turned = (0.0, 0.0, 1.0), (1.0, -2.0 * BUTTERWORTH_K, 0.0)
    return np.array([
        [fixed(float(g), BUTTERWORTH_K, *mixed) for mixed in (low, turned)]
        for g in prewarped(np.array(crossovers_hz), sample_rate)
    ])  # fmt: skip


class Splitter:
    """Splits a stream into bands and carries the filters' states; how many crossovers there are is fixed."""

    carried = ("_states", "_glide")

    def __init__(self, crossovers_hz: list[float], *, channels: int, sample_rate: int) -> None:
        self._sample_rate = sample_rate
        count = len(crossovers_hz)
        # Of each crossover: two low-passes, the all-pass of what goes on, and those of the bands below.
        self._states = np.zeros((count, 3 + count, channels, 2))
        self._glide, self._asked = Glide(crossovers_hz, sample_rate), crossovers_hz

    def place(self, crossovers_hz: list[float], frames: int | None = None) -> None:
        """Move the crossovers: they glide there, in so many frames where that is said; all state is kept."""
        if crossovers_hz is not self._asked:
            self._glide.go(crossovers_hz, frames)
            self._asked = crossovers_hz

    def process(self, signal: Array) -> Array:
        """The bands of the next block (bands, channels, frames), from the lowest."""
        if self._glide.moving:
            return self._split(signal, list(prewarped(self._glide.step(signal.shape[1]), self._sample_rate)))
        bands = np.empty((len(self._states) + 1, *signal.shape))
        split_still(signal, _at_rest(self._glide.at_rest, self._sample_rate), self._states, bands)
        return bands

    def sweep(self, signal: Array, hz: list[tuple[Array, Array]], rows: Swept) -> Array:
        """As process; crossovers go along rows, from where each begins to where it ends: (1,) where one stands."""
        frames, rate = signal.shape[1], self._sample_rate
        ends = [(prewarped(at, rate), prewarped(to, rate)) for at, to in hz]
        each = [
            straight(at, to, rows, frames) if at is not to and len(at) == len(rows.begins) else at for at, to in ends
        ]
        bands = self._split(signal, each)
        self._glide.be([float(to[-1]) for _, to in hz])
        self._asked = []  # whatever is asked for next is gone to
        return bands

    def _split(self, signal: Array, all_g: list[Array]) -> Array:
        bands = np.empty((len(all_g) + 1, *signal.shape))
        rest = bands[-1]
        rest[:] = signal
        for index, g in enumerate(all_g):
            states, part = self._states[index], bands[index]
            for lower, band in enumerate(bands[:index]):
                second_order(band, g, BUTTERWORTH_K, ALL_PASS, states[3 + lower])
            part[:] = rest
            for stage in range(2):
                second_order(part, g, BUTTERWORTH_K, LOW_PASS, states[stage])
            # Low and high add up to the all-pass, so what is above is that less the low: one filter instead of two.
            second_order(rest, g, BUTTERWORTH_K, ALL_PASS, states[2])
            rest -= part
        return bands
