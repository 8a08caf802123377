"""JSON routes of judging: what is found in a take, what an aim proposes."""

from typing import Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from reins.core.sessionparts import MAX_FRAME
from reins.core.trials.spreads import Axis
from reins.services.editing import comparable, compare_chains, compare_drafts
from reins.web.depends import (
    ASKS,
    TheAboves,
    TheAims,
    TheBlinds,
    TheEqual,
    TheFights,
    TheHouse,
    TheReferring,
    TheSpreads,
    TheTempi,
)

router = APIRouter(prefix="/api/sessions/{session_id}")


class Body(BaseModel):
    """Base of all of them."""

    model_config = ConfigDict(extra="forbid")


class Asked(Body):
    """Body of a question of a desk, the newest of which wins."""

    desk: str
    number: int


@router.post("/strips/{strip_id}/marks", tags=ASKS)
def marks(session_id: str, strip_id: str, body: Asked, aims: TheAims) -> dict[str, Any]:
    """Hits, phrases, sibilants and tempo of what comes to a strip."""
    return aims.marks(session_id, strip_id, desk=body.desk, number=body.number)


@router.get("/tempo", tags=ASKS)
def tempo(session_id: str, tempi: TheTempi) -> dict[str, Any]:
    """The tempo that the session's takes have in common: found_bpm, or None, and whether it is sure."""
    return tempi.found(session_id)


class AboveBody(Asked):
    """Body of a question how all of a strip looks in so many columns."""

    columns: int


@router.post("/strips/{strip_id}/above", tags=ASKS)
def above(session_id: str, strip_id: str, body: AboveBody, aboves: TheAboves) -> dict[str, Any]:
    """A whole strip from above, with what its chain holds."""
    return aboves.strip(session_id, strip_id, **body.model_dump())


class AimBody(Asked):
    """Body of an aim; asked is the number it asks for, first whether excerpts of a long take will do."""

    aim: str = Field(max_length=40)
    asked: float = Field(0.0, ge=-1000, le=1000)
    processor_id: str | None = None
    first: bool = False


@router.post("/strips/{strip_id}/aim", tags=ASKS)
def aim(session_id: str, strip_id: str, body: AimBody, aims: TheAims) -> dict[str, Any]:
    """What an aim proposes for a processor."""
    return aims.propose(session_id, strip_id, **body.model_dump())


@router.post("/reference/gain", tags=ASKS)
def reference_gain(session_id: str, body: Asked, referring: TheReferring) -> dict[str, Any]:
    """By how much the reference is to be made louder to be as loud as the mix."""
    return referring.gain(session_id, desk=body.desk, number=body.number)


class EqualBody(Asked):
    """Body of a question how loud a strip is in each way it can be heard."""

    processor_id: str | None = None


@router.post("/strips/{strip_id}/equal", tags=ASKS)
def equal(session_id: str, strip_id: str, body: EqualBody, equal: TheEqual) -> dict[str, Any]:
    """Loudness of a strip as it stands, without its chain or a processor, with that overdone, by each draft."""
    return equal.loudness(session_id, strip_id, **body.model_dump())


class AxisBody(Body):
    """A setting to be spread, by its path; without a range, about what it is."""

    path: str = Field(max_length=80)
    low: float | None = None
    high: float | None = None


class SpreadBody(Body):
    """Body of a spread: one setting or two."""

    axes: list[AxisBody] = Field([], max_length=2)


@router.post("/strips/{strip_id}/processors/{processor_id}/spread", tags=ASKS)
def spread(session_id: str, strip_id: str, processor_id: str, body: SpreadBody, spreads: TheSpreads) -> dict[str, Any]:
    """The values of a spread and its tiles."""
    return spreads.plan(session_id, strip_id, processor_id, [Axis(**vars(axis)) for axis in body.axes])


@router.get("/strips/{strip_id}/processors/{processor_id}/points")
def points(session_id: str, strip_id: str, processor_id: str, spreads: TheSpreads) -> dict[str, Any]:
    """The starting points of a processor's type as tiles, as they would be laid on this strip's sound."""
    return spreads.points(session_id, strip_id, processor_id)


