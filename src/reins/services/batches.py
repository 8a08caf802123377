"""Batches at the shelf: files and takes gathered in a folder of their own, held by a chain or each by an aim, and taken
away together. They are gone with the server.
"""

import json
import os
import re
import shutil
import threading
import zipfile
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from reins.core.audio import AudioWriter
from reins.core.chainfile import parse_chain
from reins.core.limits import check_room
from reins.core.sessions import new_id
from reins.errors import ConflictError, NotFoundError, SettingsError
from reins.services.aiming import keep_chain
from reins.services.batch.record import NAME, report
from reins.services.batch.running import Asked, Progress, run_batch
from reins.services.batch.tasks import Row, Wish, Written
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.jobs import Job

MOST_BATCHES, MOST_FILES = 4, 2000
READ_FRAMES = 65536
REPORT = "report.csv"


@dataclass
class Batch:
    """What is gathered, how far it is, and what became of it."""

    folder: Path
    id: str = field(default_factory=new_id)
    files: list[str] = field(default_factory=list)
    rows: list[Row] = field(default_factory=list)
    sentence: str = ""
    job: Job | None = None

    @property
    def runs(self) -> bool:
        """Whether it is at work."""
        return self.job is not None and self.job.state == "running"

    def told(self) -> dict[str, Any]:
        """What the page shows; paths are left out."""
        rows = [asdict(row) | {"file": Path(row.file).name, "output": Path(row.output).name} for row in self.rows]
        for row in rows:
            row["problem"] = (row["problem"] or "").replace(f"{self.folder / 'in'}/", "")
        state = "open" if self.job is None else self.job.state
        said = self.job.message if self.job is not None and state == "failed" else self.sentence
        return {"id": self.id, "files": self.files, "rows": rows, "state": state, "sentence": said}


