"""The mix of a document, block by block: what both clocks drive.

Settings glide within the graph. What the graph cannot take over while it runs (tracks that come or go, other ways, a
bus of another latency) gets a new graph, and the sound fades over to it in 10 ms.
"""

import numpy as np
import numpy.typing as npt

from reins.core.dsp.gliding import fade_in
from reins.core.engine.gliding import GLIDE_MS
from reins.core.engine.graph import Graph, working
from reins.core.engine.length import session_frames, sounding_frames
from reins.core.engine.listening import Listening, filling_frames, heard_of, wants_source
from reins.core.sessions import Document
from reins.core.takes import Take
from reins.core.time import Stream
from reins.core.units import ms_to_frames
from reins.errors import InputError

Array = npt.NDArray[np.float64]
BLOCK_FRAMES = 1024


class Mixer:
    """All strips of a document, block by block; deterministic: same document, same start, same samples."""

    def __init__(self, document: Document, takes: dict[str, Take]) -> None:
        self.takes = dict(takes)
        self._asked = self._listening = Listening()
        self._listened: Listening | None = None  # what was heard before, while it fades out
        self._listen_faded = 0
        self._wanted: Document | None = None
        self._retuned: frozenset[str] | None = None
        self._old: Graph | None = None
        self._unheard = Graph(document, self.takes, Stream(0))  # never run: starts begin with copies of it
        self._ready: Graph | None = None  # such a copy for the next start
        self._faded = 0
        self._glide_frames = ms_to_frames(GLIDE_MS, document.sample_rate)
        self.graph = self._unheard.twin()
        self.graph.run_in()

    @property
    def document(self) -> Document:
        """What is to be heard, as asked for last."""
        return self._wanted or self.graph.document

    @property
    def working(self) -> int:
        """How many processors are at work."""
        return working(self.graph.document)

    def left(self, frame: int, wanted: int) -> int:
        """For how many of the wanted frames from one on there is sound: takes, and what their chains let sound on."""
        if frame + wanted <= session_frames(self.document, self.takes):
            return wanted  # asked with every block: tails are looked at only where takes have ended
        return max(0, min(wanted, sounding_frames(self.document, self.takes) - frame))

    def start(self, stream: Stream) -> None:
        """Begin a stream on every strip."""
        document, self._wanted, self._old = self.document, None, None
        self._listening, self._listened = self._asked, None
        ready, self._ready = self._ready, None
        self.graph = ready if ready is not None and ready.document is document else self._made(document)
        self.graph.stream = stream
        self.graph.run_in()

    def _made(self, document: Document) -> Graph:
        """A graph that has never run; to make one takes three times as long as to copy it."""
        if self._unheard.document is not document:
            self._unheard = Graph(document, self.takes, Stream(0))
        return self._unheard.twin()

    def make_ready(self) -> bool:
        """Make, while there is time, what the next start works with; returns whether there was anything to do."""
        if self._ready is not None and self._ready.document is self.document:
            return False
        self._ready = self._made(self.document)
        return True

    def change(self, document: Document, retuned: frozenset[str] | None = None) -> None:
        """Take over a changed document: strips that come and go fade, the others glide.

        retuned: where only settings of processors differ from what was wanted last (graph.only_retuned), their strips.
        """
        if self._wanted is None:
            self._retuned = retuned
        elif self._retuned is not None:
            self._retuned = None if retuned is None else self._retuned | retuned
        self._wanted = document

    def listen(self, to: Listening) -> None:
        """Choose what is heard from the next block on; it fades over."""
        if to.of is not None:
            self.document.strip(to.of)
        if to.what in ("key", "band") and (to.of is None or to.processor_id is None):
            raise InputError(f"A {to.what} is heard of one processor: choose a processor first.")
        self._asked = to

    def process(self, frames: int) -> Array:
        """The next block of the mix, stereo (2, frames) float64."""
        self._take_over()
        if self._asked != self._listening and self._listened is None:
            self._listened, self._listening = self._listening, self._asked
            self._listen_faded = -filling_frames(self.graph, self._asked)
        heard = self._heard(self.graph, frames)
        if self._old is not None:
            before = self._heard(self._old, frames)
            weight = fade_in(self._faded, frames, self._glide_frames)
            heard = before + weight * (heard - before)
            self._faded += frames
            if self._faded >= self._glide_frames:
                self._old = None
        self._listen_faded += frames
        if self._listen_faded >= self._glide_frames:
            self._listened = None
        return heard

    def _take_over(self) -> None:
        if self._wanted is None or self._old is not None:
            return
        document, self._wanted = self._wanted, None
        if self._retuned is not None:
            self.graph.retune(document, self._retuned)
        elif not self.graph.takes_over(document):
            self._old, self._faded = self.graph, 0
            self.graph = self.graph.successor(document, self.takes)

    def _heard(self, graph: Graph, frames: int) -> Array:
        now, before = self._listening, self._listened
        graph.process(frames, dry=wants_source(now) or wants_source(before))
        heard = heard_of(graph, now, frames)
        if before is not None:
            old = heard_of(graph, before, frames)
            heard = old + fade_in(self._listen_faded, frames, self._glide_frames) * (heard - old)
        return heard

    def meters(self) -> dict[str, tuple[float, float]]:
        """Of each strip over the last block: peak and RMS in dB, after fader and pan."""
        return {strip_id: player.meter_db() for strip_id, player in self.graph.players.items()}

    def deepest_db(self) -> dict[str, float]:
        """Of each processor over the last block: the deepest gain in dB."""
        rows = [player.chain.chain.deepest_db() for player in self.graph.players.values()]
        return {processor_id: gain for row in rows for processor_id, gain in row.items()}
