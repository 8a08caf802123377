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

from reins.core.dsp.compiled import LOCK, kernel, plain

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
    made = np.empty(spectra.shape, np.float32)
    _power(spectra.view(np.float32).reshape(-1, 2), _scale_of(length), made.reshape(-1))
    return made


@lru_cache(32)
def _scale_of(length: int) -> np.float32:
    return np.float32((2.0 / window_of(length).sum()) ** 2)


@kernel("void(f4[:,::1], f4, f4[::1])")
def _power(parts, scale, out):
    for i in range(out.size):
        re, im = parts[i, 0], parts[i, 1]
        out[i] = scale * (re * re + im * im)


def read_louder(spectra: Spectra, length: int) -> tuple[Narrow, Narrow]:
    """Power (1, windows, bins) in each bin as in read_power: of the loudest channel there, and of all together."""
    louder, total = np.empty((2, 1, *spectra.shape[1:]), np.float32)
    _power_of_all(spectra.view(np.float32).reshape(*spectra.shape, 2), _scale_of(length), louder[0], total[0])
    return louder, total


@kernel("void(f4[:,:,:,::1], f4, f4[:,::1], f4[:,::1])")
def _power_of_all(parts, scale, louder, total):
    """Power (windows, bins) of parts (channels, windows, bins, re and im): of the loudest channel, of all."""
    one, other, both = parts[0], parts[-1], parts.shape[0] == 2
    for window in range(parts.shape[1]):
        a, b, most, all_of_it = one[window], other[window], louder[window], total[window]
        for i in range(most.size):
            p = scale * (a[i, 0] * a[i, 0] + a[i, 1] * a[i, 1])
            q = scale * (b[i, 0] * b[i, 0] + b[i, 1] * b[i, 1])
            most[i] = max(p, q)
            all_of_it[i] = p + q if both else p


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

    def process(self, *sounds: Array) -> Spectra:
        """Spectra (channels, windows, bins) of the windows that end in the next block (channels, frames), of one sound
        or of several that run beside each other: one transform for all of them costs less.
        """
        channels, frames = self._held.shape[0], sounds[0].shape[1]
        count = (self.waits + frames) // self.hop
        cut = np.empty((channels, count, self.length), np.float32)
        left = np.empty((channels, self._held.shape[1] + frames - count * self.hop), np.float32)
        first = 0
        for sound in sounds:
            its = slice(first, first := first + sound.shape[0])
            cut_windows(self._held[its], plain(sound), self.hop, self._window, cut[its], left[its])
        self._held = left
        if not count:
            return np.zeros((channels, 0, self.length // 2 + 1), np.complex64)
        return np.asarray(transforms().rfft(cut, axis=2, overwrite_x=True))


@kernel("void(f4[:,::1], f8[:,::1], i8, f4[::1], f4[:,:,::1], f4[:,::1])", makes_room=True)
def cut_windows(held, sound, hop, window, cut, left):
    """cut (channels, windows, length): windows of held (channels, waiting) and sound (channels, frames) one after the
    other, `hop` apart, times the window; left: what lies behind the beginning of the next one.
    """
    waiting, count, length = held.shape[1], cut.shape[1], cut.shape[2]
    line = np.empty(waiting + sound.shape[1], held.dtype)  # brought to 24 bits once, not once a window
    for channel in range(held.shape[0]):
        before, after, late, kept = held[channel], sound[channel], line[waiting:], left[channel]
        for i in range(waiting):
            line[i] = before[i]
        for i in range(after.size):
            late[i] = after[i]
        for k in range(count):
            piece, made = line[k * hop : k * hop + length], cut[channel, k]
            for i in range(length):
                made[i] = piece[i] * window[i]
        rest = line[count * hop :]
        for i in range(kept.size):
            kept[i] = rest[i]


@kernel("void(f4[:,:,::1], f4[::1], i8, i8, f4[:,::1], f8[:,::1], f4[:,::1])", makes_room=True)
def overlap_add(pieces, window, hop, first, made, out, later):
    """Add pieces (channels, windows, length) times the window, `hop` apart from the frame `first` on, to what was made
    (channels, length); out: the next frames of that, later: what was made behind them.
    """
    frames, length = out.shape[1], made.shape[1]
    whole = np.empty(frames + length, made.dtype)
    for channel in range(made.shape[0]):
        row, result, rest = made[channel], out[channel], later[channel]
        for i in range(length):
            whole[i] = row[i]
        for i in range(length, frames + length):
            whole[i] = 0.0
        for k in range(pieces.shape[1]):
            piece, there = pieces[channel, k], whole[first + k * hop :]
            for i in range(length):
                there[i] += piece[i] * window[i]
        for i in range(frames):
            result[i] = whole[i]
        behind = whole[frames:]
        for i in range(length):
            rest[i] = behind[i]


NONE = np.zeros((2, 0, 0), np.float32)  # pieces where no window ends


class Stft:
    """A stream on its way through its spectra, and beside it one that is only read; one window later."""

    carried = ("_analysis",)

    def __init__(self, channels: int, length: int, overlap: int, *, read: int = 0) -> None:
        self._analysis = Analysis(channels + read, length, overlap)
        self._window = (window_of(length) * (2.0 / overlap)).astype(np.float32)
        self._made = np.zeros((channels, length), np.float32)  # from what leaves next on, as far as windows have come

    def process(self, sound: Array, change: Callable[[Spectra, Spectra], Spectra], *read: Array) -> Array:
        """The next block, a window late; change is given the spectra of the windows that end in it, and of what is read
        beside it.
        """
        length, hop, waits = self._analysis.length, self._analysis.hop, self._analysis.waits
        channels, frames = sound.shape
        spectra = self._analysis.process(sound, *read)
        pieces = NONE[:channels]
        if spectra.shape[1]:
            changed = change(spectra[:channels], spectra[channels:])
            pieces = transforms().irfft(changed, length, axis=2, overwrite_x=True)
        out, later = np.empty((channels, frames)), np.empty((channels, length), np.float32)
        overlap_add(pieces, self._window, hop, hop - waits, self._made, out, later)
        self._made = later
        return out