class Batches:
    """The batches of a server; the oldest that rests makes room for a new one."""

    def __init__(self, house: House) -> None:
        self._house, self._batches, self._lock = house, dict[str, Batch](), threading.Lock()

    def begin(self) -> Batch:
        """A new one, with nothing in it."""
        with self._lock:
            resting = [batch for batch in self._batches.values() if not batch.runs]
            if len(self._batches) >= MOST_BATCHES and not resting:
                raise ConflictError(f"{MOST_BATCHES} batches are at work; stop one, or wait until one is done.")
            for old in resting[: len(self._batches) - MOST_BATCHES + 1]:
                shutil.rmtree(self._batches.pop(old.id).folder, ignore_errors=True)
            batch = Batch(self._house.passing_folder())
            for name in ("in", "out"):
                (batch.folder / name).mkdir()
            self._batches[batch.id] = batch
        return batch

    def get(self, batch_id: str) -> Batch:
        """A batch, or NotFoundError."""
        if batch_id not in self._batches:
            raise NotFoundError("batch", batch_id)
        return self._batches[batch_id]

    def add_file(self, batch_id: str, path: Path, name: str) -> Batch:
        """Take a file in under its name; where that is there already, with a number."""
        return self._add(batch_id, Path(name), lambda place: shutil.move(path, place))

    def add_take(self, batch_id: str, session_id: str, track_id: str) -> Batch:
        """Take in the take of a track, as it came."""
        document = document_of(self._house, session_id)
        track = document.tracks.get(track_id)
        if track is None or track.take_id is None:
            raise NotFoundError("take", track_id)
        take = self._house.take(track.take_id)
        facts = take.facts

        def write(place: Path) -> None:
            check_room(place.parent, facts.frames * facts.channels * 4, "The take")
            shape: dict[str, Any] = {"channels": facts.channels, "sample_rate": facts.sample_rate}
            with AudioWriter(place, file_format="wav", bits="32f", **shape) as writer:
                for first in range(0, facts.frames, READ_FRAMES):
                    writer.write(take.read(first, min(READ_FRAMES, facts.frames - first)))

        return self._add(batch_id, Path(f"{_plain(track.name)}.wav"), write)

    def _add(self, batch_id: str, name: Path, write: Callable[[Path], Any]) -> Batch:
        batch = self._open(batch_id)
        with self._lock:
            if len(batch.files) >= MOST_FILES:
                raise ConflictError(f"A batch at the shelf has up to {MOST_FILES} files; more with “reins batch”.")
            stem, ending = _plain(name.stem), name.suffix.lower()
            stems = {Path(known).stem for known in batch.files}  # outputs have one ending, so stems must differ
            free = next(s for s in (stem, *(f"{stem} {k}" for k in range(2, MOST_FILES + 2))) if s not in stems)
            batch.files.append(f"{free}{ending}")
        try:
            write(batch.folder / "in" / f"{free}{ending}")
        except BaseException:
            batch.files.remove(f"{free}{ending}")
            raise
        return batch

    def remove(self, batch_id: str, name: str) -> Batch:
        """Take a file out again."""
        batch = self._open(batch_id)
        if name not in batch.files:
            raise NotFoundError("file in this batch", name)
        batch.files.remove(name)
        (batch.folder / "in" / name).unlink(missing_ok=True)
        return batch

    def _open(self, batch_id: str) -> Batch:
        batch = self.get(batch_id)
        if batch.runs:
            raise ConflictError("This batch is at work; stop it first.")
        return batch

    def check(self, batch_id: str) -> Batch:
        """The batch, once it is clear that it can begin."""
        batch = self._open(batch_id)
        if not batch.files:
            raise ConflictError("There is nothing in this batch yet: drop files, or choose takes.")
        return batch

    def run(
        self, batch: Batch, job: Job, *, chain: dict[str, Any] | None, wishes: tuple[Wish, ...], written: Written
    ) -> None:
        """Hold all that is gathered; one core is left to what plays meanwhile."""
        batch.rows, batch.sentence = [], ""
        path = batch.folder / "chain.json"
        if chain is not None:
            keep_chain(path, chain)
        asked = Asked(
            (batch.folder / "in",), batch.folder / "out", chain=None if chain is None else path, wishes=wishes,
            written=written, workers=max(1, (os.cpu_count() or 2) - 1),
        )  # fmt: skip

        def seen(row: Row, progress: Progress) -> None:
            batch.rows.append(row)
            batch.sentence = progress.sentence()

        job.progress(0, len(batch.files))
        run_batch(asked, seen, lambda: job.progress(len(batch.rows), len(batch.files)))

    def sound(self, batch_id: str, place: int, *, after: bool) -> Path:
        """A file before or after, by the place of its row."""
        rows = self.get(batch_id).rows
        if not 0 <= place < len(rows):
            raise NotFoundError("row", str(place))
        path = Path(rows[place].output if after else rows[place].file)
        if not path.is_file():
            raise NotFoundError("sound", path.name)
        return path

    def packed(self, batch_id: str) -> Path:
        """All that was made, with the report, as one zip."""
        batch = self._open(batch_id)
        if not any(row.problem is None or Path(row.output).is_file() for row in batch.rows):
            raise ConflictError("Nothing has been made yet.")
        out, packed = batch.folder / "out", batch.folder / "batch.zip"
        report(out / REPORT, [Row(**row) for row in batch.told()["rows"]])
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_STORED) as archive:
            for path in sorted(p for p in out.rglob("*") if p.is_file() and p.name != NAME):
                archive.write(path, path.relative_to(out))
        return packed


def _plain(stem: str) -> str:
    """A name as it was given, without what no file may be called by."""
    return re.sub(r"[\x00-\x1f/\\]+", "_", stem).strip(". ")[:100] or "take"


def chain_from(text: str) -> dict[str, Any]:
    """A chain file's text as a document; SettingsError where it is none."""
    parse_chain(text, "The chain")
    found = json.loads(text)
    if not isinstance(found, dict):
        raise SettingsError("The chain: it must be an object.")
    return found
