"""Sessions and their numbered steps. A step keeps what the changed parts were and what they became."""

import json
import sqlite3
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from reins.core.sessions import Document, parse_document
from reins.errors import NotFoundError
from reins.store.database import transaction

INSERT = """
INSERT INTO sessions (id, document, step, created_at, changed_at) VALUES (:id, :document, 0, :now, :now)
"""
LIST = "SELECT id, document, step, changed_at FROM sessions ORDER BY changed_at DESC, id"
GET = "SELECT id, document, step, changed_at FROM sessions WHERE id = :id"
UPDATE = "UPDATE sessions SET document = :document, step = :step, changed_at = :now WHERE id = :id"
FORGET_UNDONE = "DELETE FROM steps WHERE session_id = :id AND number > :step"
INSERT_STEP = """
INSERT INTO steps (session_id, number, label, before, after, made_at)
VALUES (:id, :number, :label, :before, :after, :now)
"""
GET_STEP = "SELECT label, before, after FROM steps WHERE session_id = :id AND number = :number"
LIST_STEPS = "SELECT number, label, made_at FROM steps WHERE session_id = :id ORDER BY number"


@dataclass(frozen=True)
class Stored:
    """A session as kept: document, the number of its newest step in force, and when it last changed."""

    id: str
    document: Document
    step: int
    changed_at: str


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def _stored(row: sqlite3.Row) -> Stored:
    return Stored(row["id"], parse_document(row["document"]), row["step"], row["changed_at"])


def add_session(db: sqlite3.Connection, session_id: str, document: Document) -> None:
    """Keep a new session at step 0."""
    with transaction(db):
        db.execute(INSERT, {"id": session_id, "document": document.model_dump_json(), "now": _now()})


def list_sessions(db: sqlite3.Connection) -> list[Stored]:
    """Every session, last changed first."""
    return [_stored(row) for row in db.execute(LIST)]


def get_session(db: sqlite3.Connection, session_id: str) -> Stored:
    """A session, or NotFoundError."""
    row = db.execute(GET, {"id": session_id}).fetchone()
    if row is None:
        raise NotFoundError("session", session_id)
    return _stored(row)


def list_steps(db: sqlite3.Connection, session_id: str) -> list[dict[str, Any]]:
    """number, label and made_at of every step, undone ones included."""
    return [dict(row) for row in db.execute(LIST_STEPS, {"id": session_id})]


def keep_step(db: sqlite3.Connection, session_id: str, change: Any) -> tuple[Stored, str]:
    """Apply a change and keep it as the next step, in one transaction; returns what is kept now, and the label.

    A change that alters nothing makes no step. Steps undone before are forgotten.
    """
    with transaction(db):
        old = get_session(db, session_id)
        document, label = change.apply(old.document)
        if document == old.document:
            return old, label
        before, after = difference(old.document.model_dump(), document.model_dump())
        db.execute(FORGET_UNDONE, {"id": session_id, "step": old.step})
        db.execute(
            INSERT_STEP,
            {
                "id": session_id, "number": old.step + 1, "label": label, "before": json.dumps(before),
                "after": json.dumps(after), "now": _now(),
            },
        )  # fmt: skip
        return _update(db, session_id, document, old.step + 1), label


def _update(db: sqlite3.Connection, session_id: str, document: Document, step: int) -> Stored:
    db.execute(UPDATE, {"id": session_id, "document": document.model_dump_json(), "step": step, "now": _now()})
    return get_session(db, session_id)


def undo(db: sqlite3.Connection, session_id: str) -> tuple[Stored, str | None]:
    """Go back one step; returns what is kept now, and the label undone (None at the beginning)."""
    with transaction(db):
        old = get_session(db, session_id)
        row = db.execute(GET_STEP, {"id": session_id, "number": old.step}).fetchone()
        if row is None:
            return old, None
        document = _patched(old.document, row["before"])
        return _update(db, session_id, document, old.step - 1), row["label"]


def redo(db: sqlite3.Connection, session_id: str) -> tuple[Stored, str | None]:
    """Go forward one step; returns what is kept now, and the label redone (None at the end)."""
    with transaction(db):
        old = get_session(db, session_id)
        row = db.execute(GET_STEP, {"id": session_id, "number": old.step + 1}).fetchone()
        if row is None:
            return old, None
        document = _patched(old.document, row["after"])
        return _update(db, session_id, document, old.step + 1), row["label"]


def go_to_step(db: sqlite3.Connection, session_id: str, number: int) -> tuple[Stored, str | None]:
    """Walk back or forth to a step, in one transaction; returns what is kept now, and that step's label."""
    with transaction(db):
        numbers = {0, *(step["number"] for step in list_steps(db, session_id))}
        stored = get_session(db, session_id)
        if number not in numbers:
            raise NotFoundError("step", str(number))
        label: str | None = None
        while stored.step != number:
            stored, label = undo(db, session_id) if stored.step > number else redo(db, session_id)
        return stored, label


def _patched(document: Document, patch: str) -> Document:
    return parse_document(json.dumps(merge(document.model_dump(), json.loads(patch))))


ABSENT = {"absent": True}  # marks, in a patch, a name that is not there


def difference(before: dict[str, Any], after: dict[str, Any]) -> tuple[dict[str, Any], dict[str, Any]]:
    """Two patches that turn `after` into `before` and back; dicts are compared by name, all else whole."""
    back: dict[str, Any] = {}
    forth: dict[str, Any] = {}
    for name in before.keys() | after.keys():
        old, new = before.get(name, ABSENT), after.get(name, ABSENT)
        if old == new:
            continue
        if isinstance(old, dict) and isinstance(new, dict) and ABSENT not in (old, new):
            back[name], forth[name] = difference(old, new)
        else:
            back[name], forth[name] = ({"is": v} if v is not ABSENT else ABSENT for v in (old, new))
    return back, forth


def merge(values: dict[str, Any], patch: dict[str, Any]) -> dict[str, Any]:
    """`values` with a patch of `difference` applied."""
    merged = dict(values)
    for name, part in patch.items():
        if part == ABSENT:
            merged.pop(name, None)
        elif set(part) == {"is"}:
            merged[name] = part["is"]
        else:
            merged[name] = merge(merged[name], part)
    return merged
