"""Frequencies that move while sound runs: a filter that jumped would cancel what the old one still gives as they fade,
because their phases differ; one that glides does not.
"""

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
GLIDE_MS = 80.0


def fade_in(done_frames: int, frames: int, fade_frames: int) -> Array:
    """The weight of what comes in over the next frames of a fade: half a cosine, so that neither end has a corner."""
    share = np.minimum((done_frames + np.arange(1, frames + 1)) / fade_frames, 1.0)
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * share))


class Glide:
    """Frequencies in Hz on their way together, evenly in octaves with a slow start and a slow end."""

    carried = ()

    def __init__(self, frequencies_hz: list[float], sample_rate: int) -> None:
        self._now_hz = self._from_hz = self._to_hz = np.array(frequencies_hz, np.float64)
        self._frames = self._done = round(GLIDE_MS * 1e-3 * sample_rate)

    @property
    def moving(self) -> bool:
        """Whether they are on their way."""
        return self._done < self._frames

    @property
    def left_frames(self) -> int:
        """Frames until they have come to rest."""
        return max(0, self._frames - self._done)

    def go(self, frequencies_hz: list[float]) -> None:
        """Set out for others from where they are; nothing changes when they are there or on their way there."""
        goal = np.array(frequencies_hz, np.float64)
        if (goal != self._to_hz).any():
            self._from_hz, self._to_hz, self._done = self._now_hz, goal, 0

    def step(self, frames: int) -> Array:
        """Where each is over the next frames: (frequencies, frames), or (frequencies, 1) once all rest."""
        if not self.moving:
            return self._to_hz[:, None]
        done = np.minimum(self._done + np.arange(1, frames + 1), self._frames)
        share = 0.5 - 0.5 * np.cos(np.pi * done / self._frames)
        way = self._from_hz[:, None] * (self._to_hz / self._from_hz)[:, None] ** share
        way[:, done == self._frames] = self._to_hz[:, None]
        self._done += frames
        self._now_hz = way[:, -1]
        return way
