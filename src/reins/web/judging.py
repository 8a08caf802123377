"""JSON routes of judging: what is found in a take, what an aim proposes."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from reins.services.editing import compare_drafts
from reins.web.depends import TheAims, TheEqual, TheHouse

router = APIRouter(prefix="/api/sessions/{session_id}")


class MarksBody(BaseModel):
    """Body of a question what is found."""

    model_config = ConfigDict(extra="forbid")
    desk: str
    number: int


@router.post("/strips/{strip_id}/marks")
def marks(session_id: str, strip_id: str, body: MarksBody, aims: TheAims) -> dict[str, Any]:
    """Hits, phrases, sibilants and tempo of what comes to a strip."""
    return aims.marks(session_id, strip_id, desk=body.desk, number=body.number)


class AimBody(BaseModel):
    """Body of an aim; asked is the number it asks for, first whether excerpts of a long take will do."""

    model_config = ConfigDict(extra="forbid")
    desk: str
    number: int
    aim: str = Field(max_length=40)
    asked: float = Field(0.0, ge=-1000, le=1000)
    processor_id: str | None = None
    first: bool = False


@router.post("/strips/{strip_id}/aim")
def aim(session_id: str, strip_id: str, body: AimBody, aims: TheAims) -> dict[str, Any]:
    """What an aim proposes for a processor."""
    return aims.propose(session_id, strip_id, **body.model_dump())


class EqualBody(BaseModel):
    """Body of a question how loud a strip is in each way it can be heard."""

    model_config = ConfigDict(extra="forbid")
    desk: str
    number: int
    processor_id: str | None = None


@router.post("/strips/{strip_id}/equal")
def equal(session_id: str, strip_id: str, body: EqualBody, equal: TheEqual) -> dict[str, Any]:
    """Loudness of a strip as it stands, without its chain or a processor, with that overdone, by each draft."""
    return equal.loudness(session_id, strip_id, **body.model_dump())


class WhyBody(BaseModel):
    """Body of a question why a processor does what it does at a moment, in seconds of the session."""

    model_config = ConfigDict(extra="forbid")
    desk: str
    number: int
    processor_id: str
    at_s: float = Field(ge=0, le=86400)


@router.post("/strips/{strip_id}/why")
def why(session_id: str, strip_id: str, body: WhyBody, aims: TheAims) -> dict[str, Any]:
    """What a processor heard at a moment, what its curve wanted, what its times let it do."""
    return aims.why(session_id, strip_id, **body.model_dump())


@router.get("/strips/{strip_id}/drafts/{one}/against/{other}")
def drafts_compared(session_id: str, strip_id: str, one: int, other: int, house: TheHouse) -> dict[str, Any]:
    """What differs from one draft of a strip's chain to another, setting by setting, in words."""
    return {"lines": compare_drafts(house, session_id, strip_id, one, other)}
