"""A signal tapped along a span: its peaks by bins, its level, and how loud its quietest tenth is."""

import numpy as np
import numpy.typing as npt

from reins.core.dsp.loudness import LoudnessMeter, fold_level
from reins.core.measure.folding import BIN_FRAMES, fold_peaks
from reins.core.measure.levels import Level, measure_level

Array = npt.NDArray[np.float64]
TENTH_BINS = 16  # of the folding's: 21 ms at 48 kHz, so that a column is no single half wave
SILENT_DB = -100.0


class Tap:
    """Takes in blocks of (channels, frames) that begin at a frame of the span; what lies outside is left out."""

    def __init__(self, frames: int, *, sample_rate: int) -> None:
        self._frames, self._channels = frames, 1
        self.peaks = np.zeros(-(-frames // BIN_FRAMES))
        self._level = np.zeros(2)
        self._meter = LoudnessMeter(sample_rate=sample_rate)

    def feed(self, block: Array, first: int) -> None:
        """The next block."""
        inside = np.ascontiguousarray(block[:, max(0, -first) : max(0, self._frames - first)])
        self._channels = block.shape[0]
        if inside.shape[1]:
            fold_peaks(inside, max(first, 0), self.peaks)
            fold_level(inside, self._level)
            self._meter.feed(inside)

    def level(self) -> Level:
        """Peak, crest and loudness of all of it."""
        peak = float(self.peaks.max(initial=0.0))
        return measure_level(float(self._level[1]), peak, self._frames * self._channels, self._meter)


def quietest_tenth_db(peaks: Array, source: Array | None = None) -> float | None:
    """The level that a tenth of the time lies below, where `source`, which this was made of, is not silent; None where
    that is silent throughout.
    """
    whole, came = (
        row[: row.size // TENTH_BINS * TENTH_BINS].reshape(-1, TENTH_BINS).max(axis=1)
        for row in (peaks, peaks if source is None else source)
    )
    heard = whole[came[: whole.size] > 10.0 ** (SILENT_DB / 20.0)]
    return float(20.0 * np.log10(max(np.percentile(heard, 10.0), 1e-6))) if heard.size else None


def level_histogram(peaks: Array, edges_db: Array) -> list[float]:
    """Share of the time in percent that the peak of every TENTH_BINS lies between two edges, both in dB."""
    columns = peaks[: max(peaks.size // TENTH_BINS, 1) * TENTH_BINS]
    columns = columns.reshape(-1, TENTH_BINS).max(axis=1) if columns.size >= TENTH_BINS else peaks
    counts, _ = np.histogram(20.0 * np.log10(np.maximum(columns, 1e-6)), edges_db)
    shares: list[float] = np.round(100.0 * counts / columns.size, 3).tolist()
    return shares
