"""A raised rate for what bends: up and down by half-band filters, all of it late by the same whole number of frames,
whatever the rate is raised by, so that another rate is no other latency.

The filters are finer than those of processors.oversampling: within 0.05 dB to 20 kHz at 44.1 kHz, 100 dB down from the
rate less 20 kHz on. They work in numbers of 24 bits, at twice the speed: what they round lies 138 dB under what is
driven, and what is bent is only added to the sound, which does not pass here.
"""

import numpy as np
import numpy.typing as npt

from reins.core.dsp.halfband import Doubler, Halver

Array = npt.NDArray[np.float64]
REACHES = (75, 17, 13, 11)  # of each doubling, from the base rate up
ATTENUATION_DB = 103.0
TIMES = (1, 2, 4, 8, 16)


def _filters_frames(times: int) -> int:
    """Frames of the higher rate that both ways take."""
    return 2 * sum(reach * (times >> stage) for stage, reach in enumerate(REACHES[: times.bit_length() - 1], start=1))


#: How late what comes down again is, in frames of the base rate.
LATENCY_FRAMES = max(-(-_filters_frames(times) // times) for times in TIMES)


class Raised:
    """A signal's way to so many times the rate, and back."""

    carried = ("_up", "_down")

    def __init__(self, channels: int, times: int) -> None:
        reaches = REACHES[: times.bit_length() - 1]
        self._up = [Doubler(channels, reach, ATTENUATION_DB, np.float32) for reach in reaches]
        self._down = [Halver(channels, reach, ATTENUATION_DB, np.float32) for reach in reversed(reaches)]
        self._wait = np.zeros((channels, LATENCY_FRAMES * times - _filters_frames(times)), np.float32)

    def up(self, signal: Array) -> Array:
        """(channels, times n) from the next (channels, n)."""
        signal = signal.astype(np.float32)
        for stage in self._up:
            signal = stage.process(signal)
        return signal

    def down(self, signal: Array) -> Array:
        """(channels, n) from the next (channels, times n), LATENCY_FRAMES after it set out upwards."""
        frames, wait = signal.shape[1], self._wait.shape[1]
        if wait:
            joined = np.concatenate([self._wait, signal], axis=1)
            self._wait = joined[:, frames:].copy()
            signal = np.ascontiguousarray(joined[:, :frames])
        for stage in self._down:
            signal = stage.process(signal)
        return signal.astype(np.float64)
