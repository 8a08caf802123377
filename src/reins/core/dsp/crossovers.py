"""Linkwitz-Riley crossovers, 24 dB/oct, whose bands add up flat.

Each crossover is two equal Butterworth filters of second order in a row on either side (S. Linkwitz, "Active Crossover
Networks for Noncoincident Drivers", J. Audio Eng. Soc. 24(1), 1976). Low and high of one add up to an all-pass of
second order; the lower bands go through the all-passes of the crossovers above them, so that the sum of all bands is
the source through all these all-passes: flat in level, turned in phase.
"""

from functools import lru_cache

import numpy as np
import numpy.typing as npt

from reins.core.dsp.cuts import ALL_PASS, LOW_PASS, Swept, prewarped, second_order
from reins.core.dsp.filters import butterworth_cut
from reins.core.dsp.gliding import Glide
from reins.core.dsp.sweeping import straight

Array = npt.NDArray[np.float64]
BUTTERWORTH_K = np.sqrt(2.0)  # 1 / Q of a Butterworth filter of second order


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

    def process(self, signal: Array) -> list[Array]:
        """The bands of the next block (channels, frames), from the lowest."""
        return self._split(signal, list(prewarped(self._glide.step(signal.shape[1]), self._sample_rate)))

    def sweep(self, signal: Array, hz: list[tuple[Array, Array]], rows: Swept) -> list[Array]:
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

    def _split(self, signal: Array, all_g: list[Array]) -> list[Array]:
        bands: list[Array] = []
        rest = signal.copy()
        for index, g in enumerate(all_g):
            states = self._states[index]
            for lower, band in enumerate(bands):
                second_order(band, g, BUTTERWORTH_K, ALL_PASS, states[3 + lower])
            part = rest.copy()
            for stage in range(2):
                second_order(part, g, BUTTERWORTH_K, LOW_PASS, states[stage])
            # Low and high add up to the all-pass, so what is above is that less the low: one filter instead of two.
            second_order(rest, g, BUTTERWORTH_K, ALL_PASS, states[2])
            rest -= part
            bands.append(part)
        return [*bands, rest]
