"""A short-time Fourier transform that runs along a stream: windows that overlap are transformed, changed, transformed
back and added up again (J. B. Allen, "Short term spectral analysis, synthesis, and modification by discrete Fourier
transform", IEEE Trans. ASSP 25(3), 1977).

Both ways take the square root of a periodic Hann window; their product, moved on by a window over 2, 4 or 8, adds up to
the same everywhere, so that what is not changed comes out as it came, one window later. Windows are counted from the
stream's begin: how it is cut into blocks makes no difference.
"""

from collections.abc import Callable
from functools import lru_cache

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
Spectra = npt.NDArray[np.complex128]  # (channels, windows, bins)


@lru_cache(32)
def window_of(length: int) -> Array:
    """The window of both ways."""
    return np.asarray(np.sin(np.pi * np.arange(length) / length))


def read_power(spectra: Spectra, length: int) -> Array:
    """Power in each bin, so that a sine of amplitude 1 in the middle of one reads 1."""
    scale = (2.0 / window_of(length).sum()) ** 2
    return np.asarray(scale * (spectra.real**2 + spectra.imag**2))


def noise_bandwidth_hz(length: int, sample_rate: float) -> float:
    """The bandwidth of noise of even density that a bin reads as much of (F. J. Harris, "On the use of windows for
    harmonic analysis with the discrete Fourier transform", Proc. IEEE 66(1), 1978).
    """
    window = window_of(length)
    return float(sample_rate * (window**2).sum() / window.sum() ** 2)


class Analysis:
    """The windows of a stream as they become whole."""

    carried = ()  # what is held is replaced with each block

    def __init__(self, channels: int, length: int, overlap: int) -> None:
        self.length, self.hop = length, length // overlap
        self._window = window_of(length)
        self._held = np.zeros((channels, length - self.hop))  # of the next window, what has come

    @property
    def waits(self) -> int:
        """Frames that have come since the last window ended."""
        return self._held.shape[1] - (self.length - self.hop)

    def process(self, sound: Array) -> Spectra:
        """Spectra (channels, windows, bins) of the windows that end in the next block (channels, frames)."""
        joined = np.concatenate([self._held, sound], axis=1)
        count = max(0, (joined.shape[1] - self.length) // self.hop + 1)
        self._held = joined[:, count * self.hop :].copy()
        if not count:
            return np.zeros((sound.shape[0], 0, self.length // 2 + 1), np.complex128)
        cut = np.lib.stride_tricks.sliding_window_view(joined, self.length, axis=1)[:, :: self.hop][:, :count]
        return np.fft.rfft(cut * self._window, axis=2)


class Stft:
    """A stream on its way through its spectra; one window later."""

    carried = ("_analysis",)

    def __init__(self, channels: int, length: int, overlap: int) -> None:
        self._analysis = Analysis(channels, length, overlap)
        self._window = window_of(length) * (2.0 / overlap)
        self._made = np.zeros((channels, length))  # from what leaves next on, as far as windows have come

    def process(self, sound: Array, change: Callable[[Spectra], Spectra]) -> Array:
        """The next block, a window late; change is given the spectra of the windows that end in it."""
        length, hop, waits = self._analysis.length, self._analysis.hop, self._analysis.waits
        frames, spectra = sound.shape[1], self._analysis.process(sound)
        count = spectra.shape[1]
        made = np.concatenate([self._made, np.zeros((sound.shape[0], count * hop))], axis=1)
        if count:
            pieces = np.fft.irfft(change(spectra), length, axis=2) * self._window
            for k in range(count):
                begin = (k + 1) * hop - waits
                made[:, begin : begin + length] += pieces[:, k]
        self._made = made[:, frames:].copy()
        return np.ascontiguousarray(made[:, :frames])
