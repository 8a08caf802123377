"""What a person can do to tracks, buses and the master as a whole."""

import functools
from collections.abc import Callable
from typing import Any, Literal

import pydantic
from pydantic import Field

from reins.core.chainfile import ProcessorEntry, _first_sentence
from reins.core.changes.chains import OnStrip
from reins.core.limits import MAX_SENDS, MAX_START_S
from reins.core.moves.models import ByKey, Rein
from reins.core.moves.rules import named
from reins.core.processors.sidechain import renamed, with_sources
from reins.core.routing import all_names, at_home, in_order, strip_ids
from reins.core.sessionparts import MAX_FRAME, Name
from reins.core.sessions import MASTER, Bus, Document, Send, Strip, Track, new_id
from reins.core.settings.models import Strict
from reins.core.settings.words import said
from reins.errors import ConflictError, NotFoundError, SettingsError

SETTABLE = (
    "name", "fader_db", "pan_pct", "mute", "solo", "solo_safe", "trim_db", "inverted", "chain_on", "chain_mix_pct",
    "puts_out", "colour",
)  # fmt: skip


class _OnTrack(Strict):
    track_id: str


class AddTrack(Strict):
    """Add a take as a new track at the end; tracks with time stamps are lined up by them, the earliest at 0.

    The first track of a session brings its sample rate.
    """

    kind: Literal["add_track"]
    track_id: str
    track: Track
    sample_rate: int | None = None

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the track, and the label."""
        tracks = _lined_up({**document.tracks, self.track_id: self.track}, document.sample_rate)
        update: dict[str, Any] = {"tracks": tracks, "order": [*document.order, self.track_id]}
        if self.sample_rate is not None and not document.tracks:
            update["sample_rate"] = self.sample_rate
        return document.model_copy(update=update), f"{self.track.name}: brought in"


class ReplaceTake(_OnTrack):
    """Put another take in a track's place of sound; its chain, fader and all else stay."""

    kind: Literal["replace_take"]
    take_id: str
    name: str = Field(max_length=120)
    frames: int | None = Field(None, ge=0)  # how long it is, where that is known

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the other take, and the label. What was marked by hand stays; what lies behind the take's end
        is let go, and said.
        """
        track = document.track(self.track_id)
        frames = MAX_FRAME if self.frames is None else track.start_frame + self.frames
        ends_s = frames / document.sample_rate
        marks = {what: own.within(ends_s) for what, own in track.marks.items()}
        gone = sum(own.many - marks[what].many for what, own in track.marks.items())
        update: dict[str, Any] = {"take_id": self.take_id, "stamp_frame": None, "hits": []}
        update["marks"] = {what: own for what, own in marks.items() if own.many}
        label = f"{track.name}: take replaced by {self.name}"
        if gone:
            label += f"; {gone} mark{'s' if gone > 1 else ''} behind its end let go"
        return document.with_strip(self.track_id, **update), label


class JoinTracks(Strict):
    """Put one stereo track in the place of two mono ones; its chain and way are those of the left."""

    kind: Literal["join_tracks"]
    left_id: str
    right_id: str
    take_id: str
    name: Name
    start_frame: int = Field(ge=0, le=MAX_FRAME)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the track, and the label. What followed either of the two follows the one."""
        left, right = document.track(self.left_id), document.track(self.right_id)
        update: dict[str, Any] = {
            "name": self.name,
            "take_id": self.take_id,
            "start_frame": self.start_frame,
            "stamp_frame": None,
        }
        # Trim and polarity are in the take now.
        laid = {"trim_db": 0.0, "inverted": False, "pan_pct": 0.0, "marks": {}, "hits": []}
        document = document.with_strip(self.left_id, **update, **laid)
        one, other = f"{self.left_id}/", f"{self.right_id}/"
        own = _retied(document, lambda name: at_home(name) if name.startswith((one, other)) else name, on=True)
        document = _retied(document, lambda name: name.replace(other, one) if name.startswith(other) else name, on=True)
        document = document.placed(self.left_id, own.strip(self.left_id))  # what it followed of the other is itself now
        in_order(document)
        document, _ = RemoveTrack(kind="remove_track", track_id=self.right_id).apply(document)
        return document, f"{self.name}: {left.name} and {right.name} joined"


def _lined_up(tracks: dict[str, Track], sample_rate: int) -> dict[str, Track]:
    """Tracks in which those with a time stamp begin as far apart as their stamps say (EBU Tech 3285).

    Stamps further apart than a long session do not belong together and are left alone.
    """
    stamps = [t.stamp_frame for t in tracks.values() if t.stamp_frame is not None]
    first = min(stamps, default=0)
    if max(stamps, default=0) - first > MAX_START_S * sample_rate:
        return tracks
    return {
        k: t if t.stamp_frame is None else t.model_copy(update={"start_frame": t.stamp_frame - first})
        for k, t in tracks.items()
    }


