"""How far ahead of the mix every strip must run, so that all paths meet lined up to the frame.

Nothing in the mix is late: takes are on disk, so a track is read ahead by whatever latency lies before it. `lead` of
a place is the number of frames by which the sound there runs ahead of the mix. Backwards from the master's result,
whose lead is 0, a strip's result must lead by what the strip it goes to needs at its input, and by what the chains
that follow it as a key need; where a path is ahead of what its receiver needs, it is delayed.
"""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.engine.entries import chain_latency, channels_after
from reins.core.routing import HITS, goals, in_order, strip_ids, ties
from reins.core.sessions import MASTER, Document

Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Tie:
    """A key on its way: the name the chain knows it by, the strip it comes from, where it is taken there
    (routing.TAPS, or HITS), and the side, where it is one alone; of hits, how many ms ahead.
    """

    name: str
    source: str
    tap: str
    side: str = ""


def one_side(signal: Array, side: str) -> Array:
    """One side of a signal (channels, frames) as (1, frames), or all of it where none is named; mono is both sides."""
    if not side:
        return signal
    return signal[:1] if side == "left" else signal[-1:]


@dataclass(frozen=True)
class Plan:
    """The order to work in, and by strip: where it goes, its keys, the leads of its input, chain and result."""

    order: tuple[str, ...]
    goes_to: dict[str, str]
    sends: dict[str, tuple[str, ...]]  # the buses each goes to besides
    ties: dict[str, tuple[Tie, ...]]
    in_lead: dict[str, int]
    chain_lead: dict[str, int]
    out_lead: dict[str, int]
    wide: dict[str, int]  # how many channels each chain makes of one
    fixed: frozenset[str]  # strips whose input others depend on: buses, the master, those tapped before their chain

    def tap_lead(self, tie: Tie) -> int:
        """The lead of a key where it is taken."""
        return self.in_lead[tie.source] if tie.tap == "before" else self.out_lead[tie.source]

    def shape(self) -> dict[str, tuple[object, ...]]:
        """By strip what must stay for its player to go on; where it differs a new graph is needed.

        The input of a track that no other listens to before its chain is left out: such a track changes alone.
        """
        return {
            k: (
                (self.goes_to.get(k), self.sends.get(k)),
                self.ties[k],
                self.out_lead[k],
                self.in_lead[k] if k in self.fixed else None,
                self.wide[k],
            )
            for k in self.order
        }


def make_plan(document: Document) -> Plan:
    """The plan of a document; ConflictError naming the members of a circle."""
    order = in_order(document)
    ways = {k: goals(document, k) for k in strip_ids(document) if k != MASTER}
    tied = {k: tuple(Tie(*tie) for tie in ties(document, k)) for k in order}
    in_lead: dict[str, int] = {}
    chain_lead: dict[str, int] = {}
    out_lead: dict[str, int] = {}
    for strip_id in reversed(order):
        latency = chain_latency(
            document.strip(strip_id).chain, sample_rate=document.sample_rate, on_take=strip_id in document.tracks
        )
        listen = [(chain_lead[k], tie.tap) for k in chain_lead for tie in tied[k] if tie.source == strip_id]
        after = [lead for lead, tap in listen if tap not in ("before", HITS)]
        before = [lead for lead, tap in listen if tap == "before"]
        out_lead[strip_id] = max([0, *(in_lead[goal] for goal in ways.get(strip_id, ())), *after])
        chain_lead[strip_id] = out_lead[strip_id] + latency
        in_lead[strip_id] = max([chain_lead[strip_id], *before])
    tapped = {tie.source for row in tied.values() for tie in row if tie.tap == "before"}
    keyed = {k for k, row in tied.items() if row}
    fixed = frozenset({MASTER, *document.buses, *tapped, *keyed})
    wide = {k: channels_after(document.strip(k).chain, 1) for k in order}
    goes_to, sends = {k: way[0] for k, way in ways.items()}, {k: tuple(way[1:]) for k, way in ways.items()}
    return Plan(tuple(order), goes_to, sends, tied, in_lead, chain_lead, out_lead, wide, fixed)
