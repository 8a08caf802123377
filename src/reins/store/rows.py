"""All rows of a session as plain values, out and in: what is set aside can be put back as it was."""

import re
import sqlite3
from typing import Any

from reins.errors import NotFoundError
from reins.store.database import transaction

# In the order in which they may be put back, each with the column that names the session.
TABLES = (("sessions", "id"), ("takes", "session_id"), ("steps", "session_id"))
NEWEST = """
SELECT max(at) FROM (
  SELECT max(changed_at) AS at FROM sessions UNION ALL SELECT max(deleted_at) FROM sessions
  UNION ALL SELECT max(made_at) FROM steps)
"""


def newest_change(db: sqlite3.Connection) -> str | None:
    """When something was last changed in the database."""
    (at,) = db.execute(NEWEST).fetchone()
    return None if at is None else str(at)


def of_session(db: sqlite3.Connection, session_id: str) -> dict[str, list[dict[str, Any]]]:
    """By table the rows of a session, deleted or not; NotFoundError where there is none of this id."""
    found = {
        table: [dict(row) for row in db.execute(f"SELECT * FROM {table} WHERE {own} = ?", [session_id])]
        for table, own in TABLES
    }
    if not found["sessions"]:
        raise NotFoundError("session", session_id)
    return found


def put(db: sqlite3.Connection, rows: dict[str, list[dict[str, Any]]]) -> None:
    """Put a session's rows back, not deleted; sqlite3.IntegrityError where one of its id is there."""
    with transaction(db):
        for table, _ in TABLES:
            for row in rows[table]:
                columns = [column for column in row if re.fullmatch(r"\w+", column)]
                values = [None if column == "deleted_at" else row[column] for column in columns]
                places = ", ".join("?" * len(columns))
                db.execute(f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({places})", values)
