"""Sessions and their numbered steps. A step keeps what the changed parts were and what they became.

Steps form a tree: each names the one it followed (parent). The line one is on leads from the beginning to the
session's tip; undo and redo walk along it. A change made after undoing starts another line, and the old one stays.
"""

import json
import sqlite3
import threading
from collections import OrderedDict
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from reins.core.checking import checked
from reins.core.limits import MAX_DOCUMENT_LETTERS
from reins.core.routing import in_order
from reins.core.sessions import Document, parse_document
from reins.errors import NotFoundError, SettingsError
from reins.store.database import transaction
from reins.store.patches import difference, patched
from reins.store.takes import list_takes

MOST_LETTERS = 8 << 20  # of documents that are remembered as they were read

INSERT = """
INSERT INTO sessions (id, document, step, tip, created_at, changed_at) VALUES (:id, :document, 0, 0, :now, :now)
"""
LIST = """
SELECT id, document, step, tip, changed_at FROM sessions WHERE deleted_at IS NULL ORDER BY changed_at DESC, id
"""
LIST_DELETED = """
SELECT id, deleted_at, CASE WHEN json_valid(document) THEN json_extract(document, '$.name') END AS name
FROM sessions WHERE deleted_at IS NOT NULL ORDER BY deleted_at DESC, id
"""
EXISTS = "SELECT 1 FROM sessions WHERE id = :id"
RAW = "SELECT document FROM sessions WHERE id = :id"
SET_DELETED = "UPDATE sessions SET deleted_at = :at WHERE id = :id"
FORGET = "DELETE FROM sessions WHERE id = :id"
GET = "SELECT id, document, step, tip, changed_at FROM sessions WHERE id = :id AND deleted_at IS NULL"
UPDATE = """
UPDATE sessions SET document = :document, step = :step, tip = :tip, changed_at = :now, card = NULL WHERE id = :id
"""
CARDS = """
SELECT id, card, step, changed_at FROM sessions WHERE deleted_at IS NULL ORDER BY changed_at DESC, id
"""
SET_CARD = "UPDATE sessions SET card = :card WHERE id = :id AND step = :step AND changed_at = :changed_at"
INSERT_STEP = """
INSERT INTO steps (session_id, number, parent, label, before, after, made_at)
VALUES (:id, (SELECT coalesce(max(number), 0) + 1 FROM steps WHERE session_id = :id), :parent, :label, :before, :after,
  :now)
RETURNING number
"""
GET_STEP = "SELECT label, parent, before, after FROM steps WHERE session_id = :id AND number = :number"
LIST_STEPS = "SELECT number, parent, label, made_at FROM steps WHERE session_id = :id ORDER BY number"
LINE = """
WITH RECURSIVE line (number, parent) AS (
  SELECT number, parent FROM steps WHERE session_id = :id AND number = :number
  UNION ALL SELECT steps.number, steps.parent FROM steps JOIN line ON steps.number = line.parent
  WHERE steps.session_id = :id
)
SELECT number FROM line ORDER BY number DESC
"""


@dataclass(frozen=True)
class Stored:
    """A session as kept: document, the number of its newest step in force, the end of the line that is on, and when
    it last changed.
    """

    id: str
    document: Document
    step: int
    tip: int
    changed_at: str


@dataclass(frozen=True)
class Unreadable:
    """A session whose document is not allowed (any more): its id, its name as far as it can be told, what is wrong."""

    id: str
    name: str
    changed_at: str
    why: str


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


class _Read:
    """Documents read lately, by their text: nobody changes one, and to check a large one takes a good deal of a second,
    at every look at the shelf.
    """

    def __init__(self, most_letters: int) -> None:
        self._most, self._lock = most_letters, threading.Lock()
        self._known: OrderedDict[str, Document | SettingsError] = OrderedDict()
        self._letters = 0

    def get(self, text: str) -> Document:
        """The document of a text; SettingsError for what is none."""
        with self._lock:
            known = self._known.get(text)
            if known is not None:
                self._known.move_to_end(text)
        if known is None:
            try:
                known = parse_document(text)
            except SettingsError as error:
                known = error
            self.put(text, known)
        if isinstance(known, SettingsError):
            raise SettingsError(str(known))
        return known

    def put(self, text: str, document: Document | SettingsError) -> None:
        """Remember a document, or why it is none; those not looked at for longest give way."""
        with self._lock:
            if text not in self._known:
                self._known[text] = document
                self._letters += len(text)
            while self._letters > self._most and len(self._known) > 1:
                self._letters -= len(self._known.popitem(last=False)[0])


