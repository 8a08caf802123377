"""A person's own starting points: settings of a processor under a name."""

import json
import sqlite3
from typing import Any

from reins.errors import NotFoundError
from reins.store.database import transaction

KEEP = """
INSERT INTO points (id, type, name, settings) VALUES (:id, :type, :name, :settings)
ON CONFLICT (type, name) DO UPDATE SET settings = excluded.settings
"""
LIST = "SELECT id, type, name, settings FROM points ORDER BY type, name"
REMOVE = "DELETE FROM points WHERE id = :id"


def keep_point(db: sqlite3.Connection, point_id: str, kind: str, name: str, settings: dict[str, Any]) -> None:
    """Keep a starting point; one of the same type and name is replaced."""
    db.execute(KEEP, {"id": point_id, "type": kind, "name": name, "settings": json.dumps(settings)})


def list_points(db: sqlite3.Connection) -> list[dict[str, Any]]:
    """id, type, name and settings of every starting point, by type and name."""
    return [{**dict(row), "settings": json.loads(row["settings"])} for row in db.execute(LIST)]


def remove_point(db: sqlite3.Connection, point_id: str) -> None:
    """Forget a starting point; NotFoundError when there is none of this id."""
    with transaction(db):
        if db.execute(REMOVE, {"id": point_id}).rowcount == 0:
            raise NotFoundError("starting point", point_id)
