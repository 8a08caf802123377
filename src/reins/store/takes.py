"""Takes: a row here, a folder of samples beside the database. A folder counts only while a row names it."""

import sqlite3
from typing import Any

from reins.core.sound import TakeFacts
from reins.errors import NotFoundError

INSERT = """
INSERT INTO takes (id, session_id, name, channels, sample_rate, frames, sha256)
VALUES (:id, :session_id, :name, :channels, :sample_rate, :frames, :sha256)
"""
LIST = "SELECT id, name, channels, sample_rate, frames FROM takes WHERE session_id = :session_id"
GET = "SELECT id, session_id, name, channels, sample_rate, frames FROM takes WHERE id = :id"
IDS = "SELECT id FROM takes"
ALL = """
SELECT takes.id, takes.name, takes.sha256, takes.session_id, takes.channels, takes.sample_rate, takes.frames
FROM takes ORDER BY takes.session_id, takes.id
"""
SET_SHA256 = "UPDATE takes SET sha256 = :sha256 WHERE id = :id"


def add_take(db: sqlite3.Connection, take_id: str, session_id: str, name: str, facts: TakeFacts) -> None:
    """Keep a take's row; call within a transaction with whatever refers to it."""
    row: dict[str, Any] = {"channels": facts.channels, "sample_rate": facts.sample_rate, "frames": facts.frames}
    row["sha256"] = facts.sha256 or None
    db.execute(INSERT, {"id": take_id, "session_id": session_id, "name": name, **row})


def list_takes(db: sqlite3.Connection, session_id: str) -> dict[str, dict[str, Any]]:
    """Facts of every take of a session, by id."""
    return {row["id"]: dict(row) for row in db.execute(LIST, {"session_id": session_id})}


def get_take(db: sqlite3.Connection, take_id: str) -> dict[str, Any]:
    """Facts of a take, or NotFoundError."""
    row = db.execute(GET, {"id": take_id}).fetchone()
    if row is None:
        raise NotFoundError("take", take_id)
    return dict(row)


def take_ids(db: sqlite3.Connection) -> set[str]:
    """The ids of all takes."""
    return {row["id"] for row in db.execute(IDS)}


def all_takes(db: sqlite3.Connection) -> list[dict[str, Any]]:
    """Id, name, checksum (None where there is none yet), session and facts of every take."""
    return [dict(row) for row in db.execute(ALL)]


def keep_sha256(db: sqlite3.Connection, take_id: str, sha256: str) -> None:
    """Note the checksum of a take that had none."""
    db.execute(SET_SHA256, {"id": take_id, "sha256": sha256})
