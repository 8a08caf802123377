"""Pages and JSON routes: each parses, calls one service, answers."""

from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Body, File, Query, Request, UploadFile
from fastapi.responses import HTMLResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from reins.core.changes import Deepen
from reins.core.kinds import KINDS
from reins.core.pairs import PAIRS
from reins.core.processors import PROCESSORS
from reins.core.sessionparts import MAX_FRAME
from reins.core.sessions import Bus, Document, Master, Send, Track
from reins.core.settings.fields import describe_fields
from reins.core.settings.known_as import KNOWN_AS
from reins.core.starting_points import starting_points
from reins.core.trials.aims import AIMS, described
from reins.services import editing, guide, points, recall
from reins.services.frequencies import points as points_told
from reins.web.depends import ASKS, TheFitting, TheFrequencies, TheHouse, TheMatching, ThePreviews
from reins.web.reins import rein_catalogue

router = APIRouter()
Frame = Annotated[int, Field(ge=-MAX_FRAME, le=MAX_FRAME)]  # services say what of it makes sense


def processor_catalogue() -> list[dict[str, Any]]:
    """What the screen needs to know of every processor type."""
    return [
        {
            "type": kind,
            "label": made.label,
            "about": made.about,
            "words": made.known_as,
            "views": made.views,
            "line": made.line,
            "line_drives": made.line_drives,
            "covers": made.covers,
            "made_by_tie": made.made_by_tie,
            "wants_key": made.wants_key,
            "may_be_as_loud": made.may_be_as_loud,
            "ready": made.ready,
            "settings": describe_fields(made.Settings),
            "points": [asdict(point) for point in starting_points(kind)],
            "kinds": [(name, PROCESSORS[name].label) for name in KINDS] if kind in KINDS else [],
        }
        for kind, made in PROCESSORS.items()
    ]


@router.get("/sessions/{session_id}", response_class=HTMLResponse)
def desk(request: Request, session_id: str, house: TheHouse) -> Response:
    """The desk of a session."""
    state = editing.session_state(house, session_id)
    static = request.app.state.templates.env.globals["static"]
    data = {
        "session": state,
        "processors": processor_catalogue(),
        "stripSettings": {
            "track": describe_fields(Track),
            "bus": describe_fields(Bus),
            "master": describe_fields(Master),
            "send": describe_fields(Send),
        },
        "knownAs": KNOWN_AS,
        "deeper": describe_fields(Deepen)[0],
        "sessionSettings": [row for row in describe_fields(Document) if row["group"] == "Time"],
        "reins": rein_catalogue(),
        "aims": [described(aim) for aim in AIMS.values()],
        "pairs": [{"name": pair.name, "sentence": pair.sentence} for pair in PAIRS],
        "ownPoints": points.own_points(house),
        "frequencies": points_told(),
        "sound": {"worklet": f"{static}/js/worklet.js", "worker": f"{static}/js/liveworker.js"},
    }
    page: Response = request.app.state.templates.TemplateResponse(request, "desk.html", {"data": data, "state": state})
    return page


@router.get("/sessions/{session_id}/recall", response_class=HTMLResponse)
def recall_sheet(request: Request, session_id: str, house: TheHouse) -> Response:
    """The recall sheet of a session, to be printed."""
    name, html = recall.recall_page(house, session_id)
    page: Response = request.app.state.templates.TemplateResponse(request, "recall.html", {"name": name, "html": html})
    return page


@router.get("/guide", response_class=HTMLResponse)
def guide_book(request: Request, words: Annotated[str, Query(max_length=80)] = "") -> Response:
    """The guide's contents, what was looked for in it, and the index of settings."""
    shown = {"words": words, "found": guide.search(words), "contents": guide.contents(), "index": guide.index()}
    page: Response = request.app.state.templates.TemplateResponse(request, "book.html", shown)
    return page


@router.get("/guide/{kind}", response_class=HTMLResponse)
def guide_page(request: Request, kind: str) -> Response:
    """The guide's page on a processor."""
    html = guide.page(kind)
    page: Response = request.app.state.templates.TemplateResponse(
        request, "guide.html", {"kind": kind, "html": html, "contents": guide.contents()}
    )
    return page


@router.get("/guide/pictures/{name}")
def guide_picture(name: str) -> Response:
    """A picture of the guide."""
    return Response(guide.picture(name), media_type="image/svg+xml")


@router.get("/api/sessions/{session_id}")
def session(session_id: str, house: TheHouse) -> dict[str, Any]:
    """Everything a desk shows."""
    return editing.session_state(house, session_id)


@router.post("/api/sessions/{session_id}/changes")
def change(session_id: str, body: Annotated[dict[str, Any], Body()], fitting: TheFitting) -> dict[str, Any]:
    """Keep a change as a step."""
    return fitting.change(session_id, body)


@router.post("/api/sessions/{session_id}/undo")
def undo(session_id: str, house: TheHouse) -> dict[str, Any]:
    """Go back one step."""
    return editing.undo(house, session_id)


@router.post("/api/sessions/{session_id}/redo")
def redo(session_id: str, house: TheHouse) -> dict[str, Any]:
    """Go forward one step."""
    return editing.redo(house, session_id)


@router.get("/api/sessions/{session_id}/history")
def history(session_id: str, house: TheHouse) -> dict[str, Any]:
    """Every step of the session."""
    return {"steps": editing.history(house, session_id)}


class StepBody(BaseModel):
    """Body of a walk through the history."""

    model_config = ConfigDict(extra="forbid")
    number: int


