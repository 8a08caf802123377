"""Convolution with a long response in partitions, by Fourier transforms: overlap-save (T. G. Stockham, "High-speed
convolution and correlation", 1966) in two sizes (W. G. Gardner, "Efficient convolution without input-output delay", J.
Audio Eng. Soc. 43(3), 1995).

The response's beginning goes in partitions of HEAD frames, which is how late the result comes; all after TAIL - HEAD
in ones of TAIL: their sum over a block of TAIL frames is done when the first of it is due. Blocks are counted from the
stream's begin, so how it is cut makes no difference. Spectra of what came are never written into again: copies of a
convolver share them. Blocks of silence are not multiplied; what nothing sounds in is silence to the bit. The long
partitions work in 24 bits: their rounding lies 140 dB under the response.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import kernel

Array = npt.NDArray[np.float64]
Spectrum = npt.NDArray[Any]  # (channels, 2, bins): real and imaginary parts, each in a row, so that products vectorise
HEAD, TAIL = 1024, 8192
LATENCY_FRAMES = HEAD
RINGS_ON = 2 * TAIL + HEAD  # frames after a response's end in which something may be left


@kernel(
    "void(f8[:,:,::1], f8[:,:,::1], f8[:,:,::1])",
    "void(f4[:,:,::1], f4[:,:,::1], f4[:,:,::1])",
)
def _add_product(sound, response, total):
    """Add the product of two spectra to a third; a sound of one channel goes through both responses."""
    for channel in range(total.shape[0]):
        mine = sound[min(channel, sound.shape[0] - 1)]
        x, y, a, b = mine[0], mine[1], response[channel, 0], response[channel, 1]
        re, im = total[channel, 0], total[channel, 1]
        for i in range(re.size):
            re[i] += x[i] * a[i] - y[i] * b[i]
            im[i] += x[i] * b[i] + y[i] * a[i]


def _spectrum(sound: Array, kind: Any) -> Spectrum:
    found = np.fft.rfft(sound.astype(kind), axis=1)
    return np.ascontiguousarray(np.stack([found.real, found.imag], axis=1).astype(kind))


def _sound(spectrum: Spectrum) -> Array:
    """The second half of the frames of spectra (channels, 2, bins): the one overlap-save keeps."""
    found = np.fft.irfft(spectrum[:, 0] + 1j * spectrum[:, 1], axis=1)
    return found[:, found.shape[1] // 2 :]


@dataclass(frozen=True)
class Partitions:
    """A response cut up, from its beginning: spectra of each part of HEAD, then of each of TAIL."""

    head: tuple[Spectrum, ...]
    tail: tuple[Spectrum, ...]


def partitions(response: Array) -> Partitions:
    """A response (2, frames), cut up."""
    near = TAIL - HEAD

    def cut(part: Array, size: int, kind: Any) -> tuple[Spectrum, ...]:
        count = -(-part.shape[1] // size)
        padded = np.zeros((2, count * size))
        padded[:, : part.shape[1]] = part
        pieces = padded.reshape(2, count, size).transpose(1, 0, 2)
        return tuple(_spectrum(np.pad(piece, ((0, 0), (0, size))), kind) for piece in pieces)

    return Partitions(cut(response[:, :near], HEAD, np.float64), cut(response[:, near:], TAIL, np.float32))


class Convolver:
    """A stream through a response: (channels, frames) in, (2, frames) out, LATENCY_FRAMES late."""

    carried = ("_came",)

    def __init__(self, channels: int, response: Partitions) -> None:
        self._response, self._at = response, 0
        self._came = np.zeros((channels, 2 * TAIL))  # the last block of TAIL frames, and the one that is coming
        self._near, self._far = np.zeros((2, HEAD)), np.zeros((2, TAIL))  # what is due while this block comes
        self._heads: tuple[Spectrum | None, ...] = ()
        self._tails: tuple[Spectrum | None, ...] = ()

    def process(self, sound: Array) -> Array:
        """The next frames of the result."""
        out, done, frames = np.empty((2, sound.shape[1])), 0, sound.shape[1]
        while done < frames:
            at, due = self._at, self._at % HEAD
            count = min(frames - done, HEAD - due)
            self._came[:, TAIL + at : TAIL + at + count] = sound[:, done : done + count]
            out[:, done : done + count] = self._near[:, due : due + count] + self._far[:, at : at + count]
            self._at, done = at + count, done + count
            if self._at % HEAD == 0:
                window = self._came[:, TAIL + self._at - 2 * HEAD : TAIL + self._at]
                self._heads, self._near = _through(window, self._heads, self._response.head, np.float64)
            if self._at == TAIL:
                self._tails, self._far = _through(self._came, self._tails, self._response.tail, np.float32)
                self._came[:, :TAIL], self._at = self._came[:, TAIL:], 0
        return out


def _through(
    window: Array, past: tuple[Spectrum | None, ...], response: tuple[Spectrum, ...], kind: Any
) -> tuple[tuple[Spectrum | None, ...], Array]:
    """Spectra of what came, this block's before the others, and what the response makes of them."""
    newest = _spectrum(window, kind) if response and window.any() else None
    past = (newest, *past)[: len(response)]
    total = np.zeros((2, 2, window.shape[1] // 2 + 1), kind)
    heard = [(sound, part) for sound, part in zip(past, response, strict=False) if sound is not None]
    if not heard:
        return past, np.zeros((2, window.shape[1] // 2))
    for sound, part in heard:
        _add_product(sound, part, total)
    return past, np.ascontiguousarray(_sound(total), np.float64)