_read = _Read(MOST_LETTERS)


def _stored(row: sqlite3.Row) -> Stored:
    return Stored(row["id"], _read.get(row["document"]), row["step"], row["tip"], row["changed_at"])


def add_session(db: sqlite3.Connection, session_id: str, document: Document) -> None:
    """Keep a new session at step 0."""
    with transaction(db):
        db.execute(INSERT, {"id": session_id, "document": document.model_dump_json(), "now": _now()})


def list_sessions(db: sqlite3.Connection) -> list[Stored | Unreadable]:
    """Every session that is not deleted, last changed first."""
    return [_stored_or_not(row) for row in db.execute(LIST)]


def stored_or_not(db: sqlite3.Connection, session_id: str) -> Stored | Unreadable:
    """A session that is not deleted, readable or not; or NotFoundError."""
    row = db.execute(GET, {"id": session_id}).fetchone()
    if row is None:
        raise NotFoundError("session", session_id)
    return _stored_or_not(row)


def _stored_or_not(row: sqlite3.Row) -> Stored | Unreadable:
    try:
        return _stored(row)
    except SettingsError as error:
        return Unreadable(row["id"], name_of(row["document"]), row["changed_at"], str(error))


def name_of(text: str) -> str:
    """The name of a session, as far as it can be told."""
    try:
        return str(json.loads(text)["name"])[:80]
    except (ValueError, LookupError, TypeError, RecursionError):
        return "A session"


def list_cards(db: sqlite3.Connection) -> list[dict[str, Any]]:
    """id, card, step and changed_at of every session that is not deleted, last changed first; the card, what the shelf
    shows of it, is None where the session has changed since.
    """
    return [dict(row) for row in db.execute(CARDS)]


def keep_card(db: sqlite3.Connection, row: dict[str, Any], card: str) -> None:
    """Remember what the shelf shows of a session, unless it has changed since the row was read."""
    db.execute(SET_CARD, {**row, "card": card})


def session_exists(db: sqlite3.Connection, session_id: str) -> bool:
    """Whether there is a session of this id, deleted ones included."""
    return db.execute(EXISTS, {"id": session_id}).fetchone() is not None


def raw_document(db: sqlite3.Connection, session_id: str) -> str:
    """A session's document as it is kept, readable or not; or NotFoundError."""
    row = db.execute(RAW, {"id": session_id}).fetchone()
    if row is None:
        raise NotFoundError("session", session_id)
    return str(row["document"])


def list_deleted(db: sqlite3.Connection) -> list[dict[str, Any]]:
    """id, name and deleted_at of every deleted session that can be brought back, the last one first."""
    return [
        {"id": row["id"], "name": str(row["name"] or "A session")[:80], "deleted_at": row["deleted_at"]}
        for row in db.execute(LIST_DELETED)
    ]


def delete_session(db: sqlite3.Connection, session_id: str) -> None:
    """Put a session into the recycle place; NotFoundError when there is none of this id."""
    _set_deleted(db, session_id, _now())


def bring_back_session(db: sqlite3.Connection, session_id: str) -> None:
    """Take a session out of the recycle place again."""
    _set_deleted(db, session_id, None)


def _set_deleted(db: sqlite3.Connection, session_id: str, at: str | None) -> None:
    with transaction(db):
        if db.execute(SET_DELETED, {"id": session_id, "at": at}).rowcount == 0:
            raise NotFoundError("session", session_id)


def forget_session(db: sqlite3.Connection, session_id: str) -> list[str]:
    """Delete a session in the recycle place for good, with its steps and takes' rows; returns the takes' ids."""
    with transaction(db):
        if session_id not in {row["id"] for row in list_deleted(db)}:
            raise NotFoundError("deleted session", session_id)
        takes = list(list_takes(db, session_id))
        db.execute(FORGET, {"id": session_id})
    return takes


def get_session(db: sqlite3.Connection, session_id: str) -> Stored:
    """A session, or NotFoundError."""
    row = db.execute(GET, {"id": session_id}).fetchone()
    if row is None:
        raise NotFoundError("session", session_id)
    return _stored(row)


def list_steps(db: sqlite3.Connection, session_id: str) -> list[dict[str, Any]]:
    """number, parent, label and made_at of every step, on whatever line."""
    return [dict(row) for row in db.execute(LIST_STEPS, {"id": session_id})]


