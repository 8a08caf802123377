"""What engine, pictures and measures read, whatever it is made of."""

from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class TakeFacts:
    """What a take is: channels, rate in Hz, length in frames; the checksum of its samples where it is known."""

    channels: int
    sample_rate: int
    frames: int
    sha256: str = field(default="", compare=False)


class Sound(Protocol):
    """What engine and pictures read: a take, or one laid out."""

    @property
    def facts(self) -> TakeFacts:
        """Channels, rate, frames."""

    def read(self, start: int, frames: int) -> Array:
        """Samples (channels, frames) float64; silence outside."""

    def peak_columns(self, start: int, frames: int, columns: int) -> Array:
        """Largest magnitude in each of `columns` equal parts."""

    def spectrum(self) -> Array | None:
        """Mean power by twelfths of an octave, or None where it is not known."""