class TileBody(Asked):
    """Body of a question what a tile shows; number is that of its spread."""

    processor_id: str
    settings: dict[str, Any]
    start: int = Field(ge=0, le=MAX_FRAME)
    frames: int = Field(ge=1, le=MAX_FRAME)
    columns: int = Field(ge=1)


@router.post("/strips/{strip_id}/tile", tags=ASKS)
def tile(session_id: str, strip_id: str, body: TileBody, spreads: TheSpreads) -> dict[str, Any]:
    """What a processor does with other settings over what is in view."""
    return spreads.tile(session_id, strip_id, **body.model_dump())


class BlindBody(Body):
    """Body of a blind test between two ways a strip can be heard; every_s: of one that goes over by itself."""

    kind: Literal["which", "prefer", "by_itself"]
    a: str = Field(max_length=40)
    b: str = Field(max_length=40)
    processor_id: str | None = None
    every_s: float = Field(4.0, ge=1, le=60)


@router.post("/strips/{strip_id}/blind", tags=ASKS)
def begin_blind(session_id: str, strip_id: str, body: BlindBody, blinds: TheBlinds) -> dict[str, Any]:
    """Begin a blind test, both sides equally loud."""
    return blinds.begin(session_id, strip_id, **body.model_dump())


class AnswerBody(Body):
    """Body of an answer."""

    answer: str = Field(max_length=20)


@router.post("/blind/{test_id}/answers")
def answer_blind(session_id: str, test_id: str, body: AnswerBody, blinds: TheBlinds) -> dict[str, Any]:
    """Take an answer; how many there are is all that is told."""
    return blinds.answer(test_id, body.answer)


@router.post("/blind/{test_id}/end")
def end_blind(session_id: str, test_id: str, blinds: TheBlinds) -> dict[str, Any]:
    """Tell what came of a blind test, and keep it."""
    return blinds.end(test_id)


@router.delete("/blind/{test_id}")
def leave_blind(session_id: str, test_id: str, blinds: TheBlinds) -> dict[str, Any]:
    """Give a blind test up."""
    blinds.leave(test_id)
    return {}


class WhyBody(Asked):
    """Body of a question why a processor does what it does at a moment, in seconds of the session."""

    processor_id: str
    at_s: float = Field(ge=0, le=86400)


@router.post("/strips/{strip_id}/why", tags=ASKS)
def why(session_id: str, strip_id: str, body: WhyBody, aims: TheAims) -> dict[str, Any]:
    """What a processor heard at a moment, what its curve wanted, what its times let it do."""
    return aims.why(session_id, strip_id, **body.model_dump())


class FightBody(Asked):
    """Body of a question where two strips fight."""

    other: str = Field(max_length=64)


@router.post("/strips/{strip_id}/fight", tags=ASKS)
def fight(session_id: str, strip_id: str, body: FightBody, fights: TheFights) -> dict[str, Any]:
    """Where what two strips put out is strong at the same time."""
    return fights.between(session_id, strip_id, body.other, desk=body.desk, number=body.number)


class WorstBody(Asked):
    """Body of a question where a processor is at its worst."""

    processor_id: str


@router.post("/strips/{strip_id}/worst", tags=ASKS)
def worst(session_id: str, strip_id: str, body: WorstBody, aims: TheAims) -> dict[str, Any]:
    """Where a processor moves furthest, longest, and changes its mind most."""
    return aims.worst(session_id, strip_id, **body.model_dump())


@router.get("/chains")
def chains(session_id: str, house: TheHouse) -> dict[str, Any]:
    """Every chain there is, of this session and of others."""
    return {"chains": comparable(house, session_id)}


@router.get("/strips/{strip_id}/against/{other_session}/{other_strip}")
def chains_compared(
    session_id: str, strip_id: str, other_session: str, other_strip: str, house: TheHouse
) -> dict[str, Any]:
    """What differs from a strip's chain to another's, setting by setting, in words."""
    return {"lines": compare_chains(house, session_id, strip_id, other_session, other_strip)}


@router.get("/strips/{strip_id}/drafts/{one}/against/{other}")
def drafts_compared(session_id: str, strip_id: str, one: int, other: int, house: TheHouse) -> dict[str, Any]:
    """What differs from one draft of a strip's chain to another, setting by setting, in words."""
    return {"lines": compare_drafts(house, session_id, strip_id, one, other)}
