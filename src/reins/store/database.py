"""The SQLite file: connecting, transactions, numbered migrations."""

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from reins.errors import StorageError

MIGRATIONS = Path(__file__).parent / "migrations"


def unreadable(path: Path, error: Exception) -> StorageError:
    """What to say of a database that cannot be read."""
    return StorageError(
        f"{path}: the sessions cannot be read ({error}). `reins check` says more; put back a backup or a copy from "
        "copies/. Nothing was changed."
    )


def connect(path: Path) -> sqlite3.Connection:
    """A connection with foreign keys, WAL and a patient lock; raises StorageError when the file is no database."""
    try:
        connection = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        connection.row_factory = sqlite3.Row
        for pragma in ("foreign_keys = ON", "busy_timeout = 5000", "journal_mode = WAL", "synchronous = FULL"):
            connection.execute(f"PRAGMA {pragma}")
    except sqlite3.Error as error:
        raise unreadable(path, error) from error
    return connection


def version_of(connection: sqlite3.Connection) -> int:
    """The number of the migration that the schema has reached."""
    return int(connection.execute("PRAGMA user_version").fetchone()[0])


def copy_database(connection: sqlite3.Connection, path: Path) -> None:
    """Write a whole copy of a database, also while others use it; it appears under its name only when finished."""
    partial = path.with_name(f".{path.name}.partial")
    try:
        os.close(os.open(partial, os.O_CREAT | os.O_WRONLY, 0o600))
        copy = sqlite3.connect(partial)
        try:
            connection.backup(copy)
        finally:
            copy.close()
        partial.replace(path)
    except (OSError, sqlite3.Error) as error:
        raise StorageError(f"The sessions could not be copied to {path} ({error}); they are untouched.") from error
    finally:
        partial.unlink(missing_ok=True)


def migrate(connection: sqlite3.Connection, folder: Path = MIGRATIONS) -> int:
    """Bring the schema up to date; returns the version. A migration that fails is rolled back whole.

    Each file carries its own BEGIN, user_version and COMMIT, since executescript commits an open transaction first.
    """
    version = version_of(connection)
    for path in sorted(folder.glob("[0-9]*.sql")):
        number = int(path.name.split("_")[0])
        if number <= version:
            continue
        try:
            connection.executescript(path.read_text(encoding="utf-8"))
        except sqlite3.Error as error:
            if connection.in_transaction:
                connection.execute("ROLLBACK")
            raise StorageError(
                f"The sessions could not be brought to version {number} ({error}); they are as they were."
            ) from error
        version = number
    return version


@contextmanager
def transaction(connection: sqlite3.Connection) -> Iterator[None]:
    """BEGIN IMMEDIATE .. COMMIT, or ROLLBACK and the first error; a savepoint when nested."""
    nested = connection.in_transaction
    begin, keep, undo = (
        ("SAVEPOINT inner_step", "RELEASE inner_step", "ROLLBACK TO inner_step")
        if nested
        else ("BEGIN IMMEDIATE", "COMMIT", "ROLLBACK")
    )
    try:
        connection.execute(begin)
        try:
            yield
            connection.execute(keep)
        except BaseException:
            if connection.in_transaction:
                connection.execute(undo)
            raise
    except sqlite3.Error as error:
        raise StorageError(f"Nothing could be kept ({error}); what was kept before is untouched.") from error
