"""Marks found on a take, corrected by hand."""

from typing import Literal

from pydantic import Field

from reins.core.changes.chains import OnStrip
from reins.core.finding.corrections import Corrections, What
from reins.core.sessions import Document


class CorrectMark(OnStrip):
    """Add a mark to those found on a strip's sound, or take one away."""

    kind: Literal["correct_mark"]
    what: What
    at_s: float = Field(ge=0, le=86400)
    end_s: float | None = Field(None, ge=0, le=86400)
    add: bool

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the correction, and the label."""
        strip = document.strip(self.strip_id)
        own = strip.marks.get(self.what, Corrections())
        mark = [self.at_s] if self.end_s is None or self.what == "hits" else [self.at_s, self.end_s]
        own = own.with_mark(mark) if self.add else own.without_mark(self.at_s)
        marks = {k: v for k, v in {**strip.marks, self.what: own}.items() if v.added or v.removed}
        said = f"a {self.what.removesuffix('s')} {'marked' if self.add else 'taken away'} at {self.at_s:.2f} s"
        return document.with_strip(self.strip_id, marks=marks), f"{strip.name}: {said}"
