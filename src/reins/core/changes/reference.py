"""The reference beside the mix: laid there with its take, and taken away."""

from typing import Literal

from reins.core.sessionparts import Name, Reference
from reins.core.sessions import Document
from reins.core.settings.models import Strict
from reins.errors import ConflictError


class SetReference(Strict):
    """Lay a recording that has been brought in beside the mix, in the place of any other. It comes with its take: see
    services.
    """

    kind: Literal["set_reference"]
    take_id: str
    name: Name

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the reference, and the label."""
        reference = Reference(take_id=self.take_id, name=self.name)
        return document.model_copy(update={"reference": reference}), f"Session: reference “{self.name}”"


class RemoveReference(Strict):
    """Take the reference away; its take is kept, so that undo brings it back."""

    kind: Literal["remove_reference"]

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without it, and the label; ConflictError where there is none."""
        if document.reference is None:
            raise ConflictError("There is no reference to take away; bring one in first.")
        return document.model_copy(update={"reference": None}), f"Session: reference “{document.reference.name}” away"
