"""The application: pages, JSON routes, the live socket, and the one table from errors to answers."""

import logging
import secrets
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from fastapi.staticfiles import StaticFiles
from fastapi.templating import Jinja2Templates
from pydantic import BaseModel
from starlette.exceptions import HTTPException

from reins import errors
from reins.core.limits import MAX_UPLOAD_BYTES
from reins.errors import saying
from reins.services.above import Aboves
from reins.services.admission import Admission
from reins.services.aims import Aims
from reins.services.batches import Batches
from reins.services.blinds import Blinds
from reins.services.equal import Equal
from reins.services.fighting import Fights
from reins.services.fitting import Fitting
from reins.services.frequencies import Frequencies
from reins.services.house import House
from reins.services.jobs import Jobs
from reins.services.marking import Marking
from reins.services.matching import Matching
from reins.services.previews import Previews
from reins.services.readying import Readying
from reins.services.reference import Referring
from reins.services.reins import ReinViews
from reins.services.sounds import Sounds
from reins.services.spreads import Spreads
from reins.services.tempi import Tempi
from reins.web import batches, files, judging, live, reins, routes, shelf
from reins.web.bounds import Bounds
from reins.web.depends import ASKS
from reins.web.guard import STATIC, page_modules, static_version

log = logging.getLogger(__name__)
TEMPLATES = Path(__file__).parent / "templates"

STATUS: list[tuple[type[Exception], int]] = [
    (errors.NotFoundError, 404),
    (errors.ConflictError, 409),
    (errors.InputError, 422),
    (errors.CancelledError, 409),
    (errors.StorageError, 507),
    (errors.NotReadyError, 503),
]


class Problem(BaseModel):
    """What every answer that is not what was asked for holds: a sentence that says what, where and what is allowed."""

    error: str


# Named once a route by its model, else by its place: FastAPI builds a field anew for each model, each status and each
# route, which took the first request half a second.
HOLDS = {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/Problem"}}}}
#: What any route may answer besides what it is asked for; part of its description in /api/openapi.json.
PROBLEMS: dict[int | str, dict[str, Any]] = {
    status: {"description": said, **({"model": Problem} if status == 400 else HOLDS)}
    for status, said in {
        400: "The request cannot be read.", 401: "The token is missing.", 403: "Another site, or an unknown name.",
        404: "There is nothing of this name.", 405: "This is not done that way.",
        409: "It does not fit the present state.", 413: "Too large.", 422: "Something given cannot be used.",
        500: "Something went wrong here.", 503: "Getting ready.", 507: "The disk or the database refused.",
    }.items()
}  # fmt: skip


@dataclass(frozen=True)
class AppSettings:
    """How much may be brought in at once."""

    max_upload_bytes: int = MAX_UPLOAD_BYTES


def create_app(settings: AppSettings, house: House, readying: Readying | None = None) -> FastAPI:
    """The application over an open house. Who may speak to it is the guard's, around it (see web.guard). readying: who
    compiles what is not there yet, where anything is not.
    """

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        yield
        app.state.close()

    def close() -> None:
        """Once nobody is served any more: work that goes on stops, what was kept is whole."""
        app.state.jobs.close()
        app.state.tempi.close()
        if readying is not None:
            readying.close()
        house.close()

    app = FastAPI(title="Reins", lifespan=lifespan, docs_url=None, redoc_url=None, openapi_url="/api/openapi.json")
    version = static_version()
    app.state.readying = readying
    app.state.house, app.state.settings, app.state.close = house, settings, close
    sounds = Sounds(house)
    app.state.admission = Admission()
    app.state.batches = Batches(house)
    app.state.frequencies = Frequencies(house, sounds)
    app.state.aboves = Aboves(house, sounds)
    marking = Marking(sounds)
    app.state.aims = Aims(house, sounds, marking)
    app.state.tempi = Tempi(house)
    app.state.equal = Equal(house, sounds)
    app.state.blinds = Blinds(house, app.state.equal)
    app.state.fights = Fights(house, sounds)
    app.state.fitting = Fitting(house, sounds, marking)
    app.state.spreads = Spreads(house, sounds, app.state.fitting)
    app.state.referring = Referring(house)
    app.state.rein_views = ReinViews(house, sounds)
    app.state.jobs, app.state.matching = Jobs(), Matching(house, sounds)
    app.state.previews = Previews(house, sounds, marking)
    app.state.templates = Jinja2Templates(TEMPLATES)
    app.state.templates.env.globals |= {
        "static": f"/static/{version}", "modules": page_modules(),
        "getting_ready": lambda: readying is not None and not readying.is_done,
    }  # fmt: skip
    app.state.templates.env.policies["json.dumps_kwargs"] = {"sort_keys": False}  # as the JSON routes answer
    app.mount(f"/static/{version}", StaticFiles(directory=STATIC), name="static")
    for router in (shelf.router, batches.router, routes.router, files.router, reins.router, judging.router):
        app.include_router(router, responses=PROBLEMS)
    app.include_router(live.router)
    app.add_middleware(Bounds, max_upload_bytes=settings.max_upload_bytes)
    app.add_exception_handler(errors.ReinsError, _known_error)
    app.add_exception_handler(RequestValidationError, _bad_request)
    app.add_exception_handler(HTTPException, _no_such_place)
    app.add_exception_handler(Exception, _unknown_error)
    return app


def _known_error(request: Request, error: Exception) -> Response:
    status = next((code for kind, code in STATUS if isinstance(error, kind)), 500)
    route = request.scope.get("route")  # none where nothing is
    if isinstance(error, errors.NotReadyError):
        return _answer(request, status, str(error), getting_ready=True)
    asks = request.method == "GET" or getattr(route, "tags", None) == ASKS
    return _answer(request, status, saying(error, "" if asks else "Nothing was changed."))


def _bad_request(request: Request, error: Exception) -> Response:
    assert isinstance(error, RequestValidationError)
    detail = error.errors()[0]
    name = ".".join(str(part) for part in detail["loc"][1:]) or "the request"
    return _answer(request, 422, f"{name}: {detail['msg'].removeprefix('Value error, ')}. Nothing was changed.")


def _no_such_place(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    said = {404: "There is nothing at this address.", 405: "This address is not used that way."}
    answer = _answer(request, error.status_code, said.get(error.status_code, "The request cannot be read."))
    answer.headers.update(error.headers or {})
    return answer


def _unknown_error(request: Request, error: Exception) -> Response:
    note = secrets.token_hex(4)
    log.error("unexpected error %s", note, exc_info=error)
    return _answer(request, 500, f"Something went wrong here (note {note}); what was kept before is untouched.")


def _answer(request: Request, status: int, sentence: str, **more: bool) -> Response:
    if request.url.path.startswith("/api/"):
        return JSONResponse({"error": sentence, **more}, status)
    page: Response = request.app.state.templates.TemplateResponse(
        request, "problem.html", {"sentence": sentence}, status_code=status
    )
    return page
