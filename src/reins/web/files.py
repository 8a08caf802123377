"""Routes for files on their way in and out: each starts a job and answers with it."""

import contextlib
import shutil
from collections.abc import Callable, Iterator
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

from fastapi import APIRouter, File, Query, Request, UploadFile
from fastapi.responses import FileResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from reins.core.audio import check_output
from reins.errors import ConflictError, InputError, StorageError
from reins.services import editing
from reins.services.bringing_in import (
    Progress,
    bring_in,
    bring_in_impulse,
    bring_in_reference,
    join_pair,
    replace_take,
)
from reins.services.exporting import Output, export_mix, export_strip
from reins.services.house import House
from reins.services.jobs import Job, Jobs
from reins.services.loudness import mix_loudness
from reins.services.sessionfiles import export_session, import_session
from reins.web.depends import ASKS, TheAims, TheHouse, TheJobs, TheTempi

router = APIRouter()
ADDED = "Nothing was added."


@router.post("/api/sessions/{session_id}/takes")
def bring_in_file(
    request: Request, session_id: str, house: TheHouse, jobs: TheJobs, tempi: TheTempi,
    file: Annotated[UploadFile, File()],
) -> dict[str, Any]:  # fmt: skip
    """Bring a file in as a new track; answers with the job that does it."""
    editing.document_of(house, session_id)

    def brought_in(path: Path, name: str, progress: Progress) -> dict[str, Any]:
        made = bring_in(house, session_id, path, name, progress)
        tempi.prepare(session_id)
        return asdict(made)

    return _with_upload(request, house, jobs, file, brought_in)


@router.post("/api/sessions/{session_id}/tracks/{track_id}/take")
def replace_take_file(
    request: Request, session_id: str, track_id: str, house: TheHouse, jobs: TheJobs,
    file: Annotated[UploadFile, File()],
) -> dict[str, Any]:  # fmt: skip
    """Bring a file in as another take of a track, whose chain stays; answers with the job that does it."""
    editing.document_of(house, session_id).track(track_id)

    def replaced(path: Path, name: str, progress: Progress) -> dict[str, Any]:
        return asdict(replace_take(house, session_id, track_id, path, name, progress))

    return _with_upload(request, house, jobs, file, replaced)


@router.post("/api/sessions/{session_id}/reference")
def bring_in_reference_file(
    request: Request, session_id: str, house: TheHouse, jobs: TheJobs, file: Annotated[UploadFile, File()]
) -> dict[str, Any]:
    """Bring a file in to be laid beside the mix; answers with the job that does it."""
    editing.document_of(house, session_id)
    return _with_upload(
        request, house, jobs, file, lambda *given: asdict(bring_in_reference(house, session_id, *given))
    )


class PairBody(BaseModel):
    """Body of two mono tracks that become one."""

    model_config = ConfigDict(extra="forbid")
    left_id: str
    right_id: str
    name: Annotated[str, Field(min_length=1, max_length=80)]


@router.post("/api/sessions/{session_id}/pair")
def pair(session_id: str, body: PairBody, house: TheHouse, jobs: TheJobs) -> dict[str, Any]:
    """Make one stereo track of two mono ones; answers with the job that does it."""
    document = editing.document_of(house, session_id)
    document.track(body.left_id), document.track(body.right_id)

    def work(job: Job) -> dict[str, Any]:
        return asdict(join_pair(house, session_id, body.left_id, body.right_id, body.name, job.progress))

    return jobs.start(f"Joining {body.name}", work, kept=ADDED).as_dict()


@router.post("/api/sessions/{session_id}/strips/{strip_id}/processors/{processor_id}/impulses")
def bring_in_impulse_file(
    request: Request, session_id: str, strip_id: str, processor_id: str, house: TheHouse, jobs: TheJobs,
    file: Annotated[UploadFile, File()],
) -> dict[str, Any]:  # fmt: skip
    """Bring a file in as a room's response, in use at once; answers with the job that does it."""
    editing.document_of(house, session_id).strip(strip_id)

    def brought(path: Path, name: str, progress: Progress) -> dict[str, Any]:
        return {"take_id": bring_in_impulse(house, session_id, path, name, strip_id, processor_id, progress)}

    return _with_upload(request, house, jobs, file, brought)


@router.post("/api/sessionfiles")
def open_session_file(
    request: Request, house: TheHouse, jobs: TheJobs, file: Annotated[UploadFile, File()]
) -> dict[str, Any]:
    """Bring a session file in as a new session; answers with the job that does it."""

    def opened(path: Path, name: str, progress: Progress) -> dict[str, Any]:
        return {"session_id": import_session(house, path, name, progress)}

    return _with_upload(request, house, jobs, file, opened, "Opening")


def _with_upload(
    request: Request, house: House, jobs: Jobs, file: UploadFile,
    doing: Callable[[Path, str, Progress], dict[str, Any]], what: str = "Bringing in",
) -> dict[str, Any]:  # fmt: skip
    """Start a job with an upload, its name and how far it is; the upload is gone when the job ends."""
    path, name = received(request, house, file)

    def work(job: Job) -> dict[str, Any]:
        with _gone_afterwards(path.parent):
            return doing(path, name, job.progress)

    return jobs.start(f"{what} {name}", work, kept=ADDED).as_dict()


def received(request: Request, house: House, file: UploadFile) -> tuple[Path, str]:
    """An upload in a folder of its own, and its name; InputError when it is too large."""
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
    return folder / "upload", name


