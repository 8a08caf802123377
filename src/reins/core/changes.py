"""The changes a person can make to a session.

Every change is a small model with `apply`: it takes a document, gives back the changed one and the label that the
history shows. Nothing else changes a document.
"""

from typing import Annotated, Any, Literal

import pydantic
from pydantic import Field, TypeAdapter

from reins.core.chainfile import ProcessorEntry, describe_change, parse_entry, parse_settings
from reins.core.processors import PROCESSORS
from reins.core.processors.base import Strict
from reins.core.sessions import DRAFTS, FADER_OFF_DB, Document, Loop, Name, Track, new_id
from reins.core.starting_points import find_starting_point
from reins.core.units import format_value
from reins.errors import ConflictError, NotFoundError, SettingsError

MAX_PROCESSORS = 32


def _processor_at(track: Track, processor_id: str) -> tuple[int, ProcessorEntry]:
    for index, entry in enumerate(track.chain):
        if entry.id == processor_id:
            return index, entry
    raise NotFoundError("processor", processor_id)


class _OnTrack(Strict):
    track_id: str


class _OnProcessor(_OnTrack):
    processor_id: str


class AddTrack(Strict):
    """Add a take as a new track at the end."""

    kind: Literal["add_track"]
    track_id: str
    track: Track

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the track, and the label."""
        tracks = {**document.tracks, self.track_id: self.track}
        update = {"tracks": tracks, "order": [*document.order, self.track_id]}
        return document.model_copy(update=update), f"{self.track.name}: brought in"


class RemoveTrack(_OnTrack):
    """Take a track out; its take is kept, so that undo brings it back."""

    kind: Literal["remove_track"]

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without the track, and the label."""
        name = document.track(self.track_id).name
        tracks = {k: v for k, v in document.tracks.items() if k != self.track_id}
        order = [k for k in document.order if k != self.track_id]
        return document.model_copy(update={"tracks": tracks, "order": order}), f"{name}: removed"


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
        if self.new_track_id in document.tracks:
            raise ConflictError(f"There is a track “{self.new_track_id}” already.")
        twin = track.model_copy(update={"name": f"{track.name[:75]} copy"})
        place = document.order.index(self.track_id) + 1
        order = [*document.order[:place], self.new_track_id, *document.order[place:]]
        update = {"tracks": {**document.tracks, self.new_track_id: twin}, "order": order}
        return document.model_copy(update=update), f"{track.name}: duplicated"


class SetTrack(_OnTrack):
    """Change name, fader, pan, mute or solo; only what is given changes."""

    kind: Literal["set_track"]
    name: Name | None = None
    fader_db: float | None = Field(None, ge=FADER_OFF_DB, le=12)
    pan_pct: float | None = Field(None, ge=-100, le=100)
    mute: bool | None = None
    solo: bool | None = None

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the track changed, and the label."""
        track = document.track(self.track_id)
        changes = {k: v for k in ("name", "fader_db", "pan_pct", "mute", "solo") if (v := getattr(self, k)) is not None}
        units = {"fader_db": ("fader", "dB"), "pan_pct": ("pan", "%"), "mute": ("mute", ""), "solo": ("solo", "")}
        said = [f"{units[k][0]} {format_value(v, units[k][1])}" for k, v in changes.items() if k in units]
        said += [f"renamed {self.name}"] if self.name else []
        return document.with_track(self.track_id, **changes), f"{track.name}: {', '.join(said) or 'no change'}"


class AddProcessor(_OnTrack):
    """Add a processor at its defaults at the end of a track's chain."""

    kind: Literal["add_processor"]
    processor_id: str = Field(default_factory=new_id, min_length=1, max_length=40)
    type: str

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the processor, and the label."""
        track = document.track(self.track_id)
        if len(track.chain) >= MAX_PROCESSORS:
            raise ConflictError(f"{track.name}: the chain is full; {MAX_PROCESSORS} processors are allowed.")
        if any(entry.id == self.processor_id for entry in track.chain):
            raise ConflictError(f"{track.name}: there is a processor “{self.processor_id}” already.")
        entry = parse_entry({"id": self.processor_id, "type": self.type}, track.name)
        label = f"{track.name}: {PROCESSORS[self.type].label.lower()} added"
        return document.with_track(self.track_id, chain=[*track.chain, entry]), label


class RemoveProcessor(_OnProcessor):
    """Take a processor out of a chain."""

    kind: Literal["remove_processor"]

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without the processor, and the label."""
        track = document.track(self.track_id)
        index, entry = _processor_at(track, self.processor_id)
        chain = track.chain[:index] + track.chain[index + 1 :]
        label = f"{track.name}: {PROCESSORS[entry.type].label.lower()} removed"
        return document.with_track(self.track_id, chain=chain), label


class DuplicateProcessor(_OnProcessor):
    """Put a copy right behind a processor."""

    kind: Literal["duplicate_processor"]
    new_processor_id: str = Field(default_factory=new_id, min_length=1, max_length=40)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the copy, and the label."""
        track = document.track(self.track_id)
        index, entry = _processor_at(track, self.processor_id)
        twin = entry.model_copy(update={"id": self.new_processor_id})
        chain = [*track.chain[: index + 1], twin, *track.chain[index + 1 :]]
        label = f"{track.name}: {PROCESSORS[entry.type].label.lower()} duplicated"
        return document.with_track(self.track_id, chain=chain), label


class MoveProcessor(_OnProcessor):
    """Move a processor to another place of its chain, counted from 0."""

    kind: Literal["move_processor"]
    index: int = Field(ge=0)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the new order, and the label."""
        track = document.track(self.track_id)
        old, entry = _processor_at(track, self.processor_id)
        chain = track.chain[:old] + track.chain[old + 1 :]
        chain.insert(min(self.index, len(chain)), entry)
        label = f"{track.name}: {PROCESSORS[entry.type].label.lower()} moved to place {chain.index(entry) + 1}"
        return document.with_track(self.track_id, chain=chain), label


