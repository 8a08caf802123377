"""All strips of a document at work on one stream: tracks into buses into the master, keys along their ties."""

import copy

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry
from reins.core.engine.ear import Ear
from reins.core.engine.entries import channels_after, make_of
from reins.core.engine.plan import Plan, Tie, make_plan, one_side
from reins.core.engine.players import PRE_ROLL_BLOCK, BusPlayer, TrackPlayer
from reins.core.engine.strips import StripPlayer
from reins.core.laid import LaidTake
from reins.core.moves.models import outside_keys
from reins.core.processors.base import Delay
from reins.core.routing import HITS, key_names
from reins.core.sessions import MASTER, Bus, Document, Master, Track
from reins.core.soloing import heard
from reins.core.struck import Map, StruckSound, struck_of
from reins.core.takes import Take
from reins.core.time import Stream, When
from reins.core.twins import twin_of

Array = npt.NDArray[np.float64]
PRE_ROLL_S = 2.0  # what chains hear before the first frame asked for, so that their levels have settled
PRE_ROLL_WORK_S = 14.0  # seconds of sound through processors that are spent on it at most in all
SHORTEST_PRE_ROLL_S = 0.1


def working(document: Document) -> int:
    """How many processors are on."""
    return sum(entry.on for k in (*document.tracks, *document.buses, MASTER) for entry in document.strip(k).chain)


STANDING = ("take_id", "bus", "sends", "mute", "solo", "solo_safe")


def _moves_by_beat(document: Document) -> bool:
    strips = (*document.tracks.values(), *document.buses.values(), document.master)
    return any(rein.by.kind == "beat" for strip in strips for rein in strip.reins)


def only_retuned(old: Document, new: Document) -> frozenset[str] | None:
    """The strips of which a drag has changed settings of processors, where that is all that differs and every processor
    is made as before; else None.
    """
    if old.master is not new.master or vars(old).keys() != vars(new).keys():
        return None
    parts = ("order", "bus_order", "sample_rate", "loop", "tempo_bpm", "beats_per_bar")
    if any(vars(old)[part] is not vars(new)[part] for part in parts):
        return None
    changed = set()
    for before, now in ((old.tracks, new.tracks), (old.buses, new.buses)):
        for strip_id, strip in now.items():
            known = before.get(strip_id)
            if known is strip:
                continue
            if known is None or not _differs_by_chain(known, strip) or not _stands_alike(known, strip, new.sample_rate):
                return None
            changed.add(strip_id)
    return frozenset(changed)


def _differs_by_chain(old: Track | Bus | Master, new: Track | Bus | Master) -> bool:
    before, now = vars(old), vars(new)
    return all(before[name] is now[name] or name == "chain" for name in now)


def _stands_alike(old: Track | Bus | Master, new: Track | Bus | Master, sample_rate: int) -> bool:
    """Whether a changed strip goes where it went, follows what it followed and is as late and as audible as before."""
    before, now = vars(old), vars(new)
    if any(before.get(name) != now.get(name) for name in STANDING) or old.matched_db != new.matched_db:
        return False
    if old.reins is not new.reins and outside_keys(old.reins) != outside_keys(new.reins):
        return False
    on_take = isinstance(new, Track)

    def standing(entry: ProcessorEntry) -> tuple[object, ...]:
        wide = channels_after([entry], 1)
        return entry.id, entry.on, key_names(entry), make_of(entry, sample_rate=sample_rate, on_take=on_take), wide

    return len(old.chain) == len(new.chain) and all(
        one is other or standing(one) == standing(other) for one, other in zip(old.chain, new.chain, strict=True)
    )


def pre_roll_frames(document: Document) -> int:
    """How much is heard before a start: PRE_ROLL_S, less where many processors would keep the sound waiting."""
    seconds = max(SHORTEST_PRE_ROLL_S, min(PRE_ROLL_S, PRE_ROLL_WORK_S / max(working(document), 1)))
    return round(seconds * document.sample_rate)


