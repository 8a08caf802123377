"""Pages and JSON routes: each parses, calls one service, answers."""

import contextlib
import shutil
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

from fastapi import APIRouter, Body, Depends, File, Query, Request, UploadFile
from fastapi.responses import FileResponse, HTMLResponse, Response
from pydantic import BaseModel, ConfigDict

from reins.core.audio import check_output
from reins.core.chainfile import describe_fields
from reins.core.processors import PROCESSORS
from reins.core.sessions import Document, Track
from reins.core.starting_points import starting_points
from reins.errors import ConflictError, InputError, StorageError
from reins.services import editing
from reins.services.bringing_in import bring_in
from reins.services.exporting import export_track
from reins.services.house import House
from reins.services.jobs import Job, Jobs
from reins.services.previews import Previews

router = APIRouter()


def _house(request: Request) -> House:
    return request.app.state.house  # type: ignore[no-any-return]


def _jobs(request: Request) -> Jobs:
    return request.app.state.jobs  # type: ignore[no-any-return]


def _previews(request: Request) -> Previews:
    return request.app.state.previews  # type: ignore[no-any-return]


TheHouse = Annotated[House, Depends(_house)]
TheJobs = Annotated[Jobs, Depends(_jobs)]
ThePreviews = Annotated[Previews, Depends(_previews)]


def processor_catalogue() -> list[dict[str, Any]]:
    """What the screen needs to know of every processor type."""
    return [
        {
            "type": kind,
            "label": made.label,
            "about": made.about,
            "line": made.line,
            "settings": describe_fields(made.Settings),
            "points": [asdict(point) for point in starting_points(kind)],
        }
        for kind, made in PROCESSORS.items()
    ]


@router.get("/", response_class=HTMLResponse)
def shelf(request: Request, house: TheHouse) -> Response:
    """The shelf: all sessions."""
    page: Response = request.app.state.templates.TemplateResponse(
        request, "shelf.html", {"cards": editing.list_shelf(house)}
    )
    return page


@router.get("/sessions/{session_id}", response_class=HTMLResponse)
def desk(request: Request, session_id: str, house: TheHouse) -> Response:
    """The desk of a session."""
    state = editing.session_state(house, session_id)
    static = request.app.state.templates.env.globals["static"]
    data = {
        "session": state,
        "processors": processor_catalogue(),
        "trackSettings": describe_fields(Track),
        "tempo": describe_fields(Document)[0],
        "sound": {"worklet": f"{static}/js/worklet.js", "worker": f"{static}/js/liveworker.js"},
    }
    page: Response = request.app.state.templates.TemplateResponse(request, "desk.html", {"data": data, "state": state})
    return page


class NewSession(BaseModel):
    """Body of a new session."""

    model_config = ConfigDict(extra="forbid")
    name: str


@router.post("/api/sessions")
def new_session(body: NewSession, house: TheHouse) -> dict[str, Any]:
    """Make an empty session."""
    name = body.name.strip()
    if not 1 <= len(name) <= 80:
        raise InputError("The name is empty or too long; 1 to 80 characters are allowed.")
    return {"id": editing.new_session(house, name)}


@router.get("/api/sessions/{session_id}")
def session(session_id: str, house: TheHouse) -> dict[str, Any]:
    """Everything a desk shows."""
    return editing.session_state(house, session_id)


@router.post("/api/sessions/{session_id}/changes")
def change(session_id: str, body: Annotated[dict[str, Any], Body()], house: TheHouse) -> dict[str, Any]:
    """Keep a change as a step."""
    return editing.change_session(house, session_id, body)


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
    start: int
    frames: int
    columns: int
    whole: bool = False


@router.post("/api/sessions/{session_id}/tracks/{track_id}/preview")
def preview(session_id: str, track_id: str, body: PreviewBody, previews: ThePreviews) -> dict[str, Any]:
    """What a chain does to a track, in numbers to be drawn."""
    return previews.preview(session_id, track_id, **body.model_dump())


@router.get("/api/sessions/{session_id}/tracks/{track_id}/levels")
def levels(session_id: str, track_id: str, previews: ThePreviews) -> dict[str, Any]:
    """How long a take sits at each level."""
    return previews.levels(session_id, track_id)


@router.post("/api/sessions/{session_id}/takes")
def bring_in_file(
    request: Request, session_id: str, house: TheHouse, jobs: TheJobs, file: Annotated[UploadFile, File()]
) -> dict[str, Any]:
    """Bring a file in as a new track; answers with the job that does it."""
    editing.document_of(house, session_id)
    limit = request.app.state.settings.max_upload_bytes
    name = Path(file.filename or "take").name[-120:]
    if (file.size or 0) > limit:
        raise InputError(f"{name}: it has {(file.size or 0) >> 20} MiB; up to {limit >> 20} MiB are allowed.")
    folder = house.passing_folder()
    try:
        with (folder / "upload").open("wb") as kept:
            shutil.copyfileobj(file.file, kept, 1 << 20)
    except OSError as error:
        shutil.rmtree(folder, ignore_errors=True)
        raise StorageError(f"{name}: the disk refused it ({error.strerror}); nothing was added.") from error

    def work(job: Job) -> dict[str, Any]:
        with contextlib.ExitStack() as stack:
            stack.callback(shutil.rmtree, folder, ignore_errors=True)
            return {"track_id": bring_in(house, session_id, folder / "upload", name, job.progress)}

    return jobs.start(f"Bringing in {name}", work).as_dict()


class ExportBody(BaseModel):
    """Body of an export."""

    model_config = ConfigDict(extra="forbid")
    format: str = "wav"
    bits: str = "24"


@router.post("/api/sessions/{session_id}/tracks/{track_id}/export")
def export(session_id: str, track_id: str, body: ExportBody, house: TheHouse, jobs: TheJobs) -> dict[str, Any]:
    """Write a track's result to a file; answers with the job that does it."""
    name = editing.document_of(house, session_id).track(track_id).name
    check_output(house.passing_dir / "held", body.format, body.bits)
    path = house.passing_folder() / f"held.{body.format}"

    def work(job: Job) -> dict[str, Any]:
        facts = export_track(
            house, session_id, track_id, path, file_format=body.format, bits=body.bits, progress=job.progress
        )
        return {**facts, "file": str(path), "name": f"{name} held.{body.format}"}

    return _public(jobs.start(f"Exporting {name}", work))


def _public(job: Job) -> dict[str, Any]:
    told = job.as_dict()
    if isinstance(told["result"], dict):
        told["result"] = {k: v for k, v in told["result"].items() if k != "file"}
    return told


@router.get("/api/jobs/{job_id}")
def job_state(job_id: str, jobs: TheJobs) -> dict[str, Any]:
    """How far a piece of work is."""
    return _public(jobs.get(job_id))


@router.delete("/api/jobs/{job_id}")
def cancel_job(job_id: str, jobs: TheJobs) -> dict[str, Any]:
    """Ask a piece of work to stop."""
    jobs.get(job_id).cancel()
    return _public(jobs.get(job_id))


@router.get("/api/jobs/{job_id}/file")
def job_file(job_id: str, jobs: TheJobs, _: Annotated[str | None, Query()] = None) -> Response:
    """The file a finished export has written."""
    job = jobs.get(job_id)
    if job.state != "done" or "file" not in (job.result or {}):
        raise ConflictError(f"{job.what}: there is no file yet.")
    return FileResponse(job.result["file"], filename=job.result["name"])
