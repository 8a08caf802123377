"""JSON routes of reins: what their pictures show."""

from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from reins.core.moves.models import ByBeat, ByKey
from reins.core.moves.shapes import SHAPES
from reins.core.processors.sidechain import READY_CURVES
from reins.core.sessionparts import MAX_FRAME
from reins.core.settings.fields import describe_fields
from reins.web.depends import ASKS, TheReinViews

router = APIRouter(prefix="/api/sessions/{session_id}")
Frame = Annotated[int, Field(ge=-MAX_FRAME, le=MAX_FRAME)]


def rein_catalogue() -> dict[str, Any]:
    """What the screen needs to know of reins and keys."""
    return {
        "beat": describe_fields(ByBeat),
        "key": describe_fields(ByKey),
        "shapes": [{"name": s.name, "sentence": s.sentence, "points": s.points} for s in SHAPES],
        "keyCurves": [{"name": n, "sentence": s, "settings": values} for n, s, values in READY_CURVES],
    }


class FoldBody(BaseModel):
    """Body of a question for a sound folded over the beat."""

    model_config = ConfigDict(extra="forbid")
    desk: str
    number: int
    beats: float = Field(ge=1 / 16, le=64)
    offset_beats: float = Field(0.0, ge=-64, le=64)
    key: str = ""


@router.post("/strips/{strip_id}/folded", tags=ASKS)
def folded(session_id: str, strip_id: str, body: FoldBody, views: TheReinViews) -> dict[str, Any]:
    """A strip's sound, and a key's, over all repetitions of a curve by the beat."""
    return views.folded(
        session_id, strip_id, desk=body.desk, number=body.number, beats_long=body.beats,
        offset_beats=body.offset_beats, key=body.key,
    )  # fmt: skip


class CurveBody(BaseModel):
    """Body of a question for a curve drawn after a strip's level."""

    model_config = ConfigDict(extra="forbid")
    source: str
    beats: float = Field(ge=1 / 16, le=64)
    offset_beats: float = Field(0.0, ge=-64, le=64)


@router.post("/beatcurve", tags=ASKS)
def beat_curve(session_id: str, body: CurveBody, views: TheReinViews) -> dict[str, Any]:
    """A curve by the beat drawn after how a strip's level runs."""
    return views.curve(session_id, source=body.source, beats_long=body.beats, offset_beats=body.offset_beats)


class FollowedBody(BaseModel):
    """Body of a question for a key's level and the value a rein makes of it."""

    model_config = ConfigDict(extra="forbid")
    desk: str
    number: int
    rein: dict[str, Any]
    start: Frame
    frames: Frame
    columns: Frame


@router.post("/strips/{strip_id}/followed", tags=ASKS)
def followed(session_id: str, strip_id: str, body: FollowedBody, views: TheReinViews) -> dict[str, Any]:
    """The level of what a rein by a key hears, and the value it makes."""
    return views.followed(session_id, strip_id, **body.model_dump())