class RemoveTrack(_OnTrack):
    """Take a track out; its take is kept, so that undo brings it back. What it was a key of listens to itself."""

    kind: Literal["remove_track"]

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without the track, and the label."""
        name = document.track(self.track_id).name
        document = _untied(document, self.track_id)
        tracks = {k: v for k, v in document.tracks.items() if k != self.track_id}
        order = [k for k in document.order if k != self.track_id]
        return document.model_copy(update={"tracks": tracks, "order": order}), f"{name}: removed"


def _untied(document: Document, strip_id: str) -> Document:
    """A document in which no key, in no draft, comes from a strip any more; a rein that loses its key stays, off."""
    own = {name for name in all_names(document) if name.startswith(f"{strip_id}/")}
    return _retied(document, lambda name: "self" if name in own else name, on=False)


def _retied(document: Document, source_of: Callable[[str], str], *, on: bool) -> Document:
    """A document in which every key, in every draft, listens to what source_of says of it; on: whether reins whose key
    changes stay on.
    """
    for other in strip_ids(document):
        strip = document.strip(other)
        drafts = {
            k: draft.model_copy(update=heeding(draft.chain, draft.reins, source_of, on=on))
            for k, draft in strip.drafts.items()
        }
        document = document.with_strip(other, **heeding(strip.chain, strip.reins, source_of, on=on), drafts=drafts)
    return document


def heeding(
    chain: list[ProcessorEntry], reins: list[Rein], source_of: Callable[[str], str], *, on: bool = True
) -> dict[str, Any]:
    """Chain and reins, by those names, with every key listening to what source_of says of it; on as in _retied."""

    def moved(rein: Rein) -> Rein:
        if not isinstance(rein.by, ByKey) or (key := renamed(rein.by.key, source_of)) is rein.by.key:
            return rein
        by = rein.by.model_copy(update={"key": key})
        return rein.model_copy(update={"by": by, "on": rein.on and on})

    held = [entry.model_copy(update={"settings": with_sources(entry.settings, source_of)}) for entry in chain]
    return {"chain": held, "reins": [*map(moved, reins)]}


class MoveTrack(_OnTrack):
    """Move a track to another place of the list, counted from 0."""

    kind: Literal["move_track"]
    index: int = Field(ge=0)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the new order, and the label."""
        name = document.track(self.track_id).name
        order = [k for k in document.order if k != self.track_id]
        order.insert(min(self.index, len(order)), self.track_id)
        label = f"{name}: moved to place {order.index(self.track_id) + 1}"
        return document.model_copy(update={"order": order}), label


class DuplicateTrack(_OnTrack):
    """Put a copy of a track, on the same take, right behind it."""

    kind: Literal["duplicate_track"]
    new_track_id: str = Field(default_factory=new_id, min_length=1, max_length=40)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the copy, and the label."""
        track = document.track(self.track_id)
        _refuse_taken(document, self.new_track_id)
        chain = [entry.model_copy(update={"id": f"{self.new_track_id}-{i}"}) for i, entry in enumerate(track.chain)]
        reins = named(track.reins, track.chain, chain)
        twin = track.model_copy(update={"name": f"{track.name[:75]} copy", "chain": chain, "reins": reins})
        place = document.order.index(self.track_id) + 1
        order = [*document.order[:place], self.new_track_id, *document.order[place:]]
        update = {"tracks": {**document.tracks, self.new_track_id: twin}, "order": order}
        return document.model_copy(update=update), f"{track.name}: duplicated"


def _refuse_taken(document: Document, strip_id: str) -> None:
    if strip_id in strip_ids(document) or "/" in strip_id:
        raise ConflictError(f"There is a track or bus “{strip_id}” already; allowed: an id of its own.")


@functools.cache
def _field_model(model: type[Strip], name: str) -> type[pydantic.BaseModel]:
    field = model.model_fields[name]
    return pydantic.create_model(f"One{name}", __base__=Strict, **{name: (field.annotation, field)})  # type: ignore[call-overload]


def label_of(strip: Strip, name: str) -> str:
    """What a setting of a strip is called within a sentence."""
    extra: Any = type(strip).model_fields[name].json_schema_extra
    return str(extra["label"]).lower() if extra else name


class SetStrip(OnStrip):
    """Change name, fader, pan, mute, solo, trim or polarity; only what is given changes."""

    kind: Literal["set_strip"]
    values: dict[str, Any]

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the strip changed, and the label; SettingsError for what it has not or is outside limits."""
        strip = document.strip(self.strip_id)
        model = type(strip)
        allowed = [name for name in SETTABLE if name in model.model_fields]
        parts, checked = [], {}
        for name, value in self.values.items():
            if name not in allowed:
                raise SettingsError(f"{strip.name}: there is no setting “{name}”; allowed: {', '.join(allowed)}.")
            try:
                checked[name] = getattr(_field_model(model, name).model_validate({name: value}), name)
            except pydantic.ValidationError as error:
                raise SettingsError(f"{strip.name}: {_first_sentence(error, model)} Nothing was changed.") from error
            if name == "name":
                parts.append(f"renamed {value}")
            else:
                extra: Any = model.model_fields[name].json_schema_extra
                parts.append(f"{label_of(strip, name)} {said(value, extra)}")
        changed = document.with_strip(self.strip_id, **checked)
        return changed, f"{strip.name}: {', '.join(parts) or 'no change'}"


