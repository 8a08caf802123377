"""Linkwitz-Riley crossovers, 24 dB/oct, whose bands add up flat.

Each crossover is two equal Butterworth filters of second order in a row on either side (S. Linkwitz, "Active Crossover
Networks for Noncoincident Drivers", J. Audio Eng. Soc. 24(1), 1976). Low and high of one add up to an all-pass of
second order; the lower bands go through the all-passes of the crossovers above them, so that the sum of all bands is
the source through all these all-passes: flat in level, turned in phase.
"""

import numpy as np
import numpy.typing as npt

from reins.core.dsp.filters import butterworth_cut, run_sections

Array = npt.NDArray[np.float64]


def crossover_sections(frequency_hz: float, sample_rate: int) -> tuple[Array, Array, Array]:
    """(low, high, all-pass) sections of one crossover."""
    low = butterworth_cut("high_cut", cutoff_hz=frequency_hz, order=2, sample_rate=sample_rate)
    high = butterworth_cut("low_cut", cutoff_hz=frequency_hz, order=2, sample_rate=sample_rate)
    a1, a2 = low[0, 3:]
    return np.repeat(low, 2, axis=0), np.repeat(high, 2, axis=0), np.array([[a2, a1, 1.0, a1, a2]])


def band_paths(crossovers_hz: list[float], sample_rate: int) -> list[Array]:
    """For each band, from the lowest, all sections between source and band."""
    each = [crossover_sections(frequency, sample_rate) for frequency in crossovers_hz]
    paths = []
    for band in range(len(each) + 1):
        parts = [high for _, high, _ in each[:band]]
        parts += [low for low, _, _ in each[band : band + 1]]
        parts += [all_pass for _, _, all_pass in each[band + 1 :]]
        paths.append(np.concatenate(parts))
    return paths


class Splitter:
    """Splits a stream into bands and carries the filters' states; how many crossovers there are is fixed."""

    def __init__(self, crossovers_hz: list[float], *, channels: int, sample_rate: int) -> None:
        self._sample_rate = sample_rate
        count = len(crossovers_hz)
        self._low, self._high = (np.zeros((count, 2, channels, 2)) for _ in range(2))
        self._turned = np.zeros((count, count, 1, channels, 2))
        self.place(crossovers_hz)

    def place(self, crossovers_hz: list[float]) -> None:
        """Move the crossovers; all state is kept."""
        self._sections = [crossover_sections(frequency, self._sample_rate) for frequency in crossovers_hz]

    def process(self, signal: Array) -> list[Array]:
        """The bands of the next block (channels, frames), from the lowest."""
        bands: list[Array] = []
        rest = signal.copy()
        for index, (low, high, all_pass) in enumerate(self._sections):
            for lower, band in enumerate(bands):
                run_sections(all_pass, self._turned[index, lower], band)
            part = rest.copy()
            run_sections(low, self._low[index], part)
            run_sections(high, self._high[index], rest)
            bands.append(part)
        return [*bands, rest]
