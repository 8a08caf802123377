"""The time of the session: what every strip and processor hears of it.

A stream starts at a frame and, looping, jumps back from the loop's end. At the seam the sound fades over: for SEAM_MS
after the jump what follows the loop's end goes on and fades out, while the loop's beginning fades in. Every pass but
the first begins like that, so passes two and three are the same.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
SEAM_MS = 3.0


@dataclass(frozen=True)
class Stream:
    """Maps the frames of a stream, counted from its start, to frames of the session; negative ones lie before it."""

    start_frame: int
    loop: tuple[int, int] | None = None
    seam_frames: int = 0
    pause_frames: int = 0  # of silence at the end of the loop, which it is longer by

    def heard_at(self, frame: int) -> int:
        """The session frame at a frame of the stream; in the pause that of the last sound."""
        place = self.at(frame)
        return place if self._looping is None or not self.pause_frames else min(place, self._silent_from - 1)

    @property
    def _silent_from(self) -> int:
        assert self.loop is not None
        return self.loop[1] - self.pause_frames

    @property
    def _looping(self) -> tuple[int, int] | None:
        """The loop, where the stream will come to its end."""
        return self.loop if self.loop is not None and self.start_frame < self.loop[1] else None

    def spans(self, first: int, frames: int) -> list[tuple[int, int]]:
        """(session frame, length) pieces that make up frames first .. first + frames of the stream."""
        position = self.start_frame + first
        if self._looping is None:
            return [(position, frames)]
        loop_start, loop_end = self._looping
        pieces = []
        while frames > 0:
            if position >= loop_end:
                position = loop_start + (position - loop_start) % (loop_end - loop_start)
            length = min(frames, loop_end - position)
            pieces.append((position, length))
            position += length
            frames -= length
        return pieces

    def at(self, frame: int) -> int:
        """The session frame at a frame of the stream."""
        return self.spans(frame, 1)[0][0]

    def read(self, sound: Callable[[int, int], Array], first: int, frames: int) -> Array:
        """What a sound (called with frame and length) gives along the stream, its seams faded over."""
        if self._looping is not None and self.pause_frames:
            sound = self._pausing(sound)
        spans = self.spans(first, frames)
        if len(spans) == 1 and not self._seam_at(first):
            return sound(*spans[0])
        pieces, at = [], first
        for position, length in spans:
            piece = sound(position, length)
            fading = self._seam_at(at)
            if fading:
                self._fade(sound, piece, position, fading)
            pieces.append(piece)
            at += length
        return np.concatenate(pieces, axis=1)

    def _pausing(self, sound: Callable[[int, int], Array]) -> Callable[[int, int], Array]:
        """The sound, fading out where the pause begins and silent from there on."""

        def read(first: int, frames: int) -> Array:
            left = self._silent_from - np.arange(first, first + frames)
            if left[-1] >= self.seam_frames:
                return sound(first, frames)
            return sound(first, frames) * np.clip(left / max(self.seam_frames, 1), 0.0, 1.0)

        return read

    def _seam_at(self, frame: int) -> int:
        """How many frames of the fade after a jump are still to come at a frame of the stream."""
        if self._looping is None or self.start_frame + frame < self._looping[1]:
            return 0
        loop_start, loop_end = self._looping
        into = (self.start_frame + frame - loop_start) % (loop_end - loop_start)
        return max(0, min(self.seam_frames, loop_end - loop_start) - into)

    def _fade(self, sound: Callable[[int, int], Array], piece: Array, position: int, left: int) -> None:
        """Blend into a piece what would follow the loop's end; `left` frames of the fade are still to come."""
        assert self.loop is not None
        length = min(self.seam_frames, self.loop[1] - self.loop[0])
        count = min(left, piece.shape[1])
        share = (length - left + np.arange(1, count + 1)) / (length + 1)
        going_on = sound(self.loop[1] + position - self.loop[0], count)
        piece[:, :count] = going_on + (0.5 - 0.5 * np.cos(np.pi * share)) * (piece[:, :count] - going_on)


@dataclass(frozen=True)
class Beat:
    """The session's tempo and metre; beat 0 is its frame 0."""

    tempo_bpm: float = 120.0
    per_bar: int = 4


@dataclass(frozen=True)
class When:
    """The place of a block in the session: the frames first .. first + frames of a stream, and the session's beat.

    first is negative before the stream begins. `times`: the block is at so many times the rate (oversampling).
    """

    stream: Stream
    first: int
    frames: int
    sample_rate: int
    beat: Beat = Beat()
    times: int = 1

    def later(self, frames: int) -> "When":
        """The place so many frames later."""
        if not frames:
            return self
        return When(self.stream, self.first + frames, self.frames, self.sample_rate, self.beat, self.times)

    def spans(self) -> list[tuple[int, int]]:
        """(session frame, length) of each piece the block falls into at the loop's jump."""
        return self.stream.spans(self.first, self.frames)

    def seconds(self) -> Array:
        """The session's time at each sample of the block, in seconds."""
        steps = np.arange(self.times) / self.times
        pieces = [(np.arange(begin, begin + length)[:, None] + steps).ravel() for begin, length in self.spans()]
        return np.concatenate(pieces) / self.sample_rate

    def beats(self) -> Array:
        """Beats since the session's frame 0 at each sample of the block."""
        return self.seconds() * (self.beat.tempo_bpm / 60.0)

    def bars(self) -> Array:
        """Bars since the session's frame 0 at each sample of the block."""
        return self.beats() / self.beat.per_bar
