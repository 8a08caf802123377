"""Meters of what is being heard: peaks that stay a moment, and of the master loudness, true peak and correlation."""

import math
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from reins.core.dsp.levels import stereo_sums
from reins.core.dsp.loudness import LoudnessMeter, TruePeakMeter
from reins.core.units import FLOOR_DB, lin_to_db

Array = npt.NDArray[np.float64]
HOLD_S = 1.5
CORRELATION_S = 0.4
LONG_READING_S = 1.0  # integrated loudness and range are read anew this often


class PeakHold:
    """A peak in dB that stays for HOLD_S, then falls to what is there."""

    def __init__(self, *, sample_rate: int) -> None:
        self._hold_frames = round(HOLD_S * sample_rate)
        self.peak_db, self._left = FLOOR_DB, 0

    def feed(self, peak_db: float, frames: int) -> float:
        """Take in the peak of the next block; returns the peak to show."""
        self._left -= frames
        if peak_db >= self.peak_db or self._left <= 0:
            self.peak_db, self._left = peak_db, self._hold_frames
        return self.peak_db


class Correlation:
    """How alike the two sides of a stream were over the last CORRELATION_S, from −1 to 1."""

    def __init__(self, *, sample_rate: int) -> None:
        self._frames = CORRELATION_S * sample_rate
        self._products: list[tuple[int, float, float, float]] = []

    def feed(self, frames: int, left: float, right: float, product: float) -> float | None:
        """Take in the energies of both sides of the next block, and their product; None in silence."""
        self._products.append((frames, left, right, product))
        while sum(row[0] for row in self._products) - self._products[0][0] >= self._frames:
            self._products.pop(0)
        _, left, right, product = (sum(column) for column in zip(*self._products, strict=True))
        power = left * right
        return product / math.sqrt(power) if power > 1e-20 else None


@dataclass(frozen=True)
class MasterReading:
    """The master's meters. Loudness in LUFS, range in LU, None where it cannot be given yet."""

    peak_db: tuple[float, float]
    hold_db: tuple[float, float]
    rms_db: tuple[float, float]
    momentary_lufs: float | None
    short_term_lufs: float | None
    integrated_lufs: float | None
    range_lu: float | None
    true_peak_dbtp: float
    correlation: float | None


class MasterMeter:
    """Reads a stereo stream from its start (BS.1770, EBU Tech 3341 and 3342).

    Correlation is that of the two sides over the last 400 ms, from −1 to 1; None in silence.
    """

    def __init__(self, *, sample_rate: int) -> None:
        self._rate = sample_rate
        self._loudness, self._true_peak = LoudnessMeter(sample_rate=sample_rate), TruePeakMeter(2)
        self._holds = [PeakHold(sample_rate=sample_rate) for _ in range(2)]
        self._correlation = Correlation(sample_rate=sample_rate)
        self._sums = np.zeros(5)
        self._integrated: float | None = None
        self._range: float | None = None
        self._since_long = 0
        self._last: MasterReading | None = None

    def feed(self, block: Array) -> MasterReading:
        """Take in the next block (2, frames) float64."""
        frames = block.shape[1]
        self._loudness.feed(block)
        self._true_peak.feed(block)
        stereo_sums(block, self._sums)
        top_left, top_right, *energies, product = self._sums.tolist()
        peaks = [lin_to_db(top_left), lin_to_db(top_right)]
        holds = [hold.feed(peak, frames) for hold, peak in zip(self._holds, peaks, strict=True)]
        rms = [lin_to_db(math.sqrt(energy / frames)) for energy in energies]
        self._since_long -= frames
        if self._since_long <= 0:
            self._since_long = round(LONG_READING_S * self._rate)
            self._integrated, self._range = self._loudness.integrated_lufs(), self._loudness.range_lu()
        alike = self._correlation.feed(frames, energies[0], energies[1], product)
        momentary, short_term = self._loudness.latest_lufs(4), self._loudness.latest_lufs(30)
        self._last = MasterReading(
            (peaks[0], peaks[1]), (holds[0], holds[1]), (rms[0], rms[1]), momentary, short_term, self._integrated,
            self._range, lin_to_db(self._true_peak.peak), alike,
        )  # fmt: skip
        return self._last

    def finish(self) -> MasterReading | None:
        """The last reading once more, with what is read only now and then read to the end; None before any."""
        if self._last is None:
            return None
        integrated, range_lu = self._loudness.integrated_lufs(), self._loudness.range_lu()
        true_peak = lin_to_db(self._true_peak.finish())
        return replace(self._last, integrated_lufs=integrated, range_lu=range_lu, true_peak_dbtp=true_peak)
