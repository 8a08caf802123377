"""The house: one data folder with its database and takes, opened once per server, and what is told when it changes."""

import shutil
import sqlite3
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from reins.core.sessions import Document
from reins.core.takes import Take
from reins.errors import StorageError
from reins.store.database import connect, migrate
from reins.store.takes import get_take, sweep_folders

Listener = Callable[[str, Document], None]


class House:
    """Database and take folders of one data directory. One connection writes, under a lock, as SQLite has
    one writer; one reads.
    """

    def __init__(self, data_dir: Path) -> None:
        self.takes_dir = data_dir / "takes"
        self.passing_dir = data_dir / "passing"  # uploads and exports on their way; emptied at every start
        try:
            shutil.rmtree(self.passing_dir, ignore_errors=True)
            for folder in (self.takes_dir, self.passing_dir):
                folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise StorageError(f"{data_dir}: the folder cannot be made ({error.strerror}).") from error
        self._connection = connect(data_dir / "reins.db")
        self._reader = connect(data_dir / "reins.db")
        migrate(self._connection)
        sweep_folders(self._connection, self.takes_dir)
        self._lock, self._read_lock = threading.RLock(), threading.Lock()
        self.bringing = threading.Lock()  # held while a file is brought in
        self._takes: dict[str, Take] = {}
        self._listeners: set[Listener] = set()

    @contextmanager
    def database(self) -> Iterator[sqlite3.Connection]:
        """The connection, for one caller at a time."""
        with self._lock:
            yield self._connection

    @contextmanager
    def reading(self) -> Iterator[sqlite3.Connection]:
        """A connection for reading: what is looked at never waits for a disk that is busy keeping a change."""
        with self._read_lock:
            yield self._reader

    def passing_folder(self) -> Path:
        """A fresh folder for a file on its way in or out; StorageError when the disk refuses."""
        try:
            return Path(tempfile.mkdtemp(dir=self.passing_dir))
        except OSError as error:
            raise StorageError(f"The disk refused ({error.strerror}); nothing was changed.") from error

    def take(self, take_id: str) -> Take:
        """An open take, or NotFoundError. One that is open already is given without waiting for the database."""
        known = self._takes.get(take_id)
        if known is not None:
            return known
        with self._lock:
            if take_id not in self._takes:
                get_take(self._connection, take_id)
                self._takes[take_id] = Take(self.takes_dir / take_id)
            return self._takes[take_id]

    def takes(self, document: Document) -> dict[str, Take]:
        """The open takes of a document's tracks, by id."""
        wanted = {track.take_id for track in document.tracks.values()}
        return {take_id: self.take(take_id) for take_id in wanted if take_id is not None}

    def listen(self, listener: Listener) -> Callable[[], None]:
        """Have `listener` called with a session's id and document after each change kept; returns what stops it."""
        self._listeners.add(listener)
        return lambda: self._listeners.discard(listener)

    def tell(self, session_id: str, document: Document) -> None:
        """Tell the listeners that a session has changed, and to what, so that sound never waits for the database.

        Called while the database is held, so that they hear of changes in the order they were kept.
        """
        for listener in list(self._listeners):
            listener(session_id, document)

    def close(self) -> None:
        """Close the database."""
        with self._lock:
            self._connection.close()
        with self._read_lock:
            self._reader.close()
