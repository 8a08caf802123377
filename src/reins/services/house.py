"""The house: one data folder with its database and takes, opened once per server, and what is told when it changes."""

import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from reins.core.impulses import Impulse, impulse_of, look_in
from reins.core.sessions import Document
from reins.core.takes import Take
from reins.errors import NotFoundError, StorageError
from reins.services.remembered import LoudnessBook
from reins.store.folder import DataFolder
from reins.store.sessions import Stored
from reins.store.takes import get_take

REFERENCE = "reference"  # its place among what is wrong
MOST_IMPULSES = 16  # at hand; each may be twenty seconds long, worked out as well
Listener = Callable[[str, Document, int], None]  # a session, what is kept of it, and the step it stands at


class House:
    """Database and take folders of one data directory. One connection writes, under a lock, as SQLite has
    one writer; one reads.
    """

    def __init__(self, data_dir: Path, folder: DataFolder | None = None) -> None:
        self.folder = folder or DataFolder(data_dir)
        self.takes_dir, self.passing_dir = self.folder.takes_dir, self.folder.passing_dir
        self._lock, self._read_lock = threading.RLock(), threading.Lock()
        self.bringing = threading.Lock()  # locked while a file is brought in
        self.swelling: set[tuple[str, int]] = set()  # files, by name and size, of which it was said what they will take
        self._takes: dict[str, Take] = {}
        self._listeners: set[Listener] = set()
        self.loudness = LoudnessBook()
        self._impulses: dict[str, Impulse] = {}
        self._find_no_more = look_in(self._impulse)

    @contextmanager
    def database(self) -> Iterator[sqlite3.Connection]:
        """The connection, for one caller at a time; StorageError when the disk or the database refuses."""
        with self._lock, _told():
            yield self.folder.writer

    @contextmanager
    def reading(self) -> Iterator[sqlite3.Connection]:
        """A connection for reading: what is looked at never waits for a disk that is busy keeping a change."""
        with self._read_lock, _told():
            yield self.folder.reader

    def passing_folder(self) -> Path:
        """A fresh folder for a file on its way in or out; StorageError when the disk refuses."""
        return self.folder.passing_folder()

    def take(self, take_id: str) -> Take:
        """An open take, or NotFoundError. One that is open already is given without waiting for the database."""
        known = self._takes.get(take_id)
        if known is not None:
            return known
        with self._lock:
            if take_id not in self._takes:
                get_take(self.folder.writer, take_id)
                self._takes[take_id] = Take(self.takes_dir / take_id)
            return self._takes[take_id]

    def _impulse(self, name: str) -> Impulse | None:
        """A take as a room's response; None for one that is not there."""
        if name not in self._impulses:
            try:
                take = self.take(name)
                found = impulse_of(take)
            except (StorageError, NotFoundError):
                return None
            while len(self._impulses) >= MOST_IMPULSES:
                del self._impulses[next(iter(self._impulses))]  # the oldest; it is read again when it is asked for
            self._impulses[name] = found
            return found
        return self._impulses[name]

    def takes(self, document: Document) -> dict[str, Take]:
        """The open takes of a document's tracks, by id; StorageError names a track whose recording is not as kept."""
        found, problems = self.takes_there(document)
        for what, problem in problems.items():
            if what != REFERENCE:  # what is only compared with keeps nobody from working
                raise StorageError(problem)
        return found

    def takes_there(self, document: Document) -> tuple[dict[str, Take], dict[str, str]]:
        """The open takes of a document's tracks, by id, and by track what is wrong with those that cannot be opened."""
        found, problems = {}, {}
        for track_id, track in document.tracks.items():
            if track.take_id is not None and track.take_id not in found:
                try:
                    found[track.take_id] = self.take(track.take_id)
                except (StorageError, NotFoundError) as error:
                    problems[track_id] = f"{track.name}: {error}"
        if document.reference is not None:
            try:
                found[document.reference.take_id] = self.take(document.reference.take_id)
            except (StorageError, NotFoundError) as error:
                problems[REFERENCE] = f"The reference “{document.reference.name}”: {error}"
        return found, problems

    def listen(self, listener: Listener) -> Callable[[], None]:
        """Have `listener` called after each change of a session; returns what stops it."""
        self._listeners.add(listener)
        return lambda: self._listeners.discard(listener)

    def tell(self, stored: Stored) -> None:
        """Tell the listeners that a session has changed, and to what, so that sound never waits for the database.

        Called while the database is locked, so that they hear of changes in the order they were kept.
        """
        for listener in list(self._listeners):
            listener(stored.id, stored.document, stored.step)

    def close(self) -> None:
        """Close the data folder; what was kept is then whole in its files."""
        self._find_no_more()
        with self._lock, self._read_lock:
            self.folder.close()


@contextmanager
def _told() -> Iterator[None]:
    """Says what the database refuses as an error of ours."""
    try:
        yield
    except sqlite3.Error as error:
        raise StorageError(f"Nothing could be kept or read ({error}); what was kept before is untouched.") from error
