"""The application: pages, JSON routes, the live socket, and the one table from errors to answers."""

import logging
import secrets
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from fastapi.staticfiles import StaticFiles
from fastapi.templating import Jinja2Templates

from reins import errors
from reins.services.frequencies import Frequencies
from reins.services.house import House
from reins.services.jobs import Jobs
from reins.services.matching import Matching
from reins.services.previews import Previews
from reins.services.sounds import Sounds
from reins.web import files, live, routes
from reins.web.guard import STATIC, Guard, static_version

log = logging.getLogger(__name__)
TEMPLATES = Path(__file__).parent / "templates"
LOOPBACK = ("127.0.0.1", "localhost", "::1")

STATUS: list[tuple[type[Exception], int]] = [
    (errors.NotFoundError, 404),
    (errors.ConflictError, 409),
    (errors.InputError, 422),
    (errors.CancelledError, 409),
    (errors.StorageError, 507),
]


@dataclass(frozen=True)
class AppSettings:
    """Where things are kept, under which names the desk answers, how much may be brought in at once."""

    data_dir: Path
    hosts: tuple[str, ...] = LOOPBACK
    max_upload_bytes: int = 2 << 30


def create_app(settings: AppSettings, house: House) -> FastAPI:
    """The application over an open house."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        yield
        house.close()

    app = FastAPI(title="Reins", lifespan=lifespan, docs_url=None, redoc_url=None, openapi_url=None)
    version = static_version()
    app.state.house, app.state.settings = house, settings
    sounds = Sounds(house)
    app.state.frequencies = Frequencies(house, sounds)
    app.state.jobs, app.state.previews, app.state.matching = Jobs(), Previews(house, sounds), Matching(house, sounds)
    app.state.templates = Jinja2Templates(TEMPLATES)
    app.state.templates.env.globals["static"] = f"/static/{version}"
    app.state.templates.env.policies["json.dumps_kwargs"] = {"sort_keys": False}  # as the JSON routes answer
    app.mount(f"/static/{version}", StaticFiles(directory=STATIC), name="static")
    app.include_router(routes.router)
    app.include_router(files.router)
    app.include_router(live.router)
    app.add_middleware(Guard, hosts=settings.hosts)
    app.add_exception_handler(errors.ReinsError, _known_error)
    app.add_exception_handler(RequestValidationError, _bad_request)
    app.add_exception_handler(Exception, _unknown_error)
    return app


def _known_error(request: Request, error: Exception) -> Response:
    status = next((code for kind, code in STATUS if isinstance(error, kind)), 500)
    return _answer(request, status, str(error))


def _bad_request(request: Request, error: Exception) -> Response:
    assert isinstance(error, RequestValidationError)
    detail = error.errors()[0]
    name = ".".join(str(part) for part in detail["loc"][1:]) or "the request"
    return _answer(request, 422, f"{name}: {detail['msg'].removeprefix('Value error, ')}. Nothing was changed.")


def _unknown_error(request: Request, error: Exception) -> Response:
    note = secrets.token_hex(4)
    log.error("unexpected error %s", note, exc_info=error)
    return _answer(request, 500, f"Something went wrong here (note {note}); what was kept before is untouched.")


def _answer(request: Request, status: int, sentence: str) -> Response:
    if request.url.path.startswith("/api/"):
        return JSONResponse({"error": sentence}, status)
    page: Response = request.app.state.templates.TemplateResponse(
        request, "problem.html", {"sentence": sentence}, status_code=status
    )
    return page
