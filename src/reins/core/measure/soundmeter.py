"""All that is told of a sound as a whole: loudness and its range, true peak, sample peak, RMS, crest."""

from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp.loudness import LoudnessMeter, TruePeakMeter, fold_level
from reins.core.units import lin_to_db

Array = npt.NDArray[np.float64]


class SoundMeter:
    """Takes in a sound block by block."""

    def __init__(self, channels: int, sample_rate: int) -> None:
        self._loudness, self._true_peak = LoudnessMeter(sample_rate=sample_rate), TruePeakMeter(channels)
        self._level, self._samples = np.zeros(2), 0  # the peak, and the sum of squares

    def feed(self, block: Array) -> None:
        """The next (channels, frames); any length."""
        self._loudness.feed(block)
        self._true_peak.feed(block)
        fold_level(block, self._level)
        self._samples += block.size

    def finish(self) -> dict[str, Any]:
        """Loudness, range and crest are None where they cannot be given; levels of silence are the floor, -120 dB."""
        peak, squares = self._level.tolist()
        rms = (squares / max(self._samples, 1)) ** 0.5
        return {
            "integrated_lufs": self._loudness.integrated_lufs(),
            "range_lu": self._loudness.range_lu(),
            "true_peak_dbtp": lin_to_db(self._true_peak.finish()),
            "sample_peak_dbfs": lin_to_db(peak),
            "rms_db": lin_to_db(rms),
            "crest_db": None if peak <= 0.0 else lin_to_db(peak) - lin_to_db(rms),
        }
