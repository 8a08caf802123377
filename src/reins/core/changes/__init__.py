"""The changes a person can make to a session.

Every change is a small model with `apply`: it takes a document, gives back the changed one and the label that the
history shows. Nothing else changes a document.
"""

from typing import Annotated, Any, Literal

import pydantic
from pydantic import Field, TypeAdapter

from reins.core.changes.chains import (
    AddProcessor,
    ChangeKind,
    CopyDraft,
    DuplicateProcessor,
    MoveProcessor,
    NameDraft,
    RemoveDraft,
    RemoveProcessor,
    SetProcessor,
    StartFrom,
    UseDraft,
)
from reins.core.changes.impulses import AddImpulse, RemoveImpulse
from reins.core.changes.judging import KeepJudgement
from reins.core.changes.marks import CorrectMark
from reins.core.changes.pairs import AddPair, PartProcessors
from reins.core.changes.places import PutPlace, RemovePlace
from reins.core.changes.reference import RemoveReference, SetReference
from reins.core.changes.reins import PutRein, RemoveRein
from reins.core.changes.strips import (
    AddBus,
    AddTrack,
    DuplicateTrack,
    JoinTracks,
    MoveTrack,
    PutSend,
    RemoveBus,
    RemoveSend,
    RemoveTrack,
    ReplaceTake,
    RouteStrip,
    SetStrip,
)
from reins.core.changes.together import CopyChain, Deepen, KeepSet, LayChain, RemoveSet, SetStrips, UseSet
from reins.core.sessionparts import Loop, Name
from reins.core.sessions import Document
from reins.core.settings.models import MisfitError, Strict
from reins.errors import SettingsError

__all__ = [
    "AddImpulse",
    "AddProcessor",
    "AddTrack",
    "Change",
    "Deepen",
    "JoinTracks",
    "KeepJudgement",
    "PutRein",
    "ReplaceTake",
    "SetProcessor",
    "SetReference",
    "SetSession",
    "SetStrip",
    "StartFrom",
    "parse_change",
]


class SetSession(Strict):
    """Change the session's name, tempo, metre or loop."""

    kind: Literal["set_session"]
    name: Name | None = None
    tempo_bpm: float | None = Field(None, ge=20, le=400)
    beats_per_bar: int | None = Field(None, ge=1, le=16)
    loop: Loop | None = None

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the change, and the label."""
        names = ("name", "tempo_bpm", "beats_per_bar", "loop")
        changes: dict[str, Any] = {k: v for k in names if (v := getattr(self, k)) is not None}
        if self.loop and "pause_s" not in self.loop.model_fields_set:  # a loop that is dragged keeps its pause
            changes["loop"] = self.loop.model_copy(update={"pause_s": document.loop.pause_s})
        said = {"name": f"renamed {self.name}", "tempo_bpm": f"tempo {self.tempo_bpm} bpm", "loop": "loop"}
        said["beats_per_bar"] = f"{self.beats_per_bar} beats in a bar"
        if self.loop and self.loop.on != document.loop.on:
            said["loop"] = f"loop {'on' if self.loop.on else 'off'}"
        elif self.loop and changes["loop"].pause_s != document.loop.pause_s:
            said["loop"] = f"{changes['loop'].pause_s:g} s before the loop begins again"
        return document.model_copy(update=changes), "Session: " + ", ".join(said[k] for k in changes)


Change = Annotated[
    SetProcessor | AddProcessor | AddPair | PartProcessors | RemoveProcessor | DuplicateProcessor | MoveProcessor
    | UseDraft | CopyDraft | StartFrom | ChangeKind | SetStrip | AddTrack | RemoveTrack | MoveTrack | DuplicateTrack
    | AddBus | RemoveBus | RouteStrip | PutSend | RemoveSend | NameDraft | RemoveDraft | PutRein | RemoveRein
    | AddImpulse | RemoveImpulse | CorrectMark | KeepJudgement | SetStrips | CopyChain | LayChain | Deepen | KeepSet
    | UseSet | RemoveSet | PutPlace | RemovePlace | RemoveReference | SetSession,
    Field(discriminator="kind"),
]  # fmt: skip
_CHANGE: TypeAdapter[Any] = TypeAdapter(Change)


def parse_change(raw: Any) -> Any:
    """A change from plain data, or SettingsError saying what is allowed."""
    try:
        return _CHANGE.validate_python(raw)
    except pydantic.ValidationError as error:
        detail = error.errors()[0]
        if isinstance(misfit := detail.get("ctx", {}).get("error"), MisfitError):
            raise SettingsError(f"{misfit}. Nothing was changed.") from error
        name = ".".join(str(part) for part in detail["loc"][1:]) or "change"
        allowed = detail["msg"].removeprefix("Input should be ")
        raise SettingsError(
            f"{name}: given {str(detail['input'])[:80]}; allowed: {allowed}. Nothing was changed."
        ) from error
