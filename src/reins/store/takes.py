"""Takes: a row here, a folder of samples beside the database. A folder counts only while a row names it."""

import shutil
import sqlite3
from pathlib import Path
from typing import Any

from reins.core.sound import TakeFacts
from reins.errors import NotFoundError

INSERT = """
INSERT INTO takes (id, session_id, name, channels, sample_rate, frames)
VALUES (:id, :session_id, :name, :channels, :sample_rate, :frames)
"""
LIST = "SELECT id, name, channels, sample_rate, frames FROM takes WHERE session_id = :session_id"
GET = "SELECT id, session_id, name, channels, sample_rate, frames FROM takes WHERE id = :id"
IDS = "SELECT id FROM takes"


def add_take(db: sqlite3.Connection, take_id: str, session_id: str, name: str, facts: TakeFacts) -> None:
    """Keep a take's row; call within a transaction with whatever refers to it."""
    row = {"channels": facts.channels, "sample_rate": facts.sample_rate, "frames": facts.frames}
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


def sweep_folders(db: sqlite3.Connection, folder: Path) -> int:
    """Remove take folders that no row names (left by a process that was killed); returns how many."""
    known = {row["id"] for row in db.execute(IDS)}
    orphans = [path for path in folder.iterdir() if path.name not in known]
    for path in orphans:
        shutil.rmtree(path, ignore_errors=True)
    return len(orphans)
