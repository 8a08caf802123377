"""Many takes at once: its page, what is gathered, what is done, what is heard and taken away."""

from typing import Annotated, Any, Literal

from fastapi import APIRouter, Depends, File, Request, UploadFile
from fastapi.responses import FileResponse, HTMLResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from reins.core.audio import check_output
from reins.core.chainfile import parse_chain
from reins.core.trials.aims import AIMS, described
from reins.errors import InputError
from reins.services.batch.planning import wishes_of
from reins.services.batch.tasks import Written
from reins.services.batches import Batches
from reins.services.jobs import Job
from reins.services.shelf import takes_and_chains
from reins.web.depends import TheHouse, TheJobs
from reins.web.files import received

router = APIRouter()


def _batches(request: Request) -> Batches:
    found: Batches = request.app.state.batches
    return found


TheBatches = Annotated[Batches, Depends(_batches)]


@router.get("/batch", response_class=HTMLResponse)
def many_takes(request: Request, house: TheHouse, batches: TheBatches) -> Response:
    """The page: takes that are there, chains that are there, and the aims that need no key."""
    takes, chains = takes_and_chains(house)
    told: dict[str, Any] = {"takes": takes, "chains": chains, "waiting": batches.waiting()}
    told["aims"] = [described(aim) for aim in AIMS.values() if not aim.wants_key]
    made: Response = request.app.state.templates.TemplateResponse(request, "batch.html", told)
    return made


@router.post("/api/batches")
def begin(batches: TheBatches) -> dict[str, Any]:
    """Begin a batch with nothing in it."""
    return batches.begin().told()


@router.delete("/api/batches/{batch_id}")
def forget(batch_id: str, batches: TheBatches) -> dict[str, Any]:
    """Forget a batch and all that is in it."""
    batches.forget(batch_id)
    return {}


@router.get("/api/batches/{batch_id}")
def told(batch_id: str, batches: TheBatches) -> dict[str, Any]:
    """What is in it, how far it is, and what became of each file."""
    return batches.get(batch_id).told()


@router.post("/api/batches/{batch_id}/files")
def add_file(
    request: Request, batch_id: str, house: TheHouse, batches: TheBatches, file: Annotated[UploadFile, File()]
) -> dict[str, Any]:
    """Add a file."""
    batches.get(batch_id)
    path, name = received(request, house, file)
    return batches.add_file(batch_id, path, name).told()


class TakeBody(BaseModel):
    """Body that names the take of a track."""

    model_config = ConfigDict(extra="forbid")
    session_id: str
    track_id: str


@router.post("/api/batches/{batch_id}/takes")
def add_take(batch_id: str, body: TakeBody, batches: TheBatches) -> dict[str, Any]:
    """Add the take of a track."""
    return batches.add_take(batch_id, body.session_id, body.track_id).told()


@router.delete("/api/batches/{batch_id}/files/{name}")
def remove(batch_id: str, name: str, batches: TheBatches) -> dict[str, Any]:
    """Take a file out again."""
    return batches.remove(batch_id, name).told()


class RunBody(BaseModel):
    """Body of a run: a chain file's text, or an aim with its number."""

    model_config = ConfigDict(extra="forbid")
    chain: str | None = Field(None, max_length=1 << 20)
    aim: str | None = None
    by: float | None = None
    format: str = "wav"
    bits: str = "24"


@router.post("/api/batches/{batch_id}/run")
def run(batch_id: str, body: RunBody, house: TheHouse, batches: TheBatches, jobs: TheJobs) -> dict[str, Any]:
    """Hold all that is in it; answers with what is in it, and the job that does it."""
    check_output(house.passing_dir / "held", body.format, body.bits, None)
    wishes = wishes_of([] if body.aim is None else [body.aim], [] if body.by is None else [body.by])
    if body.chain is not None:
        parse_chain(body.chain, "The chain")
    if (body.chain is None) == (not wishes):
        raise InputError("Choose either a chain or an aim: how the takes are to be held.")
    written = Written(body.format, body.bits)
    batch = batches.ready(batch_id, written)

    def work(job: Job) -> None:
        batches.run(batch, job, chain=body.chain, wishes=wishes, written=written)

    batch.job = jobs.start("Holding many takes", work)
    return batch.told()


@router.get("/api/batches/{batch_id}/rows/{place}/{which}")
def sound(batch_id: str, place: int, which: Literal["before", "after"], batches: TheBatches) -> Response:
    """A file as it was (before) or as it was made (after), to be heard."""
    return FileResponse(batches.sound(batch_id, place, after=which == "after"))


@router.get("/api/batches/{batch_id}/zip")
def packed(batch_id: str, batches: TheBatches) -> Response:
    """All that was made, with the report."""
    return FileResponse(batches.packed(batch_id), filename="batch.zip")
