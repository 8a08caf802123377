"""A take as a track lays it out: where it begins in the session, how loud it is taken, which way up."""

import itertools
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from reins.core.measure.maps import kept_spectrum
from reins.core.sessions import Track
from reins.core.sound import Sound, TakeFacts
from reins.core.takes import Take
from reins.core.units import db_to_lin
from reins.errors import StorageError

Array = npt.NDArray[np.float64]
LAID_BY = ("name", "take_id", "start_frame", "trim_db", "inverted")


class LaidTake:
    """A take moved to the frame of the session it begins at, with trim and polarity; frame 0 is the session's."""

    def __init__(self, take: Take, track: Track) -> None:
        self.take, self.name, self._track = take, track.name, track
        self.start_frame = track.start_frame
        self.gain = db_to_lin(track.trim_db) * (-1.0 if track.inverted else 1.0)
        self.facts = replace(take.facts, frames=take.facts.frames + track.start_frame)

    def lies_as(self, take: Take | None, track: Track) -> bool:
        """Whether a track lays this take out the same way."""
        return take is self.take and all(getattr(track, name) == getattr(self._track, name) for name in LAID_BY)

    def read(self, start: int, frames: int) -> Array:
        """Samples (channels, frames) float64 from a frame of the session; silence before the take and after it."""
        try:
            samples = self.take.read(start - self.start_frame, frames)
        except StorageError as error:
            raise StorageError(f"{self.name}: {error}") from error
        return samples if self.gain == 1.0 else samples * self.gain

    def peak_columns(self, start: int, frames: int, columns: int) -> Array:
        """Largest magnitude over all channels in each of `columns` equal parts of start .. start + frames."""
        return self.take.peak_columns(start - self.start_frame, frames, columns) * abs(self.gain)

    def spectrum(self) -> Array:
        """Mean power of the take in twelfths of octaves, as it is laid, its place left out; measured once and kept
        beside it.
        """
        known = kept_spectrum(self.take)
        return known if abs(self.gain) == 1.0 else known * self.gain**2


class Silence:
    """The sound of a track without a take."""

    def __init__(self, sample_rate: int) -> None:
        self.facts = TakeFacts(1, sample_rate, 1)

    def read(self, start: int, frames: int) -> Array:
        """Zeros (1, frames)."""
        return np.zeros((1, frames))

    def peak_columns(self, start: int, frames: int, columns: int) -> Array:
        """Zeros (columns,)."""
        return np.zeros(columns)

    def spectrum(self) -> None:
        """None: there is nothing to weigh by."""


class OneSide:
    """One side of a sound, "left" or "right", as mono; of a mono sound, itself."""

    def __init__(self, sound: Sound, side: str) -> None:
        self._sound, self._row = sound, 0 if side == "left" else sound.facts.channels - 1
        self.facts = replace(sound.facts, channels=1)

    def read(self, start: int, frames: int) -> Array:
        """Samples (1, frames)."""
        return self._sound.read(start, frames)[self._row : self._row + 1]

    def peak_columns(self, start: int, frames: int, columns: int) -> Array:
        """The peak of each column (columns,); read anew, since the kept ones are those of both sides."""
        edges = start + np.linspace(0, frames, columns + 1).astype(np.int64)
        return np.array([
            np.abs(self.read(int(a), max(1, int(b - a)))).max(initial=0.0)
            for a, b in itertools.pairwise(edges)
        ])  # fmt: skip

    def spectrum(self) -> None:
        """None: it weighs nothing."""


def is_take(sound: Sound) -> bool:
    """Whether a sound is that of a track, which the engine reads ahead, not a sum."""
    return isinstance(getattr(sound, "sound", sound), LaidTake)  # an excerpt has the sound it is of


def reader(sound: Sound, position: int) -> Callable[[int], Array]:
    """Gives the next frames of a sound at each call."""

    def read(count: int) -> Array:
        nonlocal position
        position += count
        return sound.read(position - count, count)

    return read
