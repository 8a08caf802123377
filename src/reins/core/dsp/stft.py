"""A short-time Fourier transform that runs along a stream: windows that overlap are transformed, changed, transformed
back and added up again (J. B. Allen, "Short term spectral analysis, synthesis, and modification by discrete Fourier
transform", IEEE Trans. ASSP 25(3), 1977).

Both ways take the square root of a periodic Hann window; their product, moved on by a window over 2, 4 or 8, adds up to
the same everywhere, so that what is not changed comes out as it came, one window later. Windows are counted from the
stream's begin: how it is cut into blocks makes no difference.
"""

import importlib
from collections.abc import Callable
from functools import cache, lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import LOCK, kernel

Array = npt.NDArray[np.float64]
Narrow = npt.NDArray[np.float32]  # 24 bits: what they round lies 138 dB under what is loudest, at twice the speed
Spectra = npt.NDArray[np.complex64]  # (channels, windows, bins)


@cache
def transforms() -> Any:
    """scipy.fft, which takes a moment to import and works in 32 bits where it is given them."""
    with LOCK:
        return importlib.import_module("scipy.fft")


@lru_cache(32)
def window_of(length: int) -> Array:
    """The window of both ways."""
    return np.asarray(np.sin(np.pi * np.arange(length) / length))


def read_power(spectra: Spectra, length: int) -> Narrow:
    """Power in each bin, so that a sine of amplitude 1 in the middle of one reads 1."""
    scale = np.float32((2.0 / window_of(length).sum()) ** 2)
    made = np.empty(spectra.shape, np.float32)
    _power(spectra.view(np.float32).reshape(-1, 2), scale, made.reshape(-1))
    return made


@kernel("void(f4[:,::1], f4, f4[::1])")
def _power(parts, scale, out):
    for i in range(out.size):
        re, im = parts[i, 0], parts[i, 1]
        out[i] = scale * (re * re + im * im)


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
        self._window = window_of(length).astype(np.float32)
        self._held = np.zeros((channels, length - self.hop), np.float32)  # of the next window, what has come

    @property
    def waits(self) -> int:
        """Frames that have come since the last window ended."""
        return self._held.shape[1] - (self.length - self.hop)

    def take_in(self, sound: Array) -> tuple[Narrow, int]:
        """The next block (channels, frames) joined to what waits, and how many windows end in it; by itself, where
        nobody wants their spectra now.
        """
        joined = np.concatenate([self._held, sound.astype(np.float32)], axis=1)
        count = max(0, (joined.shape[1] - self.length) // self.hop + 1)
        self._held = joined[:, count * self.hop :].copy()
        return joined, count

    def process(self, sound: Array) -> Spectra:
        """Spectra (channels, windows, bins) of the windows that end in the next block (channels, frames)."""
        joined, count = self.take_in(sound)
        if not count:
            return np.zeros((sound.shape[0], 0, self.length // 2 + 1), np.complex64)
        cut = np.stack([joined[:, k * self.hop : k * self.hop + self.length] for k in range(count)], axis=1)
        cut *= self._window
        return np.asarray(transforms().rfft(cut, axis=2))


class Stft:
    """A stream on its way through its spectra; one window later."""

    carried = ("_analysis",)

    def __init__(self, channels: int, length: int, overlap: int) -> None:
        self._analysis = Analysis(channels, length, overlap)
        self._window = (window_of(length) * (2.0 / overlap)).astype(np.float32)
        self._made = np.zeros((channels, length), np.float32)  # from what leaves next on, as far as windows have come

    def process(self, sound: Array, change: Callable[[Spectra], Spectra]) -> Array:
        """The next block, a window late; change is given the spectra of the windows that end in it."""
        length, hop, waits = self._analysis.length, self._analysis.hop, self._analysis.waits
        frames, spectra = sound.shape[1], self._analysis.process(sound)
        count = spectra.shape[1]
        made = np.concatenate([self._made, np.zeros((sound.shape[0], count * hop), np.float32)], axis=1)
        if count:
            pieces = transforms().irfft(change(spectra), length, axis=2)
            pieces *= self._window
            for k in range(count):
                begin = (k + 1) * hop - waits
                made[:, begin : begin + length] += pieces[:, k]
        self._made = made[:, frames:].copy()
        return made[:, :frames].astype(np.float64)
