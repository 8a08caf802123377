"""Long work: runs in a thread, says how far it is, can be cancelled."""

import logging
import shutil
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from reins.core.sessions import new_id
from reins.errors import CancelledError, NotFoundError, ReinsError, saying
from reins.services.readying import patiently

KEPT_JOBS = 50
KEPT_FILES = 12  # of them, those that have left a file
log = logging.getLogger(__name__)


class Job:
    """One piece of work: what it does, how far it is, how it ended."""

    def __init__(self, what: str, kept: str) -> None:
        self.id, self.what, self.kept = new_id(), what, kept
        self.state, self.message = "running", ""
        self.done, self.total = 0, 0
        self.result: Any = None
        self.folder: Path | None = None  # what it leaves behind, as long as it is remembered
        self._began = time.monotonic()
        self._cancelled = threading.Event()

    def progress(self, done: int, total: int) -> None:
        """Note how far the work is; raises CancelledError when it is to stop."""
        self.done, self.total = done, total
        if self._cancelled.is_set():
            raise CancelledError(f"{self.what}: stopped; nothing was kept.")

    def cancel(self) -> None:
        """Ask the work to stop at its next step."""
        self._cancelled.set()

    def as_dict(self) -> dict[str, Any]:
        """What a desk shows: percent and seconds left are None before they can be told."""
        share = self.done / self.total if self.total else None
        spent = time.monotonic() - self._began
        return {
            "id": self.id, "what": self.what, "state": self.state, "message": self.message, "result": self.result,
            "percent": None if share is None else round(100 * share),
            "seconds_left": round(spent / share - spent) if share and spent > 0.5 else None,
        }  # fmt: skip


class Jobs:
    """The jobs of a server, two at a time."""

    def __init__(self) -> None:
        self._jobs: dict[str, Job] = {}
        self._pool = ThreadPoolExecutor(2, thread_name_prefix="job")

    def start(self, what: str, work: Callable[[Job], Any], *, kept: str = "") -> Job:
        """Begin work; what it returns becomes the job's result. kept: what is said when it fails."""
        job = Job(what, kept)
        self._jobs[job.id] = job
        self._forget(list(self._jobs.values())[:-KEPT_JOBS])
        self._forget([old for old in self._jobs.values() if old.folder is not None][:-KEPT_FILES])
        self._pool.submit(self._run, job, work)
        return job

    def _forget(self, jobs: list[Job]) -> None:
        for old in jobs:
            if old.state != "running":
                self._jobs.pop(old.id, None)
                if old.folder is not None:
                    shutil.rmtree(old.folder, ignore_errors=True)

    def _run(self, job: Job, work: Callable[[Job], Any]) -> None:
        try:
            with patiently():
                job.result = work(job)
            job.state = "done"
        except CancelledError as stopped:
            job.message, job.state = str(stopped), "cancelled"
        except ReinsError as error:
            job.message, job.state = saying(error, job.kept), "failed"
        except Exception:
            log.exception("job %s failed", job.id)
            job.message = f"{job.what}: something went wrong here (note {job.id}); nothing was changed."
            job.state = "failed"

    def close(self) -> None:
        """Have all work stop at its next step."""
        for job in list(self._jobs.values()):
            job.cancel()

    def get(self, job_id: str) -> Job:
        """A job, or NotFoundError."""
        if job_id not in self._jobs:
            raise NotFoundError("piece of work", job_id)
        return self._jobs[job_id]