class SetProcessor(_OnProcessor):
    """Change some settings of a processor (dotted names for nested ones), or switch it on or off."""

    kind: Literal["set_processor"]
    on: bool | None = None
    settings: dict[str, Any] = {}

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the settings, and the label; SettingsError when a value is outside its limits."""
        track = document.track(self.track_id)
        index, entry = _processor_at(track, self.processor_id)
        where = f"{track.name} ({entry.type})"
        settings = parse_settings(entry.type, self._merged(entry), where)
        key = getattr(settings, "key", None)
        if key is not None and key.source != "self":
            raise SettingsError(f"{where}: key.source is “{key.source}”; allowed in a session so far: self.")
        on = entry.on if self.on is None else self.on
        said = describe_change(entry.type, entry.settings, settings)
        if on != entry.on:
            said = f"switched {'on' if on else 'off'}" + (f", {said}" if said else "")
        chain = list(track.chain)
        chain[index] = entry.model_copy(update={"settings": settings, "on": on})
        label = f"{track.name}: {PROCESSORS[entry.type].label.lower()} {said or 'unchanged'}"
        return document.with_track(self.track_id, chain=chain), label

    def _merged(self, entry: ProcessorEntry) -> dict[str, Any]:
        merged = entry.settings.model_dump()
        for name, value in self.settings.items():
            *parents, last = name.split(".")
            place: Any = merged
            for part in parents:
                place = place.get(part) if isinstance(place, dict) else None
            if not isinstance(place, dict):
                raise SettingsError(f"{entry.type}: there is no setting “{name}”. Nothing was changed.")
            place[last] = value
        return merged


class UseDraft(_OnTrack):
    """Change to another draft of the chain; one never used starts as a copy of the present chain."""

    kind: Literal["use_draft"]
    draft: int = Field(ge=1, le=DRAFTS)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the other draft in use, and the label."""
        track = document.track(self.track_id)
        if self.draft == track.draft:
            return document, f"{track.name}: draft {self.draft}"
        put_by = {**track.drafts, str(track.draft): track.chain}
        chain = put_by.pop(str(self.draft), track.chain)
        changed = document.with_track(self.track_id, chain=chain, draft=self.draft, drafts=put_by)
        return changed, f"{track.name}: draft {track.draft} → {self.draft}"


class CopyDraft(_OnTrack):
    """Copy the chain in use into another draft."""

    kind: Literal["copy_draft"]
    draft: int = Field(ge=1, le=DRAFTS)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the copy, and the label."""
        track = document.track(self.track_id)
        if self.draft == track.draft:
            raise ConflictError(f"{track.name}: draft {self.draft} is the one in use; choose another to copy to.")
        changed = document.with_track(self.track_id, drafts={**track.drafts, str(self.draft): track.chain})
        return changed, f"{track.name}: draft {track.draft} copied to {self.draft}"


class StartFrom(_OnProcessor):
    """Take a processor's settings from a starting point, key and all else at their defaults."""

    kind: Literal["start_from"]
    name: str

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the settings, and the label."""
        track = document.track(self.track_id)
        index, entry = _processor_at(track, self.processor_id)
        point = find_starting_point(entry.type, self.name)
        chain = list(track.chain)
        chain[index] = entry.model_copy(update={"settings": parse_settings(entry.type, point.settings, self.name)})
        label = f"{track.name}: {PROCESSORS[entry.type].label.lower()} from “{self.name}”"
        return document.with_track(self.track_id, chain=chain), label


class SetSession(Strict):
    """Change the session's name, tempo or loop."""

    kind: Literal["set_session"]
    name: Name | None = None
    tempo_bpm: float | None = Field(None, ge=20, le=400)
    loop: Loop | None = None

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the change, and the label."""
        changes: dict[str, Any] = {k: v for k in ("name", "tempo_bpm", "loop") if (v := getattr(self, k)) is not None}
        if self.loop and self.loop.on and self.loop.end_frame <= self.loop.start_frame:
            raise SettingsError("loop: its end must come after its start.")
        said = {"name": f"renamed {self.name}", "tempo_bpm": f"tempo {self.tempo_bpm} bpm", "loop": "loop"}
        if self.loop and self.loop.on != document.loop.on:
            said["loop"] = f"loop {'on' if self.loop.on else 'off'}"
        return document.model_copy(update=changes), "Session: " + ", ".join(said[k] for k in changes)


Change = Annotated[
    SetProcessor | AddProcessor | RemoveProcessor | DuplicateProcessor | MoveProcessor
    | UseDraft | CopyDraft | StartFrom | SetTrack | AddTrack | RemoveTrack | MoveTrack | DuplicateTrack | SetSession,
    Field(discriminator="kind"),
]  # fmt: skip
_CHANGE: TypeAdapter[Any] = TypeAdapter(Change)


def parse_change(raw: Any) -> Any:
    """A change from plain data, or SettingsError saying what is allowed."""
    try:
        return _CHANGE.validate_python(raw)
    except pydantic.ValidationError as error:
        detail = error.errors()[0]
        name = ".".join(str(part) for part in detail["loc"][1:]) or "change"
        allowed = detail["msg"].removeprefix("Input should be ")
        raise SettingsError(
            f"{name}: given {str(detail['input'])[:80]}; allowed: {allowed}. Nothing was changed."
        ) from error