class Graph:
    """Players joined as the plan says; works block by block from a position of a stream on."""

    def __init__(self, document: Document, takes: dict[str, Take], stream: Stream, position: int = 0) -> None:
        self.document, self.takes = document, takes
        self.plan: Plan = make_plan(document)
        self.stream, self.position = stream, position
        self._pre_roll = pre_roll_frames(document)
        self.problems: dict[str, str] = {}  # what has failed beside the strips, in sentences
        self.ears: dict[object, tuple[Ear, int, Array]] = {}  # see listening
        self.players: dict[str, StripPlayer] = {}
        self._struck_by: dict[Tie, tuple[Map, tuple[int, float], StruckSound]] = {}
        for strip_id in self.plan.order:
            self._join(strip_id)
        self._edges = self._new_edges()

    def _key_channels(self, strip_id: str) -> dict[str, int]:
        return {tie.name: self._channels_of(tie) for tie in self.plan.ties[strip_id]}

    def _channels_of(self, tie: Tie) -> int:
        if tie.side or tie.tap in ("fader", HITS):
            return 2 if tie.tap == "fader" and not tie.side else 1
        come = self._channels(tie.source)
        return come if tie.tap == "before" else channels_after(self.document.strip(tie.source).chain, come)

    def _channels(self, strip_id: str) -> int:
        track = self.document.tracks.get(strip_id)
        return self.takes[track.take_id].facts.channels if track and track.take_id in self.takes else 2

    def _join(self, strip_id: str) -> None:
        """Make the player of a strip; a track without a take has none."""
        document, strip = self.document, self.document.strip(strip_id)
        more = {"sample_rate": document.sample_rate, "key_channels": self._key_channels(strip_id)}
        if strip_id not in document.tracks:
            self.players[strip_id] = BusPlayer(strip, strip_id, self.plan, **more)  # type: ignore[arg-type]
        elif (take := self.takes.get(document.tracks[strip_id].take_id or "")) is not None:
            track = document.tracks[strip_id]
            self.players[strip_id] = TrackPlayer(track, strip_id, LaidTake(take, track), self.plan, **more)  # type: ignore[arg-type]
        if strip_id in self.players:
            self.players[strip_id].change(strip, heard(document, strip_id))
            self.players[strip_id].settle()

    def _new_edges(self) -> dict[tuple[str, str], Delay]:
        """Delays of the ways by (from, to): a strip into its bus, a key (by name) to the chain it drives."""
        plan = self.plan
        edges = {(k, to): Delay(2, plan.out_lead[k] - plan.in_lead[to]) for k, to in plan.goes_to.items()}
        for k, buses in plan.sends.items():
            edges |= {(f"{k}/send", to): Delay(2, plan.out_lead[k] - plan.in_lead[to]) for to in buses}
        for strip_id, tied in plan.ties.items():
            for tie in (one for one in tied if one.tap != HITS):
                late = plan.tap_lead(tie) - plan.chain_lead[strip_id]
                edges[tie.name, strip_id] = Delay(self._channels_of(tie), late)
        return edges

    def run_in(self) -> None:
        """Hear what lies before the position, so that levels have settled and delays are filled."""
        here = self.position
        deepest = max(self.plan.in_lead.values())
        begin = here - min(self._pre_roll, max(0, self.stream.at(here))) - deepest
        if any(player.strip.chain for player in self.players.values()):
            for first in range(begin, here, PRE_ROLL_BLOCK):
                self.position = first
                self.process(min(PRE_ROLL_BLOCK, here - first))
        self.position = here

    def retune(self, document: Document, strip_ids: frozenset[str]) -> None:
        """Go on with a document in which these strips have other settings of their processors and all else stays."""
        self.document = document
        for strip_id in strip_ids & self.players.keys():
            self.players[strip_id].retune(document.strip(strip_id))

    def takes_over(self, document: Document) -> bool:
        """Go on with a changed document where no strip has come, gone or found another place, and no rein is moved by
        another beat, by which it would be somewhere else at once; else False.
        """
        if document.beat != self.document.beat and _moves_by_beat(document):
            return False
        found = any((k in self.players) != (t.take_id in self.takes) for k, t in document.tracks.items())
        changed = None if found else self._changed_strips(document)
        if changed is not None:
            self.document = document
            for strip_id in changed:
                if strip_id in self.players:
                    self._renew(strip_id, self.players[strip_id])
            return True
        plan = make_plan(document)
        if found or plan.shape() != self.plan.shape():
            return False
        self.document, self.plan = document, plan
        for strip_id, player in self.players.items():
            self._renew(strip_id, player)
        return True

    def _changed_strips(self, document: Document) -> list[str] | None:
        """The strips that a document has changed where no way, key, latency or audibility has, as when a setting is
        dragged; None where it is more than that.
        """
        old = self.document
        if (old.order, old.bus_order, old.sample_rate) != (document.order, document.bus_order, document.sample_rate):
            return None
        places = ((old.tracks, document.tracks), (old.buses, document.buses))
        changed = [k for before, now in places for k, strip in now.items() if strip is not before[k]]
        changed += [MASTER] if document.master is not old.master else []
        alike = all(_stands_alike(old.strip(k), document.strip(k), document.sample_rate) for k in changed)
        return changed if alike else None

    def _renew(self, strip_id: str, player: StripPlayer) -> None:
        player.change(self.document.strip(strip_id), heard(self.document, strip_id))
        track = self.document.tracks.get(strip_id)
        if track and isinstance(player, TrackPlayer):
            take = self.takes[track.take_id or ""]
            if not player.laid.lies_as(take, track):
                player.relay(LaidTake(take, track))

    def twin(self) -> "Graph":
        """A graph that goes on from the same and shares no state with this one."""
        new = copy.copy(self)
        new.ears, new._struck_by = {}, {}
        new.players = {
            strip_id: player.twin(
                self.document.strip(strip_id), self._key_channels(strip_id), heard(self.document, strip_id)
            )
            for strip_id, player in self.players.items()
        }
        new._edges = {way: twin_of(edge) for way, edge in self._edges.items()}
        return new

    def successor(self, document: Document, takes: dict[str, Take]) -> "Graph":
        """The graph of a changed document at this one's position.

        Where the strips that stay keep their leads, they go on from copies of their state; otherwise all is made anew
        and hears what lies before.
        """
        new = Graph(document, takes, self.stream, self.position)
        old_shape, new_shape = self.plan.shape(), new.plan.shape()
        stay = [k for k in new.players if k in self.players]
        moved = (old_shape[k][2:] != new_shape[k][2:] or self._latency(k) != new._latency(k) for k in stay)
        if any(moved) or any(self.players[k].must_settle(document.strip(k)) for k in stay):
            new.run_in()
            return new
        for strip_id, player in new.players.items():
            if strip_id in self.players:
                twin = self.players[strip_id].twin(
                    document.strip(strip_id), new._key_channels(strip_id), heard(document, strip_id)
                )
                if isinstance(player, TrackPlayer) and isinstance(twin, TrackPlayer):
                    twin.laid = player.laid  # which may lie elsewhere; the sound fades over to it
                new.players[strip_id] = twin
            elif isinstance(player, TrackPlayer) and not new.plan.ties[strip_id]:
                player.prime(new._when(0), new._pre_roll)
        kept = {way: edge for way, edge in self._edges.items() if way in new._edges}
        new._edges |= {w: twin_of(e) for w, e in kept.items() if e.frames == new._edges[w].frames}
        return new

    def _latency(self, strip_id: str) -> int:
        return self.plan.chain_lead[strip_id] - self.plan.out_lead[strip_id]

    def failures(self) -> dict[str, str]:
        """Sentences on what has failed, by strip and what it is: processors passed by, recordings that are silent."""
        return self.problems | {
            f"{strip_id}/{what}": said if what.startswith("take ") else f"{player.strip.name}: {said}"
            for strip_id, player in self.players.items()
            for what, said in player.failures().items()
        }

    def awaited(self) -> dict[str, str]:
        """By processor id, or strip and "reins": why the sound goes on without it."""
        return {
            f"{strip_id}/{what}" if what == "reins" else what: said
            for strip_id, player in self.players.items()
            for what, said in player.awaited().items()
        }

    def process(self, frames: int, *, dry: bool = False) -> None:
        """Work on the next frames; `dry` has every strip tell what would be there without any chain."""
        when = self._when(frames)
        for strip_id in self.plan.order:
            player = self.players.get(strip_id)
            if player is None:
                continue
            player.take_in()
            keys = {tie.name: self._key(tie, strip_id, frames) for tie in self.plan.ties[strip_id]}
            if isinstance(player, TrackPlayer):
                player.process(when, keys, pre_roll=self._pre_roll, dry=dry)
            elif isinstance(player, BusPlayer):
                incoming, unheld = np.zeros((2, frames)), np.zeros((2, frames))
                for source in self._sources(strip_id):
                    incoming += self._edges[source, strip_id].process(self.players[source].placed)
                    if dry:
                        unheld += self.players[source].dry
                for source in self._senders(strip_id):
                    sent, sent_dry = self.players[source].sent(strip_id, dry=dry)
                    incoming += self._edges[f"{source}/send", strip_id].process(sent)
                    if dry:
                        unheld += sent_dry
                player.process(when, incoming, unheld if dry else None, keys)
        self.position += frames

    def _when(self, frames: int) -> When:
        """The place of the next frames of the mix."""
        return When(self.stream, self.position, frames, self.document.sample_rate, self.document.beat)

    def _sources(self, strip_id: str) -> list[str]:
        return [k for k in self.plan.order if self.plan.goes_to.get(k) == strip_id and k in self.players]

    def _senders(self, strip_id: str) -> list[str]:
        return [k for k in self.plan.order if strip_id in self.plan.sends.get(k, ()) and k in self.players]

    def _struck(self, tie: Tie) -> StruckSound:
        """The hits of a track as a sound; made anew when they, or how the take lies, are others."""
        track = self.document.tracks[tie.source]
        laid = track.start_frame, track.trim_db
        known = self._struck_by.get(tie)
        if known is None or known[0] is not track.hits or known[1] != laid:
            known = track.hits, laid, struck_of(track, self.document.sample_rate, tie.side)
            self._struck_by[tie] = known
        return known[2]

    def _key(self, tie: Tie, strip_id: str, frames: int) -> Array:
        player = self.players.get(tie.source)
        if tie.tap == HITS:
            return self.stream.read(self._struck(tie).read, self.position + self.plan.chain_lead[strip_id], frames)
        if player is None:
            return np.zeros((self._channels_of(tie), frames))
        taken = {"before": player.fed, "after": player.plain, "fader": player.placed}[tie.tap]
        return self._edges[tie.name, strip_id].process(one_side(taken, tie.side))