@contextlib.contextmanager
def _gone_afterwards(folder: Path) -> Iterator[None]:
    try:
        yield
    finally:
        shutil.rmtree(folder, ignore_errors=True)


class ExportBody(BaseModel):
    """Body of an export; rate is that of the session when it is not given."""

    model_config = ConfigDict(extra="forbid")
    format: str = "wav"
    bits: str = "24"
    rate: int | None = None
    dither: str | None = None
    from_frame: int = Field(0, ge=0)
    to_frame: int | None = Field(None, ge=1)
    names: str = Field("", max_length=120)

    def output(self, house: House) -> Output:
        """What is to be written; InputError when that is not allowed."""
        wanted = Output(
            self.format, self.bits, self.rate, self.dither, self.from_frame, self.to_frame, self.names
        )  # fmt: skip
        wanted.check()
        check_output(house.passing_dir / "held", self.format, self.bits, self.dither)
        return wanted


@router.post("/api/sessions/{session_id}/strips/{strip_id}/export")
def export(session_id: str, strip_id: str, body: ExportBody, house: TheHouse, jobs: TheJobs) -> dict[str, Any]:
    """Write a track's or bus's result to a file; answers with the job that does it."""
    document = editing.document_of(house, session_id)
    name = document.strip(strip_id).name
    output = body.output(house)
    called = output.named(f"{name} held", session=document.name, name=name)

    def work(folder: Path, job: Job) -> dict[str, Any]:
        path = folder / f"held.{body.format}"
        facts = export_strip(house, session_id, strip_id, path, output, job.progress)
        return {**facts, "file": str(path), "name": f"{called}.{body.format}"}

    return _handing_out(house, jobs, f"Exporting {name}", work)


class MixBody(ExportBody):
    """Body of an export of the mix, or of the stems."""

    stems: bool = False


@router.post("/api/sessions/{session_id}/mix")
def mix(session_id: str, body: MixBody, house: TheHouse, jobs: TheJobs) -> dict[str, Any]:
    """Write the mix, or the stems as one zip; answers with the job that does it."""
    name = editing.document_of(house, session_id).name
    output = body.output(house)

    def work(folder: Path, job: Job) -> dict[str, Any]:
        facts = export_mix(house, session_id, folder, output, job.progress, stems=body.stems)
        called = output.named(f"{name} mix", session=name, name="mix")
        return {**facts, "name": f"{name} stems.zip" if body.stems else f"{called}.{body.format}"}

    return _handing_out(house, jobs, f"Exporting {'the stems' if body.stems else 'the mix'}", work)


class LoudnessBody(BaseModel):
    """Body of a question how loud the mix is, beside how loud it should be."""

    model_config = ConfigDict(extra="forbid")
    target_lufs: float = Field(ge=-40, le=-5)
    from_frame: int = Field(0, ge=0)
    to_frame: int | None = Field(None, ge=1)


@router.post("/api/sessions/{session_id}/loudness", tags=ASKS)
def loudness(session_id: str, body: LoudnessBody, house: TheHouse, jobs: TheJobs) -> dict[str, Any]:
    """Measure the mix and say by how much the master's fader is off a target; answers with the job that does it."""
    output = Output(first=body.from_frame, end=body.to_frame)
    output.check()

    def work(job: Job) -> dict[str, Any]:
        return asdict(mix_loudness(house, session_id, output, body.target_lufs, job.progress))

    return jobs.start("Measuring the mix", work).as_dict()


@router.post("/api/sessions/{session_id}/file")
def session_file(session_id: str, house: TheHouse, jobs: TheJobs) -> dict[str, Any]:
    """Write the session with its takes into one file; answers with the job that does it."""
    name = editing.document_of(house, session_id).name

    def work(folder: Path, job: Job) -> dict[str, Any]:
        return {**export_session(house, session_id, folder, job.progress), "name": f"{name}.reins.zip"}

    return _handing_out(house, jobs, f"Packing {name}", work)


def _handing_out(house: House, jobs: Jobs, what: str, work: Callable[[Path, Job], dict[str, Any]]) -> dict[str, Any]:
    """Start work that leaves a file in a folder of its own; the folder goes when the work fails or is cancelled."""

    def guarded(job: Job) -> dict[str, Any]:
        folder = job.folder = house.passing_folder()
        try:
            return work(folder, job)
        except BaseException:
            shutil.rmtree(folder, ignore_errors=True)
            raise

    return _public(jobs.start(what, guarded, kept="No file was made; the session is untouched."))


def _public(job: Job) -> dict[str, Any]:
    told = job.as_dict()
    if isinstance(told["result"], dict):
        told["result"] = {k: v for k, v in told["result"].items() if k != "file"}
    return told


@router.post("/api/sessions/{session_id}/strips/{strip_id}/processors/{processor_id}/trace")
def trace(
    session_id: str, strip_id: str, processor_id: str, house: TheHouse, jobs: TheJobs, aims: TheAims
) -> dict[str, Any]:
    """Write a processor's gain over time as CSV; answers with the job that does it."""
    name = editing.document_of(house, session_id).strip(strip_id).name

    def work(folder: Path, job: Job) -> dict[str, Any]:
        path = folder / "gain.csv"
        return {"file": str(path), "name": aims.trace(session_id, strip_id, processor_id, path)}

    return _handing_out(house, jobs, f"Writing the gain of {name}", work)


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
        raise ConflictError(f"{job.what}: there is no file yet; wait until it is done.")
    if not Path(job.result["file"]).is_file():
        raise ConflictError(f"{job.what}: the file is not there any more; export once more.")
    return FileResponse(job.result["file"], filename=job.result["name"])