class AddBus(Strict):
    """Make a bus of some tracks or buses; it goes where the first of them went."""

    kind: Literal["add_bus"]
    bus_id: str = Field(default_factory=new_id, min_length=1, max_length=40)
    name: Name = "Bus"
    members: list[str] = []

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the bus, and the label."""
        _refuse_taken(document, self.bus_id)
        if MASTER in self.members:
            raise ConflictError("The master cannot go into a bus: everything ends there.")
        onward = getattr(document.strip(self.members[0]), "bus", "") if self.members else ""
        update = {
            "buses": {**document.buses, self.bus_id: Bus(name=self.name, bus=onward)},
            "bus_order": [*document.bus_order, self.bus_id],
        }
        document = document.model_copy(update=update)
        for member in self.members:
            document = document.with_strip(member, bus=self.bus_id)
        in_order(document)
        names = ", ".join(document.strip(member).name for member in self.members)
        return document, f"{self.name}: bus made" + (f" of {names}" if names else "")


class RemoveBus(Strict):
    """Take a bus out; what went into it goes where the bus went, and what was sent there is not sent any more."""

    kind: Literal["remove_bus"]
    bus_id: str

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without the bus, and the label."""
        if self.bus_id not in document.buses:
            document.strip(self.bus_id)
            raise ConflictError(f"{document.strip(self.bus_id).name} is not a bus; choose one that is.")
        bus = document.buses[self.bus_id]
        document = _untied(document, self.bus_id)
        for member in (*document.tracks, *document.buses):
            if getattr(document.strip(member), "bus", "") == self.bus_id:
                document = document.with_strip(member, bus=bus.bus)
            sends = getattr(document.strip(member), "sends", [])
            if any(send.bus == self.bus_id for send in sends):
                document = document.with_strip(member, sends=[send for send in sends if send.bus != self.bus_id])
        buses = {k: v for k, v in document.buses.items() if k != self.bus_id}
        order = [k for k in document.bus_order if k != self.bus_id]
        return document.model_copy(update={"buses": buses, "bus_order": order}), f"{bus.name}: bus removed"


class RouteStrip(OnStrip):
    """Send a track or bus into a bus, or, with an empty one, straight to the master."""

    kind: Literal["route_strip"]
    bus: str = ""

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the other way; ConflictError naming the members of a circle."""
        strip = document.strip(self.strip_id)
        if self.strip_id == MASTER:
            raise ConflictError("The master cannot go into a bus: everything ends there.")
        changed = document.with_strip(self.strip_id, bus=self.bus)
        in_order(changed)
        goal = document.buses[self.bus].name if self.bus else "the master"
        return changed, f"{strip.name}: goes to {goal}"


class PutSend(OnStrip):
    """Send a track or bus to a bus besides, or change how; only what is given changes."""

    kind: Literal["put_send"]
    bus: str
    level_db: float | None = None
    tap: str | None = None
    on: bool | None = None

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the send; ConflictError naming the members of a circle."""
        strip = _sending(document, self.strip_id)
        known = next((send for send in strip.sends if send.bus == self.bus), None)
        given = {name: getattr(self, name) for name in ("level_db", "tap", "on") if getattr(self, name) is not None}
        try:
            send = Send.model_validate((known.model_dump() if known else {"bus": self.bus}) | given)
        except pydantic.ValidationError as error:
            raise SettingsError(f"{strip.name}, send: {_first_sentence(error, Send)} Nothing was changed.") from error
        kept = [send if one.bus == self.bus else one for one in strip.sends] + ([] if known else [send])
        if len(kept) > MAX_SENDS:
            raise ConflictError(f"{strip.name}: {MAX_SENDS} sends are allowed.")
        changed = document.with_strip(self.strip_id, sends=kept)
        in_order(changed)
        fields = Send.model_fields
        words = [said(value, fields[name].json_schema_extra or {}) for name, value in given.items()]  # type: ignore[arg-type]
        told = f" {', '.join(words)}" if known else ""
        return changed, f"{strip.name}: {'send' if known else 'sent'} to {document.buses[self.bus].name}{told}"


class RemoveSend(OnStrip):
    """Send a track or bus to a bus no more."""

    kind: Literal["remove_send"]
    bus: str

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without the send."""
        strip = _sending(document, self.strip_id)
        kept = [send for send in strip.sends if send.bus != self.bus]
        if len(kept) == len(strip.sends):
            raise NotFoundError("send to a bus", self.bus)
        name = document.buses[self.bus].name if self.bus in document.buses else self.bus
        return document.with_strip(self.strip_id, sends=kept), f"{strip.name}: send to {name} removed"


def _sending(document: Document, strip_id: str) -> Track | Bus:
    strip = document.strip(strip_id)
    if not isinstance(strip, (Track, Bus)):
        raise ConflictError("The master cannot be sent to a bus: everything ends there.")
    return strip
