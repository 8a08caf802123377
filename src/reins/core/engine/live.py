"""The live clock: the mixer paced by what the listener has played.

Knows no sockets: it is asked for the next block and gives none while the listener has enough ahead.
"""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.engine.listening import Listening
from reins.core.engine.mixer import BLOCK_FRAMES, Mixer
from reins.core.engine.watching import Sight, Watched, Watcher
from reins.core.measure.meters import MasterMeter, MasterReading, PeakHold
from reins.core.sessions import Document
from reins.core.takes import Take
from reins.core.time import SEAM_MS, Stream
from reins.core.units import ms_to_frames
from reins.errors import NotReadyError

AHEAD_S = 0.150
MANY_PROCESSORS = 48  # from here on blocks are twice as long: half the work around the kernels, 20 ms more to the hand
# Where a second of sound takes so much of a processor second, or has and still takes more than LIGHT, blocks are twice
# as long again and given twice as far ahead: less to do, no gap where the machine pauses, 150 ms more to the hand.
HEAVY, LIGHT = 0.5, 0.3


@dataclass(frozen=True)
class LiveBlock:
    """A block on its way to the listener: which stream, its place in it and in the session, samples and meters."""

    stream: int
    session_frame: int
    samples: npt.NDArray[np.float32]  # (frames, 2), interleaved in memory
    strips: dict[str, tuple[float, float, float]]  # peak, RMS and peak hold in dB after fader and pan
    gains: dict[str, float]  # deepest gain of each processor in dB
    sight: Sight  # of the strip watched
    master: MasterReading  # of what is heard, since the stream began


class LiveClock:
    """Plays a document: start, stop, seek, loop, change, listen; one caller at a time."""

    def __init__(self, document: Document, takes: dict[str, Take]) -> None:
        self._document = document
        self._mixer = Mixer(document, takes)
        self._heavy = False
        self.playing = False
        self._watched = Watched()
        self._watcher = Watcher(sample_rate=document.sample_rate)
        self.stream = 0
        self._sent = self._played = 0
        self._stream_map = Stream(0)
        self._holds: dict[str, PeakHold] = {}
        self._meter = MasterMeter(sample_rate=document.sample_rate)

    def play(self, frame: int) -> int:
        """Start a new stream at a session frame; returns its number."""
        loop = self._document.loop
        pause = round(loop.pause_s * self._document.sample_rate)
        span = (loop.start_frame, loop.end_frame + pause) if loop.on and loop.end_frame > loop.start_frame else None
        seam = ms_to_frames(SEAM_MS, self._document.sample_rate)
        # Begun behind the loop's end, it plays on to the end of the session.
        self._stream_map = Stream(max(0, frame), span if frame < loop.end_frame else None, seam, pause if span else 0)
        self._mixer.start(self._stream_map)
        self.stream += 1
        self._sent = self._played = 0
        self._holds = {}
        self._meter = MasterMeter(sample_rate=self._document.sample_rate)
        self.playing = True
        return self.stream

    def stop(self) -> None:
        """Give no more blocks."""
        self.playing = False

    def played(self, stream: int, frames: int) -> None:
        """Note how many frames of a stream the listener has played."""
        if stream == self.stream:
            self._played = max(self._played, min(frames, self._sent))

    @property
    def ahead_frames(self) -> int:
        """How much the listener has that it has not played yet."""
        return self._sent - self._played

    def position(self) -> int:
        """The session frame the listener hears now."""
        return self._stream_map.heard_at(self._played)

    def add_takes(self, takes: dict[str, Take]) -> None:
        """Make takes known before a document names them."""
        self._mixer.takes.update(takes)

    def change(self, document: Document, retuned: frozenset[str] | None = None) -> bool:
        """Take over a changed document; returns whether the stream had to start anew (the loop moved). retuned: see
        Mixer.change.
        """
        if retuned is not None:
            self._document = document
            self._mixer.change(document, retuned)
            return False
        moved = document.loop != self._document.loop
        if document.sample_rate != self._document.sample_rate:  # the first take has brought another
            self.playing = False
            self._mixer = Mixer(document, self._mixer.takes)
            self._watcher = Watcher(sample_rate=document.sample_rate)
            self._watcher.watch(self._watched)
        self._document = document
        self._mixer.change(document)
        if moved and self.playing:
            self.play(self.position())
        return moved and self.playing

    def make_ready(self) -> None:
        """Work ahead for the next start or seek, where nothing else is due."""
        self._mixer.make_ready()

    def watch(self, watched: Watched) -> None:
        """Choose what is looked at."""
        self._watched = watched
        self._watcher.watch(watched)

    def listen(self, to: Listening) -> None:
        """Choose what is heard."""
        self._mixer.listen(to)

    def failures(self) -> dict[str, str]:
        """Sentences on what has failed while playing, by what it is."""
        return self._mixer.graph.failures()

    def awaited(self) -> dict[str, str]:
        """What the sound goes on without until it is compiled; see Graph.awaited."""
        return self._mixer.graph.awaited()

    def ended(self) -> bool:
        """Whether everything there is has been given."""
        here = self._stream_map.heard_at(self._sent)
        return self._mixer.left(here, 1) == 0

    def _next_frames(self, busy: bool, load: float) -> tuple[int, int]:
        """How long the next block is, and how many frames may be ahead with it."""
        self._heavy = load > (LIGHT if self._heavy else HEAVY)
        times = 4 if self._heavy else 2 if busy or self._mixer.working >= MANY_PROCESSORS else 1
        # A stream's first blocks are wanted soon: each is as long at most as what was given.
        frames = min(BLOCK_FRAMES * times, max(BLOCK_FRAMES, self._sent))
        return frames, round(AHEAD_S * self._document.sample_rate * (2 if self._heavy else 1))

    def next_block(self, *, busy: bool = False, load: float = 0.0) -> LiveBlock | None:
        """The next block, or None while stopped, at the end, or with enough ahead; busy: the machine has much to do;
        load: processor seconds that a second of this one's sound takes.
        """
        frames, most_ahead = self._next_frames(busy, load)
        if not self.playing or self.ended() or self.ahead_frames + frames > most_ahead:
            return None
        place = self._stream_map.heard_at(self._sent)
        mix = self._mixer.process(frames)
        self._sent += frames
        samples = np.ascontiguousarray(mix.T, dtype=np.float32)
        sounding = mix[:, : max(1, self._mixer.left(place, frames))]  # to the end alone
        strips = {k: (*levels, self._held(k, levels[0], frames)) for k, levels in self._mixer.meters().items()}
        return LiveBlock(
            self.stream, place, samples, strips, self._mixer.deepest_db(), self._look(),
            self._meter.feed(np.ascontiguousarray(sounding)),
        )  # fmt: skip

    def _look(self) -> Sight:
        """What there is to see; nothing as long as what looks is not compiled."""
        try:
            return self._watcher.look(self._mixer)
        except NotReadyError:
            return Sight({}, {}, None, {})

    def last_reading(self) -> MasterReading | None:
        """The master's meters over all that was given; integrated loudness is that of the whole."""
        return self._meter.finish()

    def _held(self, strip_id: str, peak_db: float, frames: int) -> float:
        if strip_id not in self._holds:
            self._holds[strip_id] = PeakHold(sample_rate=self._document.sample_rate)
        return self._holds[strip_id].feed(peak_db, frames)
