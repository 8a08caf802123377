"""Marks with names on the ruler: verse, chorus."""

from typing import Literal

from pydantic import Field

from reins.core.sessionparts import MAX_FRAME, Name, Place
from reins.core.sessions import MAX_PLACES, Document, new_id
from reins.core.settings.models import Strict
from reins.errors import ConflictError, NotFoundError


class PutPlace(Strict):
    """Put a mark on the ruler, or move or rename the one of this id; only what is given changes."""

    kind: Literal["put_place"]
    place_id: str = Field(default_factory=new_id, min_length=1, max_length=40)
    name: Name | None = None
    at_frame: int | None = Field(None, ge=0, le=MAX_FRAME)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the mark, and the label; ConflictError for a new one without a place, or too many."""
        known = next((place for place in document.places if place.id == self.place_id), None)
        if known is None and self.at_frame is None:
            raise ConflictError("A mark needs a place: say where it lies, in frames.")
        if known is None and len(document.places) >= MAX_PLACES:
            raise ConflictError(f"There are {MAX_PLACES} marks on the ruler; take one away first.")
        name = self.name or (known.name if known else f"Mark {len(document.places) + 1}")
        at_frame = self.at_frame if self.at_frame is not None else known.at_frame if known else 0
        others = [place for place in document.places if place.id != self.place_id]
        places = sorted([*others, Place(id=self.place_id, name=name, at_frame=at_frame)], key=lambda p: p.at_frame)
        what = "put" if known is None else "moved" if known.name == name else f"renamed from “{known.name}”"
        return document.model_copy(update={"places": places}), f"Session: mark “{name}” {what}"


class RemovePlace(Strict):
    """Take a mark off the ruler."""

    kind: Literal["remove_place"]
    place_id: str

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without the mark, and the label."""
        gone = next((place for place in document.places if place.id == self.place_id), None)
        if gone is None:
            raise NotFoundError("mark", self.place_id)
        places = [place for place in document.places if place is not gone]
        return document.model_copy(update={"places": places}), f"Session: mark “{gone.name}” taken away"
