"""The shelf: its page, and what can be done to a session without opening it."""

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, Response
from pydantic import BaseModel, ConfigDict

from reins.errors import InputError
from reins.services import editing
from reins.services import shelf as services
from reins.services.exporting import safe_name
from reins.web.depends import TheHouse, TheReadying

router = APIRouter()


@router.get("/", response_class=HTMLResponse)
def shelf(request: Request, house: TheHouse) -> Response:
    """The shelf: all sessions, the deleted ones, and what was set aside."""
    told = {"cards": services.list_shelf(house), "deleted": services.list_deleted(house)}
    told["lost"] = services.list_lost(house)
    page: Response = request.app.state.templates.TemplateResponse(request, "shelf.html", told)
    return page


class Readiness(BaseModel):
    """How many of how many parts of the sound are compiled, and what is wrong with the others, or nothing."""

    done: int
    total: int
    problem: str


@router.get("/api/ready")
def readiness(readying: TheReadying) -> Readiness:
    """How far this server's compiling is; all else works meanwhile."""
    if readying is None:
        return Readiness(done=1, total=1, problem="")
    done, total = readying.progress
    return Readiness(done=done, total=total, problem=readying.problem)


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


@router.delete("/api/sessions/{session_id}")
def delete_session(session_id: str, house: TheHouse) -> dict[str, Any]:
    """Delete a session; it can be brought back for 30 days."""
    services.delete_session(house, session_id)
    return {"id": session_id}


@router.post("/api/sessions/{session_id}/copy")
def duplicate_session(session_id: str, house: TheHouse) -> dict[str, Any]:
    """Make a copy of a session."""
    return {"id": services.duplicate_session(house, session_id)}


@router.get("/api/sessions/{session_id}/raw")
def raw_session(session_id: str, house: TheHouse) -> Response:
    """A session's document as it is kept, for one that cannot be read."""
    headers = {"Content-Disposition": f'attachment; filename="{safe_name(session_id)}.json"'}
    return Response(services.raw_session(house, session_id), media_type="application/json", headers=headers)


@router.post("/api/deleted/{session_id}")
def bring_back(session_id: str, house: TheHouse) -> dict[str, Any]:
    """Bring a deleted session back."""
    services.bring_back(house, session_id)
    return {"id": session_id}


@router.delete("/api/deleted/{session_id}")
def forget_session(session_id: str, house: TheHouse) -> dict[str, Any]:
    """Delete a deleted session for good."""
    services.forget_session(house, session_id)
    return {"id": session_id}


@router.post("/api/lost/{name}")
def restore_lost(name: str, house: TheHouse) -> dict[str, Any]:
    """Make a session of a recording that was set aside."""
    return {"id": services.restore_lost(house, name)}


@router.delete("/api/lost/{name}")
def forget_lost(name: str, house: TheHouse) -> dict[str, Any]:
    """Delete something that was set aside."""
    services.forget_lost(house, name)
    return {"name": name}
