"""Responses for rooms: brought in with their take, taken out when no room uses them."""

from typing import Literal

from reins.core.changes.chains import OnProcessor, SetProcessor
from reins.core.sessionparts import Name
from reins.core.sessions import Document, recordings_of
from reins.core.settings.fields import recordings_in
from reins.core.settings.models import Strict
from reins.errors import ConflictError, NotFoundError


def _using(take_id: str, document: Document, strip_id: str, processor_id: str) -> Document:
    """A document in which a processor uses this response."""
    strip = document.strip(strip_id)
    entry = next((entry for entry in strip.chain if entry.id == processor_id), None)
    if entry is None:
        raise NotFoundError("processor", processor_id)
    places = recordings_in(type(entry.settings))
    if not places:
        raise ConflictError(f"{strip.name}: a {entry.type} uses no response; add a room for it.")
    settings = {places[0]: take_id}
    change = SetProcessor(kind="set_processor", strip_id=strip_id, processor_id=processor_id, settings=settings)
    return change.apply(document)[0]


class AddImpulse(OnProcessor):
    """Add a response that has been brought in, and have a processor use it. It comes with its take: see services."""

    kind: Literal["add_impulse"]
    take_id: str
    name: Name

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the response in use, and the label."""
        document = document.model_copy(update={"impulses": {**document.impulses, self.take_id: self.name}})
        document = _using(self.take_id, document, self.strip_id, self.processor_id)
        return document, f"{document.strip(self.strip_id).name}: response “{self.name}” brought in"


class RemoveImpulse(Strict):
    """Take a response out of the session; its take is kept, so that undo brings it back. A processor that is named does
    without it first.
    """

    kind: Literal["remove_impulse"]
    take_id: str
    strip_id: str | None = None
    processor_id: str | None = None

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without it, and the label."""
        name = document.impulses.get(self.take_id)
        if name is None:
            raise NotFoundError("response", self.take_id)
        if self.strip_id is not None and self.processor_id is not None:
            document = _using("", document, self.strip_id, self.processor_id)
        users = sorted({document.strip(strip).name for strip, used in recordings_of(document) if used == self.take_id})
        if users:
            where = f"{', '.join(users)}, here or in a draft"
            raise ConflictError(f"“{name}” is used by a room of {where}; choose another there first.")
        impulses = {k: v for k, v in document.impulses.items() if k != self.take_id}
        return document.model_copy(update={"impulses": impulses}), f"Session: response “{name}” removed"
