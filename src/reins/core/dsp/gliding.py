"""Frequencies that move while sound runs: a filter that jumped would cancel what the old one still gives as they fade,
because their phases differ; one that glides does not.
"""

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
GLIDE_MS = 80.0
RAMP_MS = 20.0


def fade_in(done_frames: int, frames: int, fade_frames: int) -> Array:
    """The weight of what comes in over the next frames of a fade: half a cosine, so that neither end has a corner.

    done_frames is negative while the fade has not begun.
    """
    share = np.clip((done_frames + np.arange(1, frames + 1)) / fade_frames, 0.0, 1.0)
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * share))


class Ramp:
    """Gains that go to where they are wanted over RAMP_MS, sample by sample, however the stream is cut into blocks."""

    carried = ()

    def __init__(self, gains: tuple[float, ...], sample_rate: int) -> None:
        self._frames = round(RAMP_MS * 1e-3 * sample_rate)
        self.set(gains)

    def set(self, gains: tuple[float, ...]) -> None:
        """Be there at once."""
        self._now = self._from = self.goal = gains
        self._rest = np.array(gains)[:, None]
        self._done = self._frames

    def go(self, gains: tuple[float, ...]) -> None:
        """Set out for others from where they are."""
        if gains != self.goal:
            self._from, self.goal, self._done = self._now, gains, 0
            self._rest = np.array(gains)[:, None]

    @property
    def moving(self) -> bool:
        """Whether they are on their way."""
        return self._done < self._frames

    @property
    def now(self) -> tuple[float, ...]:
        """Where they have got to."""
        return self._now

    def step(self, frames: int) -> Array:
        """Over the next frames: (gains, frames), or (gains, 1) once they rest."""
        if not self.moving:
            return self._rest
        begin = np.array(self._from)[:, None]
        way = begin + fade_in(self._done, frames, self._frames) * (self._rest - begin)
        self._done += frames
        self._now = tuple(way[:, -1].tolist()) if self.moving else self.goal
        return way


class Glide:
    """Frequencies in Hz on their way together, evenly in octaves with a slow start and a slow end."""

    carried = ()

    def __init__(self, frequencies_hz: list[float], sample_rate: int) -> None:
        self._now_hz = self._from_hz = self._to_hz = np.array(frequencies_hz, np.float64)
        self._at_rest = tuple(self._to_hz.tolist())
        self._straight = False
        self._usual_frames = self._frames = self._done = round(GLIDE_MS * 1e-3 * sample_rate)

    @property
    def moving(self) -> bool:
        """Whether they are on their way."""
        return self._done < self._frames

    @property
    def at_rest(self) -> tuple[float, ...]:
        """Where they are, or are going to."""
        return self._at_rest

    @property
    def left_frames(self) -> int:
        """Frames until they have come to rest."""
        return max(0, self._frames - self._done)

    def go(self, frequencies_hz: list[float], frames: int | None = None) -> None:
        """Set out for others from where they are, to be there after so many frames, straight, or else after GLIDE_MS;
        nothing changes when they are there or on their way there.
        """
        goal = np.array(frequencies_hz, np.float64)
        if (goal != self._to_hz).any():
            self._from_hz, self._to_hz, self._done = self._now_hz, goal, 0
            self._at_rest = tuple(goal.tolist())
            self._frames = self._usual_frames if frames is None else frames
            self._straight = frames is not None

    def be(self, frequencies_hz: list[float]) -> None:
        """Rest there."""
        self._now_hz = self._to_hz = np.array(frequencies_hz)
        self._at_rest = tuple(frequencies_hz)
        self._done = self._frames

    def step(self, frames: int) -> Array:
        """Where each is over the next frames: (frequencies, frames), or (frequencies, 1) once all rest."""
        if not self.moving:
            return self._to_hz[:, None]
        done = np.minimum(self._done + np.arange(1, frames + 1), self._frames)
        if self._straight:
            way = self._from_hz[:, None] + (self._to_hz - self._from_hz)[:, None] * (done / self._frames)
            self._done, self._now_hz = self._done + frames, way[:, -1]
            return way
        share = 0.5 - 0.5 * np.cos(np.pi * done / self._frames)
        way = self._from_hz[:, None] * (self._to_hz / self._from_hz)[:, None] ** share
        way[:, done == self._frames] = self._to_hz[:, None]
        self._done += frames
        self._now_hz = way[:, -1]
        return way
