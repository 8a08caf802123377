"""The mix of a document, block by block: what both clocks drive.

Settings glide within the graph. What the graph cannot take over while it runs (tracks that come or go, other ways, a
bus of another latency) gets a new graph, and the sound fades over to it in 10 ms.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

from reins.core.dsp.gliding import fade_in
from reins.core.engine.chain import GLIDE_MS
from reins.core.engine.ear import Ear
from reins.core.engine.graph import Graph, working
from reins.core.engine.length import sounding_frames
from reins.core.sessions import MASTER, Document
from reins.core.takes import Take
from reins.core.time import Stream
from reins.core.units import db_to_lin, ms_to_frames
from reins.errors import InputError

Array = npt.NDArray[np.float64]
Listen = Literal["result", "source", "difference", "key", "band"]
LISTENS: tuple[Listen, ...] = ("result", "source", "difference", "key", "band")
BLOCK_FRAMES = 1024


@dataclass(frozen=True)
class Listening:
    """What is heard: of the mix (`of` None: source is the mix without any chain) or of one strip; made louder by
    gain_db. For a key, the processor whose detector is listened to, and the band where bands have keys of their own;
    for a band, the processor and the band by the name of its gain: what it covers of what it listens to is heard.
    """

    what: Listen = "result"
    of: str | None = None
    processor_id: str | None = None
    gain_db: float = 0.0
    band: str = ""


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
        self._faded = 0
        self._glide_frames = ms_to_frames(GLIDE_MS, document.sample_rate)
        self.graph = Graph(document, self.takes, Stream(0))
        self.graph.run_in()

    @property
    def document(self) -> Document:
        """What is to be heard, as asked for last."""
        return self._wanted or self.graph.document

    @property
    def working(self) -> int:
        """How many processors are at work."""
        return working(self.graph.document)

    @property
    def frames(self) -> int:
        """Length of what sounds: to the end of the last take and of what its chains let sound on."""
        return sounding_frames(self.document, self.takes)

    def start(self, stream: Stream) -> None:
        """Begin a stream on every strip."""
        document, self._wanted, self._old = self.document, None, None
        self._listening, self._listened = self._asked, None
        self.graph = Graph(document, self.takes, stream)
        self.graph.run_in()

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
            self._listened, self._listening, self._listen_faded = self._listening, self._asked, 0
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
        graph.process(frames, dry=any(to and to.what in ("source", "difference") for to in (now, before)))
        heard = self._of(graph, now, frames)
        if before is not None:
            old = self._of(graph, before, frames)
            heard = old + fade_in(self._listen_faded, frames, self._glide_frames) * (heard - old)
        return heard

    def _of(self, graph: Graph, to: Listening, frames: int) -> Array:
        player = graph.players.get(to.of or MASTER)
        if player is None:
            return np.zeros((2, frames))
        if to.what in ("key", "band"):
            heard = self._detector(graph, to, frames)
        elif to.what == "result":
            heard = player.aligned
        else:
            source = player.dry if to.of is None else player.source()
            heard = source if to.what == "source" else source - player.aligned
        return heard if to.gain_db == 0.0 else heard * db_to_lin(to.gain_db)

    def _detector(self, graph: Graph, to: Listening, frames: int) -> Array:
        """What a detector, or a band's, hears, lined up with the mix, on both sides; silence when there is none."""
        heard = graph.players[to.of or MASTER].chain.chain.heard(to.processor_id or "", to.band)
        if heard is None:
            return np.zeros((2, frames))
        late = graph.plan.chain_lead[to.of or MASTER] - heard.latency_frames
        sections = heard.region if to.what == "band" else None
        ear = graph.ears.get(to)
        if ear is None or not ear.fits(late, sections):
            ear = Ear(late, sections)
            graph.ears = {to: ear}
        return ear.process(np.ascontiguousarray(np.broadcast_to(heard.signal, (2, frames))))

    def meters(self) -> dict[str, tuple[float, float]]:
        """Of each strip over the last block: peak and RMS in dB, after fader and pan."""
        return {strip_id: player.meter_db() for strip_id, player in self.graph.players.items()}

    def deepest_db(self) -> dict[str, float]:
        """Of each processor over the last block: the deepest gain in dB."""
        rows = [player.chain.chain.deepest_db() for player in self.graph.players.values()]
        return {processor_id: gain for row in rows for processor_id, gain in row.items()}