def line_to(db: sqlite3.Connection, session_id: str, number: int) -> list[int]:
    """The steps from `number` back to the beginning, 0."""
    return [*(row["number"] for row in db.execute(LINE, {"id": session_id, "number": number})), 0]


def keep_step(db: sqlite3.Connection, session_id: str, change: Any) -> tuple[Stored, str]:
    """Apply a change and keep it as the next step, in one transaction; returns what is kept now, and the label.

    A change that alters nothing makes no step; one after which the sound would go in a circle is refused. Steps undone
    before stay, on a line of their own.
    """
    with transaction(db):
        old = get_session(db, session_id)
        document, label = change.apply(old.document)
        if document == old.document:
            return old, label
        document = checked(document, old.document)
        in_order(document)
        before, after = difference(old.document.model_dump(), document.model_dump())
        row = {
            "id": session_id, "parent": old.step, "label": label, "before": json.dumps(before),
            "after": json.dumps(after), "now": _now(),
        }  # fmt: skip
        number = db.execute(INSERT_STEP, row).fetchone()["number"]
        return _update(db, session_id, document, number, number), label


def _update(db: sqlite3.Connection, session_id: str, document: Document, step: int, tip: int) -> Stored:
    text, now = document.model_dump_json(), _now()
    if len(text) > MAX_DOCUMENT_LETTERS:
        raise SettingsError(
            f"The session would be {len(text) / 2**20:.1f} MiB without its recordings; allowed: up to "
            f"{MAX_DOCUMENT_LETTERS / 2**20:.2f}. Nothing was changed."
        )
    db.execute(UPDATE, {"id": session_id, "document": text, "step": step, "tip": tip, "now": now})
    _read.put(text, document)
    return Stored(session_id, document, step, tip, now)


def undo(db: sqlite3.Connection, session_id: str) -> tuple[Stored, str | None]:
    """Go back one step; returns what is kept now, and the label undone (None at the beginning)."""
    with transaction(db):
        old = get_session(db, session_id)
        row = db.execute(GET_STEP, {"id": session_id, "number": old.step}).fetchone()
        if row is None:
            return old, None
        document = _patched(old.document, row["before"])
        return _update(db, session_id, document, row["parent"], old.tip), row["label"]


def next_step(db: sqlite3.Connection, stored: Stored) -> int | None:
    """The step that redo would go to: the next on the line that is on."""
    line = line_to(db, stored.id, stored.tip)
    return line[line.index(stored.step) - 1] if stored.step in line and stored.step != line[0] else None


def redo(db: sqlite3.Connection, session_id: str) -> tuple[Stored, str | None]:
    """Go forward one step on the line that is on; returns what is kept now, and the label (None at its end)."""
    with transaction(db):
        old = get_session(db, session_id)
        number = next_step(db, old)
        if number is None:
            return old, None
        row = db.execute(GET_STEP, {"id": session_id, "number": number}).fetchone()
        document = _patched(old.document, row["after"])
        return _update(db, session_id, document, number, old.tip), row["label"]


def go_to_step(db: sqlite3.Connection, session_id: str, number: int) -> tuple[Stored, str | None]:
    """Walk to a step, on whatever line, in one transaction; returns what is kept now, and that step's label."""
    with transaction(db):
        goal = line_to(db, session_id, number)
        if number and number not in goal:
            raise NotFoundError("step", str(number))
        stored, label = get_session(db, session_id), None
        while stored.step not in goal:
            stored, label = undo(db, session_id)
        if number not in line_to(db, session_id, stored.tip):
            stored = _update(db, session_id, stored.document, stored.step, number)
        while stored.step != number:
            stored, label = redo(db, session_id) if stored.step < number else undo(db, session_id)
        return stored, label


def _patched(document: Document, patch: str) -> Document:
    """A document with a patch applied. Reins that it leaves alone are not read again: they may have many points."""
    plain = document.model_dump()
    made = patched(plain, json.loads(patch))
    left = [
        strip_id
        for place in ("tracks", "buses")
        for strip_id in plain[place].keys() & made[place].keys()
        if made[place][strip_id]["reins"] is plain[place][strip_id]["reins"]
    ]
    for place in ("tracks", "buses"):
        made[place] = {k: {**strip, "reins": []} if k in left else strip for k, strip in made[place].items()}
    read = parse_document(json.dumps(made))
    for strip_id in left:
        read = read.with_strip(strip_id, reins=document.strip(strip_id).reins)
    return checked(read, document)
