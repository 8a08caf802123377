"""Rounding to whole numbers for integer files, with triangular dither where it is wanted.

Dither of triangular density, two quantising steps wide either way, makes the error's mean and power independent of
the signal (S. P. Lipshitz, R. A. Wannamaker, J. Vanderkooy, "Quantization and Dither: A Theoretical Survey", J. Audio
Eng. Soc. 40(5), 1992). The random numbers come from a fixed seed, one after the other, so that the same sound gives the
same file however it is cut into blocks.
"""

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
SEED = 1992


class Rounder:
    """Rounds a stream of samples to a number of bits; `dithering` may be switched on before the first frame."""

    def __init__(self, bits: int, channels: int) -> None:
        self._top = float(1 << (bits - 1))
        self._shift = 32 - bits
        self._random = np.random.default_rng(SEED)
        self._channels = channels
        self.dithering = False

    def on_grid(self, frames_first: Array) -> bool:
        """Whether every sample (frames, channels) is a whole number of steps already."""
        steps = frames_first * self._top
        return bool((steps == np.rint(steps)).all())

    def round(self, frames_first: Array) -> npt.NDArray[np.int32]:
        """Samples (frames, channels) as whole numbers at the top of 32 bits, nearest value, clipped at full scale."""
        steps = frames_first * self._top
        if self.dithering:
            uniform = self._random.random((frames_first.shape[0], self._channels, 2))
            steps = steps + (uniform[:, :, 0] - uniform[:, :, 1])
        whole = np.clip(np.rint(steps), -self._top, self._top - 1.0).astype(np.int32)
        return np.ascontiguousarray(whole << np.int32(self._shift))
