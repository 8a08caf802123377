"""The data folder: locked for one server, its database opened and brought up to date, what nothing names set aside.

    reins.db   sessions, steps, takes, starting points (WAL while open, one whole file once closed)
    house.id   ties the database to the recordings
    takes/     a folder a recording
    passing/   uploads, exports and sums on their way; what Reins made there is cleared at start and stop
    lost/      what nothing names, with a list of what and why
    copies/    the database as it was before each migration
    lock       who has the folder open
    token      what opens the desk beyond this machine (see web.server)

Nothing is deleted that the store did not make and know to be finished with.
"""

import fcntl
import json
import os
import re
import shutil
import sqlite3
import tempfile
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import IO

from reins.core.disk import sync
from reins.errors import StorageError
from reins.store.database import MIGRATIONS, connect, copy_database, migrate, unreadable, version_of
from reins.store.lost import set_aside
from reins.store.takes import take_ids

DATABASE, HOUSE_ID, PASSING_PREFIX = "reins.db", "house.id", "reins-"
FIRST_WITH_ID = 3  # the version of the database from which it has an id of its own
_PUT_BACK = (
    f"Put back the {DATABASE} that belongs to them (older ones are in copies/), or choose another --data. Nothing was "
    "changed."
)
HOUSE_IDS = re.compile(r"[0-9a-f]{16}")
OURS_IN_PASSING = re.compile(rf"{PASSING_PREFIX}\w+|[0-9a-f]{{32}}")


class DataFolder:
    """An open data folder. Raises StorageError, with a sentence that says what to do, when it is in use, or its
    database cannot be read, is newer, or does not fit the recordings beside it; then nothing was changed.
    """

    def __init__(self, data_dir: Path, *, serving_at: str = "") -> None:
        self.root = data_dir
        #: What was mended at the start, a sentence each.
        self.said: list[str] = []
        self.takes_dir, self.passing_dir, self.lost_dir = (data_dir / name for name in ("takes", "passing", "lost"))
        try:
            for folder in (data_dir, self.takes_dir, self.passing_dir):
                folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            with suppress(PermissionError):  # somebody else's folder that we may use
                data_dir.chmod(0o700)
            self._lock = _lock(data_dir, serving_at)
        except OSError as error:
            raise StorageError(
                f"{data_dir}: the folder cannot be used ({error.strerror}); choose another with --data."
            ) from error
        try:
            self.writer = self._open()
            self.reader = connect(data_dir / DATABASE)
        except BaseException:
            self._lock.close()
            raise
        self.clear_passing()
        self._sweep()

    def _open(self) -> sqlite3.Connection:
        path, id_file = self.root / DATABASE, self.root / HOUSE_ID
        if not path.exists() or path.stat().st_size == 0:
            self._refuse_recordings_alone(path)
            os.close(os.open(path, os.O_CREAT | os.O_WRONLY, 0o600))
        with suppress(PermissionError):
            path.chmod(0o600)
        db = connect(path)
        try:
            version = version_of(db)
            kept_id = self._kept_id(db, id_file, version)
            _refuse_strange(db, path, version, kept_id)
            if 0 < version < newest_version():
                copy_database(db, self._copy_path(version))
            migrate(db)
            if version < FIRST_WITH_ID and kept_id is not None:  # an older copy was put back
                db.execute("UPDATE house SET id = :id", {"id": kept_id})
            elif kept_id is None:
                write_synced(id_file, _house_id(db))
        except sqlite3.Error as error:
            db.close()
            raise unreadable(path, error) from error
        except BaseException:
            db.close()
            raise
        return db

    def _kept_id(self, db: sqlite3.Connection, file: Path, version: int) -> str | None:
        """What the file beside the recordings says; None where there is none yet, or where it was damaged and all
        recordings that the database names are there, so that it may be made anew.
        """
        if not file.exists():
            return None
        kept = file.read_text(encoding="ascii", errors="replace").strip()
        if HOUSE_IDS.fullmatch(kept):
            return kept
        named = take_ids(db) if version else set()
        there = {path.name for path in self.takes_dir.iterdir() if path.is_dir()}
        if not named <= there or (there and not named):
            raise StorageError(
                f"{file}: it is damaged, and of {len(there)} recordings in takes/ {DATABASE} names "
                f"{len(named & there)}; {len(named - there)} that it names are not there. It cannot be told whether "
                f"they belong together: put {HOUSE_ID} back from a backup. Nothing was changed."
            )
        self.said.append(f"{file}: it was damaged; all that {DATABASE} names is in takes/, so it was made anew.")
        return None

    def _refuse_recordings_alone(self, path: Path) -> None:
        recordings = sum(1 for entry in self.takes_dir.iterdir() if entry.is_dir())
        if recordings:
            raise StorageError(
                f"{path}: there are no sessions here, but {recordings} recordings beside it in takes/. {_PUT_BACK}"
            )

    def _copy_path(self, version: int) -> Path:
        folder = self.root / "copies"
        folder.mkdir(mode=0o700, exist_ok=True)
        return folder / f"reins-v{version}-{datetime.now(UTC):%Y%m%dT%H%M%S}.db"

    def clear_passing(self) -> None:
        """Remove what Reins has made in passing/; set aside what it has not."""
        for path in list(self.passing_dir.iterdir()):
            if OURS_IN_PASSING.fullmatch(path.name):
                shutil.rmtree(path, ignore_errors=True)
            else:
                set_aside(self.lost_dir, path, "It lay in passing/, and Reins did not put it there.")

    def _sweep(self) -> None:
        known = take_ids(self.writer)
        for path in list(self.takes_dir.iterdir()):
            if path.name not in known:
                set_aside(self.lost_dir, path, "It lay in takes/, and no session names it.")

    def passing_folder(self) -> Path:
        """A fresh folder for a file on its way in or out; StorageError when the disk refuses."""
        try:
            return Path(tempfile.mkdtemp(dir=self.passing_dir, prefix=PASSING_PREFIX))
        except OSError as error:
            raise StorageError(f"The disk refused ({error.strerror}); nothing was changed.") from error

    def close(self) -> None:
        """Bring everything into the one database file, close it, and let others have the folder."""
        if self._lock.closed:
            return
        with suppress(sqlite3.Error):
            self.reader.close()
            self.writer.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        self.writer.close()
        self.clear_passing()
        self._lock.close()


