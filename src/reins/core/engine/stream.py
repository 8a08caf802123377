"""The time every strip hears: a stream that starts at a frame and, looping, jumps back from the loop's end."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Stream:
    """Maps the frames of a stream, counted from its start, to frames of the session; negative ones lie before it."""

    start_frame: int
    loop: tuple[int, int] | None = None

    def spans(self, first: int, frames: int) -> list[tuple[int, int]]:
        """(session frame, length) pieces that make up frames first .. first + frames of the stream."""
        position = self.start_frame + first
        if self.loop is None or self.start_frame >= self.loop[1]:
            return [(position, frames)]
        loop_start, loop_end = self.loop
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
