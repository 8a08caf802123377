"""Small parts of a session's document: loop, marks on the ruler, maps of hits, reference, what came of blind tests."""

from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, model_validator

from reins.core.settings.models import MisfitError, Strict
from reins.core.struck import HIGHEST_DB, LOWEST_DB

MOST_JUDGEMENTS = 100
MAX_FRAME = 1 << 40  # of any place in a session: years, and far from where whole numbers end
Name = Annotated[str, Field(min_length=1, max_length=80)]
HitFrame = Annotated[int, Field(ge=0, le=MAX_FRAME)]
HitPeak = Annotated[float, Field(ge=LOWEST_DB, le=HIGHEST_DB)]
#: [frame counted from the take's beginning, peak in dB]
HitMark = Annotated[
    tuple[HitFrame, HitPeak], BeforeValidator(lambda value: tuple(value) if isinstance(value, list) else value)
]


class Loop(Strict):
    """The part that repeats, in frames of the session."""

    on: bool = False
    start_frame: int = Field(0, ge=0, le=MAX_FRAME)
    end_frame: int = Field(0, ge=0, le=MAX_FRAME)
    pause_s: float = Field(0.0, ge=0, le=10)  # of silence before it begins again

    @model_validator(mode="after")
    def _has_length(self) -> "Loop":
        if self.on and self.end_frame <= self.start_frame:
            raise MisfitError("end_frame", self.end_frame, f"after start_frame, which is {self.start_frame}")
        return self


class Place(Strict):
    """A mark with a name on the ruler, in frames of the session."""

    id: str = Field(min_length=1, max_length=40)
    name: Name
    at_frame: int = Field(ge=0, le=MAX_FRAME)


class Reference(Strict):
    """A finished recording beside the mix, to compare that with; never part of it."""

    take_id: str = Field(min_length=1, max_length=64)
    name: Name


class Judgement(Strict):
    """What came of a blind test: of which strip, between what, in a sentence."""

    strip: str = Field(max_length=80)
    kind: Literal["which", "prefer", "by_itself"]
    a: str = Field(max_length=80)
    b: str = Field(max_length=80)
    rounds: int = Field(ge=1, le=MOST_JUDGEMENTS * 100)
    probability: float | None = Field(None, ge=0, le=1)
    matched_lu: float = Field(ge=0, le=100)
    said: str = Field(max_length=300)
