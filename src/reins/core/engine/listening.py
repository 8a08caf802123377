"""What is listened to: the mix, a strip or a processor; its result, its source, the difference, a key or a band; or the
reference beside the mix, from the session's place on, over and over.
"""

from dataclasses import dataclass
from functools import partial
from typing import Literal

import numpy as np
import numpy.typing as npt

from reins.core.engine.ear import Ear
from reins.core.engine.graph import Graph
from reins.core.engine.strips import StripPlayer
from reins.core.sessions import MASTER
from reins.core.takes import Take
from reins.core.units import db_to_lin
from reins.errors import StorageError

Array = npt.NDArray[np.float64]
Listen = Literal["result", "source", "difference", "key", "band", "reference"]
TOGETHER = "+"  # between the names of bands that are heard at once
MOST_TOGETHER = 16
LISTENS: tuple[Listen, ...] = ("result", "source", "difference", "key", "band", "reference")
Sides = Literal["both", "mono", "sides"]
SIDES: tuple[Sides, ...] = ("both", "mono", "sides")


@dataclass(frozen=True)
class Listening:
    """What is heard: of the mix (`of` None: source is the mix without any chain), of one strip, or of one of its
    processors (source is what comes to that one); made louder by gain_db. For a key, the processor whose detector is
    listened to, and the band where bands have keys of their own; for a band, the processor and the band by the name of
    its gain, several joined by TOGETHER: what they cover of what it listens to is heard. source_pct: of the result, how
    much of it is the source. sides: both as they are, their middle on both, or what differs between them on both.
    """

    what: Listen = "result"
    of: str | None = None
    processor_id: str | None = None
    gain_db: float = 0.0
    band: str = ""
    source_pct: float = 0.0
    sides: Sides = "both"


def heard_of(graph: Graph, to: Listening, frames: int) -> Array:
    """What is listened to of the block a graph has just worked on, stereo (2, frames), at the mix's time."""
    player = graph.players.get(to.of or MASTER)
    if player is None:
        return np.zeros((2, frames))
    if to.what == "reference":
        heard = _reference(graph, frames)
    elif to.what in ("key", "band"):
        heard = _detector(graph, player, to, frames)
    elif to.processor_id is not None:
        heard = _processor(graph, player, to, frames)
    elif to.what == "result":
        heard = player.aligned
        if to.source_pct > 0.0:
            source = player.dry if to.of is None else player.source()
            heard = heard + to.source_pct / 100.0 * (source - heard)
    else:
        source = player.dry if to.of is None else player.source()
        heard = source if to.what == "source" else source - player.aligned
    heard = heard if to.gain_db == 0.0 else heard * db_to_lin(to.gain_db)
    if to.sides == "both":
        return heard
    one = 0.5 * (heard[:1] + (heard[1:] if to.sides == "mono" else -heard[1:]))
    return np.repeat(one, 2, axis=0)


def _reference(graph: Graph, frames: int) -> Array:
    """The reference along the stream, on both sides; silence where there is none or, which is said, none to be read."""
    given = graph.document.reference
    if given is None or (take := graph.takes.get(given.take_id)) is None:
        return np.zeros((2, frames))
    try:
        heard = graph.stream.read(partial(_over_and_over, take), graph.position - frames, frames)
    except StorageError as error:
        graph.problems["reference"] = f"The reference “{given.name}”: {error}"
        return np.zeros((2, frames))
    return np.repeat(heard, 2, axis=0) if heard.shape[0] == 1 else heard


def _over_and_over(take: Take, first: int, frames: int) -> Array:
    """Frames of a take that begins anew where it ends."""
    length, pieces = max(take.facts.frames, 1), []
    while frames > 0:
        count = min(frames, length - first % length)
        pieces.append(take.read(first % length, count))
        first, frames = first + count, frames - count
    return np.concatenate(pieces, axis=1)


def wants_source(to: Listening | None) -> bool:
    """Whether what would be there without any chain is heard, or a part of it."""
    return to is not None and (to.what in ("source", "difference") or to.source_pct > 0.0)


def filling_frames(graph: Graph, to: Listening) -> int:
    """Frames until what is listened to has reached the mix's time: delays of its own begin empty."""
    one = to.processor_id is not None and (to.of or MASTER) in graph.players
    return graph.plan.chain_lead[to.of or MASTER] if one else 0


def _detector(graph: Graph, player: StripPlayer, to: Listening, frames: int) -> Array:
    """What a detector, or a band's, hears, on both sides; of several bands all; silence when there is none."""
    total = np.zeros((2, frames))
    bands = list(dict.fromkeys(to.band.split(TOGETHER)))[:MOST_TOGETHER] if to.what == "band" else [to.band]
    for band in bands:
        heard = player.chain.chain.heard(to.processor_id or "", band)
        if heard is not None:
            late = graph.plan.chain_lead[to.of or MASTER] - heard.latency_frames
            region = heard.region if to.what == "band" else None
            total = total + _at_mix(graph, (to, band), heard.signal, late, region)
    return total


def _processor(graph: Graph, player: StripPlayer, to: Listening, frames: int) -> Array:
    """What comes to a processor, what it makes, or the difference, through the strip's fader and pan. One that is off
    makes what the strip does.
    """
    around = player.chain.around(to.processor_id or "")
    if around is None:
        return np.zeros((2, frames)) if to.what == "difference" else player.aligned
    lead = graph.plan.chain_lead[to.of or MASTER]
    before, after = (
        _at_mix(graph, (to.of, to.processor_id, place), signal, lead - late, None) * player.block_gains
        for place, signal, late in (
            ("before", around.before, around.latency_before), ("after", around.after, around.latency_after),
        )
    )  # fmt: skip
    if to.what == "difference":
        return before - after
    return before if to.what == "source" else after + to.source_pct / 100.0 * (before - after)


def _at_mix(graph: Graph, place: object, signal: Array, late: int, sections: Array | None) -> Array:
    """A signal on both sides, delayed to the mix's time, through a band's filter where there is one.

    An ear goes on where it heard the block before; asked twice of one block it gives the same.
    """
    ear, until, given = graph.ears.get(place, (None, 0, signal))
    if ear is not None and until == graph.position:
        return given
    if ear is None or until != graph.position - signal.shape[1] or not ear.fits(late, sections):
        ear = Ear(late, sections)
    given = ear.process(np.ascontiguousarray(np.broadcast_to(signal, (2, signal.shape[1]))))
    graph.ears[place] = ear, graph.position, given
    return given
