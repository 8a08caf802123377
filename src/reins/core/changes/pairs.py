"""Two processors that work together: put into a chain in one step, tied, parted."""

from typing import Literal

from pydantic import Field

from reins.core.changes.chains import OnProcessor, OnStrip, check_room, processor_at, with_chain
from reins.core.pairs import entries_of, tied_to
from reins.core.sessions import Document, new_id
from reins.errors import ConflictError


class AddPair(OnStrip):
    """Add two processors that work together at the end of a chain."""

    kind: Literal["add_pair"]
    name: str
    processor_ids: list[str] = Field(default_factory=lambda: [new_id(), new_id()], min_length=2, max_length=2)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with both, and the label."""
        strip = document.strip(self.strip_id)
        chain = list(strip.chain)
        for entry in entries_of(self.name, self.processor_ids):
            check_room(strip.model_copy(update={"chain": chain}), entry.id or "")
            chain.append(entry)
        return document.with_strip(self.strip_id, chain=chain), f"{strip.name}: “{self.name}” added"


class PartProcessors(OnProcessor):
    """Let a processor and the one it is tied to go their own ways."""

    kind: Literal["part_processors"]

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with both free, and the label."""
        strip = document.strip(self.strip_id)
        _, entry = processor_at(strip, self.processor_id)
        if tied_to(entry, strip.chain) is None:
            raise ConflictError(f"{strip.name}: this {entry.type} is tied to no other; there is nothing to part.")
        both = {entry.id, entry.tied}
        chain = [one.model_copy(update={"tied": ""}) if one.id in both else one for one in strip.chain]
        return with_chain(document, self.strip_id, chain), f"{strip.name}: two parted"