@router.post("/api/sessions/{session_id}/history")
def go_to_step(session_id: str, body: StepBody, house: TheHouse) -> dict[str, Any]:
    """Go back or forth to a step."""
    return editing.go_to_step(house, session_id, body.number)


class PreviewBody(BaseModel):
    """Body of a preview; frames and columns name the part of the take to be drawn."""

    model_config = ConfigDict(extra="forbid")
    desk: str
    number: int
    processor_id: str | None = None
    settings: dict[str, Any] = {}
    start: Frame
    frames: Frame
    columns: Frame
    whole: bool = False
    excerpt: bool = False


@router.post("/api/sessions/{session_id}/strips/{strip_id}/preview", tags=ASKS)
def preview(session_id: str, strip_id: str, body: PreviewBody, previews: ThePreviews) -> dict[str, Any]:
    """What a chain does to a track, a bus or the mix, in numbers to be drawn."""
    return previews.preview(session_id, strip_id, **body.model_dump())


@router.get("/api/sessions/{session_id}/strips/{strip_id}/levels")
def levels(session_id: str, strip_id: str, previews: ThePreviews) -> dict[str, Any]:
    """How long a strip's sound sits at each level, and its peaks from end to end."""
    return previews.levels(session_id, strip_id)


class SpectrumBody(BaseModel):
    """Body of a question for the spectrum of a whole take."""

    model_config = ConfigDict(extra="forbid")
    desk: str
    number: int
    what: str
    processor_id: str | None = None
    band: str = ""


@router.post("/api/sessions/{session_id}/strips/{strip_id}/spectrum", tags=ASKS)
def spectrum(session_id: str, strip_id: str, body: SpectrumBody, frequencies: TheFrequencies) -> dict[str, Any]:
    """The mean spectrum of a strip's source, result or key over the whole session."""
    return frequencies.spectrum(
        session_id, strip_id, body.what, body.processor_id, desk=body.desk, number=body.number, band=body.band
    )


class MapBody(BaseModel):
    """Body of a question for a part of the map: of what comes to the chain, or of what it makes."""

    model_config = ConfigDict(extra="forbid")
    desk: str
    number: int
    start: Frame
    frames: Frame
    columns: Frame
    what: Literal["source", "result"] = "source"


@router.post("/api/sessions/{session_id}/strips/{strip_id}/map", tags=ASKS)
def take_map(session_id: str, strip_id: str, body: MapBody, frequencies: TheFrequencies) -> Response:
    """A part of the map of a strip's source or result: a byte a row, column after column."""
    return Response(
        frequencies.picture(session_id, strip_id, **body.model_dump()), media_type="application/octet-stream"
    )


class MatchingBody(BaseModel):
    """Body of a question how loud each listening choice is."""

    model_config = ConfigDict(extra="forbid")
    desk: str
    number: int
    of: str | None = None
    processor_id: str | None = None


@router.post("/api/sessions/{session_id}/matching", tags=ASKS)
def match_listening(session_id: str, body: MatchingBody, matching: TheMatching) -> dict[str, Any]:
    """The gain of each listening choice that makes them equally loud."""
    return matching.listening(session_id, body.of, body.processor_id, desk=body.desk, number=body.number)


@router.post("/api/sessions/{session_id}/strips/{strip_id}/processors/{processor_id}/makeup")
def match_makeup(session_id: str, strip_id: str, processor_id: str, matching: TheMatching) -> dict[str, Any]:
    """Set a processor's makeup so that result and source are equally loud."""
    return matching.makeup(session_id, strip_id, processor_id)


class PointBody(BaseModel):
    """Body of a starting point to keep."""

    model_config = ConfigDict(extra="forbid")
    type: str
    name: str
    settings: dict[str, Any]


@router.get("/api/points")
def own_points(house: TheHouse) -> dict[str, Any]:
    """The person's own starting points, by type."""
    return {"points": points.own_points(house)}


@router.post("/api/points")
def keep_point(body: PointBody, house: TheHouse) -> dict[str, Any]:
    """Keep a processor's settings as a starting point."""
    points.keep_point(house, body.type, body.name, body.settings)
    return {"points": points.own_points(house)}


class ChainName(BaseModel):
    """Body of a chain to keep."""

    model_config = ConfigDict(extra="forbid")
    name: str


@router.post("/api/sessions/{session_id}/strips/{strip_id}/chain-point")
def keep_chain(session_id: str, strip_id: str, body: ChainName, house: TheHouse) -> dict[str, Any]:
    """Keep a strip's whole chain as a starting point."""
    points.keep_chain(house, session_id, strip_id, body.name)
    return {"points": points.own_points(house)}


@router.delete("/api/points/{point_id}")
def remove_point(point_id: str, house: TheHouse) -> dict[str, Any]:
    """Forget a starting point."""
    points.remove_point(house, point_id)
    return {"points": points.own_points(house)}


@router.get("/api/points/{point_id}/file")
def point_file(point_id: str, house: TheHouse) -> Response:
    """A starting point as a chain file."""
    name, text = points.chain_file(house, point_id)
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return Response(text, media_type="application/json", headers=headers)


@router.post("/api/points/file")
def read_point_file(file: Annotated[UploadFile, File()], house: TheHouse) -> dict[str, Any]:
    """Keep each processor of a chain file as a starting point."""
    points.read_chain_file(house, file.file.read(points.MAX_FILE_BYTES + 1), Path(file.filename or "chain").name[-120:])
    return {"points": points.own_points(house)}