def write_synced(path: Path, text: str) -> None:
    """Write a small file that only its owner may read, whole or not at all, and on the disk when this returns."""
    partial = path.with_name(f".{path.name}.{os.getpid()}.partial")
    try:
        with os.fdopen(os.open(partial, os.O_CREAT | os.O_TRUNC | os.O_WRONLY, 0o600), "w") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        partial.replace(path)
        sync(path.parent)
    finally:
        partial.unlink(missing_ok=True)


def _lock(data_dir: Path, serving_at: str) -> IO[str]:
    """The folder's lock, kept as long as the file is open; StorageError saying who has it."""
    file = os.fdopen(os.open(data_dir / "lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600), "r+")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        try:
            holder = json.loads(file.read())
            at = f" at {holder['at']}" if holder["at"] else ""
            who = f"process {holder['pid']}{at}, since {holder['since']}"
        except (ValueError, KeyError, TypeError):
            who = "another process"
        file.close()
        raise StorageError(
            f"{data_dir}: this folder is in use by {who}. Stop that one first, or choose another --data."
        ) from error
    file.truncate(0)
    since = datetime.now().astimezone().isoformat(sep=" ", timespec="minutes")[:16]
    file.write(json.dumps({"pid": os.getpid(), "at": serving_at, "since": since}))
    file.flush()
    return file


def _refuse_strange(db: sqlite3.Connection, path: Path, version: int, kept_id: str | None) -> None:
    """Raise StorageError for a database that is newer than this program or not that of the recordings."""
    if version > newest_version():
        raise StorageError(
            f"{path}: it was kept by a newer Reins (version {version}; this one knows {newest_version()}). Start that "
            "one, or put back an older copy from copies/. Nothing was changed."
        )
    if version >= FIRST_WITH_ID and kept_id is not None and _house_id(db) != kept_id:
        raise StorageError(f"{path}: these sessions are not those of the recordings beside them in takes/. {_PUT_BACK}")


def newest_version() -> int:
    """The number of the last migration this program knows."""
    return max(int(path.name.split("_")[0]) for path in MIGRATIONS.glob("[0-9]*.sql"))


def _house_id(db: sqlite3.Connection) -> str:
    return str(db.execute("SELECT id FROM house").fetchone()["id"])
