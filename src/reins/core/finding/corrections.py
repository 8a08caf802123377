"""What a person corrects of what was found in a take: marks taken away and added."""

from dataclasses import replace
from typing import Any, Literal

from pydantic import Field, model_validator

from reins.core.finding.hits import refined
from reins.core.finding.marks import Marks
from reins.core.settings.models import MisfitError, Strict

What = Literal["hits", "phrases", "sibilants"]
NEAR_S = 0.03  # how far from a mark one that is meant may lie
MOST = 2000
LATEST_S = 86400.0


class Corrections(Strict):
    """Marks added, [begin] of a hit or [begin, end], and begins of found ones taken away, in seconds."""

    added: list[list[float]] = Field([], max_length=MOST)
    removed: list[float] = Field([], max_length=MOST)

    @model_validator(mode="after")
    def _lie_in_time(self) -> "Corrections":
        for mark in (*self.added, *([at] for at in self.removed)):
            if not 1 <= len(mark) <= 2 or not all(0.0 <= at <= LATEST_S for at in mark) or mark != sorted(mark):
                raise MisfitError("marks", mark, "[begin] or [begin, end] in seconds, from 0 on, rising")
        return self

    def with_mark(self, mark: list[float]) -> "Corrections":
        """These, and a mark more; one that was taken away there is back. Checked with the document they go into."""
        back = [at for at in self.removed if abs(at - mark[0]) > NEAR_S]
        if len(back) < len(self.removed):
            return self.model_copy(update={"removed": back})
        return self.model_copy(update={"added": [*self.added, mark]})

    def without_mark(self, at_s: float) -> "Corrections":
        """These, and the mark that begins there no more."""
        left = [mark for mark in self.added if abs(mark[0] - at_s) > NEAR_S]
        if len(left) < len(self.added):
            return self.model_copy(update={"added": left})
        return self.model_copy(update={"removed": [*self.removed, at_s]})

    @property
    def many(self) -> int:
        """How many corrections these are."""
        return len(self.added) + len(self.removed)

    def within(self, end_s: float) -> "Corrections":
        """Those that begin before a sound's end."""
        return self.model_copy(
            update={
                "added": [mark for mark in self.added if mark[0] < end_s],
                "removed": [at for at in self.removed if at < end_s],
            }
        )


def corrected(marks: Marks, corrections: dict[Any, Corrections]) -> Marks:
    """What was found, as it was corrected; marks added where the sound has ended, as it was replaced, do not count."""
    if not corrections:
        return marks
    made = replace(marks)
    vars(made).update({name: value for name, value in vars(marks).items() if name not in vars(made)})
    end_s = marks.sound.facts.frames / marks.sound.facts.sample_rate
    for what, own in corrections.items():
        added = [mark for mark in own.added if mark[0] < end_s]
        if what == "hits":
            kept = [hit for hit in marks.hits if not _near(hit.at_s, own.removed)]
            new = [replace(refined(marks.sound, mark[0]), at_s=mark[0]) for mark in added]
            lost = [hit for hit in marks.hits if _near(hit.at_s, own.removed)]
            vars(made)["_onsets"] = sorted([*kept, *new], key=lambda hit: hit.at_s), [*marks.others, *lost]
        else:
            spans = [span for span in getattr(marks, what) if not _near(span[0], own.removed)]
            vars(made)[what] = sorted([*spans, *((mark[0], mark[-1]) for mark in added if len(mark) == 2)])
    return made


def _near(at_s: float, places: list[float]) -> bool:
    return any(abs(at_s - place) <= NEAR_S for place in places)
