"""Batches at the shelf: files and takes gathered in a folder of their own, held by a chain or each by an aim, and taken
away together. They are gone with the server.
"""

import os
import re
import shutil
import threading
import zipfile
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from reins.core.audio import AudioReader, AudioWriter, partial_of
from reins.core.limits import check_room
from reins.core.sessions import new_id
from reins.errors import AudioError, ConflictError, InputError, NotFoundError
from reins.services.batch.planning import ENDINGS
from reins.services.batch.record import report
from reins.services.batch.running import Asked, Progress, run_batch
from reins.services.batch.tasks import HELD, Row, Wish, Written
from reins.services.editing import document_of
from reins.services.exporting import Output
from reins.services.house import House
from reins.services.jobs import Job
from reins.services.writing import write_whole

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
    fetched: bool = False  # whether what was made last has been taken away
    packing: threading.Lock = field(default_factory=threading.Lock)  # one writes the zip

    def in_words(self) -> str:
        """What is in it and what was made of it."""
        held, count = sum(row.done == HELD for row in self.rows), len(self.files)
        return f"{count} file{'' if count == 1 else 's'}, {f'{held} held' if held else 'none held yet'}"

    @property
    def waits(self) -> bool:
        """Whether there is something in it that nobody has taken away."""
        return bool(self.files or self.rows) and not self.fetched

    @property
    def runs(self) -> bool:
        """Whether it is at work."""
        return self.job is not None and self.job.state == "running"

    def told(self) -> dict[str, Any]:
        """What the page shows; paths are left out."""
        rows = [self._plain(asdict(row)) for row in list(self.rows)]
        told: dict[str, Any] = {"id": self.id, "files": list(self.files), "rows": rows, "sentence": self.sentence}
        return told | {"job_id": self.job.id if self.job is not None and self.runs else None}

    def _plain(self, row: dict[str, Any]) -> dict[str, Any]:
        names = {name: Path(row[name]).name for name in ("file", "output", "chain_file") if row[name]}
        said = row["problem"] or ""
        for place in ("in", "out"):
            said = said.replace(f"{self.folder / place}/", "")
        return row | names | {"problem": said or None}


class Batches:
    """The batches of a server; the oldest that is empty, or was taken away, makes room for a new one."""

    def __init__(self, house: House) -> None:
        self._house, self._batches, self._lock = house, dict[str, Batch](), threading.Lock()

    def begin(self) -> Batch:
        """A new one, with nothing in it; ConflictError where there are as many that somebody may still want."""
        with self._lock:
            resting = [batch for batch in self._batches.values() if not batch.runs and not batch.waits]
            for old in resting[: max(len(self._batches) - MOST_BATCHES + 1, 0)]:
                shutil.rmtree(self._batches.pop(old.id).folder, ignore_errors=True)
            if len(self._batches) >= MOST_BATCHES:
                raise ConflictError(
                    f"{MOST_BATCHES} batches here have not been taken away: at “Many takes”, fetch or forget one."
                )
            batch = Batch(self._house.passing_folder())
            for name in ("in", "out"):
                (batch.folder / name).mkdir()
            self._batches[batch.id] = batch
        return batch

    def waiting(self) -> list[dict[str, Any]]:
        """Those that somebody may still want to take away: id, and what is in it in words."""
        with self._lock:
            found = [batch for batch in self._batches.values() if batch.waits]
        return [{"id": batch.id, "said": batch.in_words()} for batch in found]

    def forget(self, batch_id: str) -> None:
        """Leave a batch and all that is in it."""
        batch = self._open(batch_id)
        with self._lock:
            self._batches.pop(batch.id, None)
        shutil.rmtree(batch.folder, ignore_errors=True)

    def get(self, batch_id: str) -> Batch:
        """A batch, or NotFoundError."""
        if batch_id not in self._batches:
            raise NotFoundError("batch", batch_id)
        return self._batches[batch_id]

    def add_file(self, batch_id: str, path: Path, name: str) -> Batch:
        """Take a file in under its name; where that is there already, with a number. AudioError for what is no sound by
        its ending: it would not be looked at.
        """
        if Path(name).suffix.lower() not in ENDINGS:
            raise AudioError(f"{name}: allowed are files that end in {', '.join(ENDINGS)}.")
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
            batch.fetched = False
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

    def ready(self, batch_id: str, written: Written) -> Batch:
        """The batch, emptied of what was made before, once it is clear that it can begin: one at a time, so that work
        of other kinds never waits for it.
        """
        batch = self._open(batch_id)
        if not batch.files:
            raise ConflictError("There is nothing in this batch yet: drop files, or choose takes.")
        if any(other.runs for other in list(self._batches.values())):
            raise ConflictError("Another batch is at work; wait until it is done, or stop it.")
        needed = sum(_bytes_for(batch.folder / "in" / name, written) for name in batch.files)
        check_room(batch.folder, needed, "What it makes")
        shutil.rmtree(batch.folder / "out", ignore_errors=True)
        (batch.folder / "out").mkdir()
        batch.rows, batch.sentence, batch.fetched = [], "", False
        return batch

    def run(self, batch: Batch, job: Job, *, chain: str | None, wishes: tuple[Wish, ...], written: Written) -> None:
        """Hold all that is gathered; one core is left to what plays meanwhile."""
        path = batch.folder / "chain.json"
        if chain is not None:
            write_whole(path, chain)
        asked = Asked(
            (batch.folder / "in",), batch.folder / "out", chain=None if chain is None else path, wishes=wishes,
            written=written, workers=max(1, (os.cpu_count() or 2) - 1), of_desk=True,
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
        made = [Path(name) for row in batch.rows if row.done == HELD for name in (row.output, row.chain_file) if name]
        made = [path for path in made if path.is_file()]
        if not made:
            raise ConflictError("Nothing has been made yet; start the batch first.")
        with batch.packing:
            said, packed = batch.folder / REPORT, batch.folder / "batch.zip"
            check_room(batch.folder, sum(path.stat().st_size for path in made), "The zip")
            report(said, [Row(**row) for row in batch.told()["rows"]])
            with zipfile.ZipFile(partial_of(packed), "w", zipfile.ZIP_STORED) as archive:
                for path in [said, *sorted(made)]:
                    archive.write(path, path.name)
            batch.fetched = True
            return partial_of(packed).replace(packed)


def _plain(stem: str) -> str:
    """A name as it was given, without what no file may be called by."""
    return re.sub(r"[\x00-\x1f/\\]+", "_", stem).strip(". ")[:100] or "take"


def _bytes_for(path: Path, written: Written) -> int:
    """What is made of a file takes at most; nothing of one that cannot be read, which is told in its row."""
    try:
        with AudioReader(path) as reader:
            return Output(written.file_format, written.bits).bytes_for(
                reader.frames, reader.channels, reader.sample_rate
            )
    except InputError:
        return 0
