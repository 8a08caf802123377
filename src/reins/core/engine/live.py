"""The live clock: the mixer paced by what the listener has played.

Knows no sockets: it is asked for the next block and gives none while the listener has enough ahead.
"""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.engine.mixer import BLOCK_FRAMES, Listen, Mixer, Stream
from reins.core.sessions import Document
from reins.core.takes import Take

AHEAD_S = 0.150


@dataclass(frozen=True)
class LiveBlock:
    """A block on its way to the listener: which stream, its place in it and in the session, samples and meters."""

    stream: int
    session_frame: int
    samples: npt.NDArray[np.float32]  # (frames, 2), interleaved in memory
    tracks: dict[str, tuple[float, float]]  # peak and RMS in dB after fader and pan
    gains: dict[str, tuple[float, float, float]]  # of each processor: deepest gain, peak in, peak out, in dB
    master: tuple[float, float]  # peak in dB, left and right


class LiveClock:
    """Plays a document: start, stop, seek, loop, change, listen; one caller at a time."""

    def __init__(self, document: Document, takes: dict[str, Take]) -> None:
        self._document = document
        self._mixer = Mixer(document, takes)
        self._ahead_frames = round(AHEAD_S * document.sample_rate)
        self.playing = False
        self.stream = 0
        self._sent = self._played = 0
        self._stream_map = Stream(0)

    def play(self, frame: int) -> int:
        """Start a new stream at a session frame; returns its number."""
        loop = self._document.loop
        span = (loop.start_frame, loop.end_frame) if loop.on and loop.end_frame > loop.start_frame else None
        self._stream_map = Stream(max(0, frame), span)
        self._mixer.start(self._stream_map)
        self.stream += 1
        self._sent = self._played = 0
        self.playing = True
        return self.stream

    def stop(self) -> None:
        """Give no more blocks."""
        self.playing = False

    def played(self, stream: int, frames: int) -> None:
        """Note how many frames of a stream the listener has played."""
        if stream == self.stream:
            self._played = max(self._played, min(frames, self._sent))

    def position(self) -> int:
        """The session frame the listener hears now."""
        return self._stream_map.spans(self._played, 1)[0][0]

    def add_takes(self, takes: dict[str, Take]) -> None:
        """Make takes known before a document names them."""
        self._mixer.takes.update(takes)

    def change(self, document: Document) -> bool:
        """Take over a changed document; returns whether the stream had to start anew (the loop moved)."""
        moved = document.loop != self._document.loop
        self._document = document
        self._mixer.change(document)
        if moved and self.playing:
            self.play(self.position())
        return moved and self.playing

    def listen(self, what: Listen) -> None:
        """Choose what is heard."""
        self._mixer.listen(what)

    def ended(self) -> bool:
        """Whether everything there is has been given."""
        here = self._stream_map.spans(self._sent, 1)[0][0]
        return here >= self._mixer.frames

    def next_block(self) -> LiveBlock | None:
        """The next block, or None while stopped, at the end, or with enough ahead."""
        if not self.playing or self.ended() or self._sent - self._played + BLOCK_FRAMES > self._ahead_frames:
            return None
        place = self._stream_map.spans(self._sent, 1)[0][0]
        mix = self._mixer.process(BLOCK_FRAMES)
        self._sent += BLOCK_FRAMES
        samples = np.ascontiguousarray(mix.T, dtype=np.float32)
        tracks = {k: player.meter_db for k, player in self._mixer.players.items()}
        gains = {k: stage for player in self._mixer.players.values() for k, stage in player.stages().items()}
        peaks = 20.0 * np.log10(np.maximum(np.abs(mix).max(axis=1), 1e-6))
        return LiveBlock(self.stream, place, samples, tracks, gains, (float(peaks[0]), float(peaks[1])))
