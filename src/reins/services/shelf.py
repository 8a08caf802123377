"""The shelf: sessions as cards; deleting, bringing back and duplicating them; what was found in the data folder."""

import functools
import json
import os
import shutil
from contextlib import suppress
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from reins.core.newtakes import on_new_takes
from reins.core.routing import key_names
from reins.core.sessions import Document, Track, new_id
from reins.core.settings.fields import recordings
from reins.core.takes import Take, digest_of
from reins.core.units import format_length
from reins.errors import ConflictError, NotFoundError, StorageError
from reins.services.aiming import chain_of
from reins.services.bringing_in import new_takes
from reins.services.editing import document_of, frames_of, keep_session
from reins.services.expiring import KEPT_DAYS, is_session, restore
from reins.services.house import House
from reins.store import lost
from reins.store import sessions as store
from reins.store.takes import list_takes


def list_shelf(house: House) -> list[dict[str, Any]]:
    """The sessions as cards: id, name, names of tracks, length, steps and last change as text; of one that cannot be
    read id, name, last change and `problem`.
    """
    with house.reading() as db:
        rows = store.list_cards(db)
    found = []
    for row in rows:
        with suppress(NotFoundError):  # deleted meanwhile
            found.append(_with_card(house, row))
    return found


def _with_card(house: House, row: dict[str, Any]) -> dict[str, Any]:
    """The card of a session; its document is read only where it has changed since that was looked at last."""
    told: dict[str, Any] = {"id": row["id"], "steps": row["step"], "changed": _when(row["changed_at"]), "problem": None}
    if row["card"] is not None:
        return told | json.loads(row["card"])
    with house.reading() as db:
        stored, takes = store.stored_or_not(db, row["id"]), list_takes(db, row["id"])
    if isinstance(stored, store.Unreadable):
        return told | {"name": stored.name, "problem": stored.why}
    document = stored.document
    seconds = frames_of(document, takes) / document.sample_rate
    card = {
        "name": document.name, "tracks": [document.tracks[k].name for k in document.order],
        "length": format_length(seconds),
    }  # fmt: skip
    with suppress(StorageError), house.database() as db:  # a disk that takes nothing keeps nobody from looking
        store.keep_card(db, row, json.dumps(card, ensure_ascii=False))
    return told | card


def takes_and_chains(house: House) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """What lies on the shelf for a batch: sessions with their tracks that have takes, by name and id; and the chains of
    strips that need nothing else, each as a chain file's text, reins left out.
    """
    with house.reading() as db:
        stored = [one for one in store.list_sessions(db) if not isinstance(one, store.Unreadable)]
    takes, chains = [], []
    for one in stored:
        document = one.document
        tracks = [(k, document.tracks[k]) for k in document.order]
        own = [{"id": k, "name": track.name} for k, track in tracks if track.take_id is not None]
        takes.append({"id": one.id, "name": document.name, "tracks": own})
        for strip_id in (*document.order, *document.bus_order):
            strip = document.strip(strip_id)
            leans = any(recordings(entry.settings) or key_names(entry) for entry in strip.chain)
            if strip.chain and not leans:
                text = json.dumps(chain_of(strip.chain, None), ensure_ascii=False)
                chains.append({"name": f"{strip.name} · {document.name}", "text": text})
    return takes, chains


def _when(at: str) -> str:
    return f"{at[:16].replace('T', ' at ')} UTC"


def list_deleted(house: House) -> list[dict[str, Any]]:
    """Deleted sessions: id, name, when they were deleted and until when they can be brought back, as text."""
    with house.reading() as db:
        rows = store.list_deleted(db)
    return [{**row, "deleted": _when(row["deleted_at"]), "until": _last_day(row["deleted_at"])} for row in rows]


def _last_day(deleted_at: str) -> str:
    return f"{datetime.fromisoformat(deleted_at) + timedelta(days=KEPT_DAYS):%Y-%m-%d}"


def delete_session(house: House, session_id: str) -> None:
    """Put a session into the recycle place, where it stays for KEPT_DAYS."""
    with house.database() as db:
        store.delete_session(db, session_id)


def bring_back(house: House, session_id: str) -> None:
    """Take a session out of the recycle place."""
    with house.database() as db:
        store.bring_back_session(db, session_id)


def forget_session(house: House, session_id: str) -> None:
    """Delete a session in the recycle place for good, its recordings too; what was deleted cannot be brought back."""
    with house.database() as db:
        takes = store.forget_session(db, session_id)
    for take_id in takes:  # a folder that stays behind is set aside at the next start
        shutil.rmtree(house.takes_dir / take_id, ignore_errors=True)


def duplicate_session(house: House, session_id: str) -> str:
    """Keep a copy of a session, with recordings of its own, as a new session; returns its id."""
    document = document_of(house, session_id)
    with house.reading() as db:
        kept = list_takes(db, session_id)
    used = [track.take_id for track in document.tracks.values() if track.take_id in kept]
    ids: dict[str, str] = {}
    rows = []
    try:
        with new_takes(house) as takes:
            for take_id in dict.fromkeys([*used, *document.beside]):
                ids[take_id] = takes.add(functools.partial(_copy_files, house.takes_dir / take_id))
                rows.append((ids[take_id], kept[take_id]["name"], house.take(take_id).facts))
            takes.move_in()
            copy = on_new_takes(document, ids).model_copy(update={"name": f"{document.name[:75]} copy"})
            return keep_session(house, copy, rows)
    except OSError as error:
        raise StorageError(f"The disk refused ({error.strerror}); nothing was added.") from error


def _copy_files(source: Path, target: Path) -> None:
    """A copy of a recording's folder; its files never change, so they are linked where the disk allows that."""
    target.mkdir()
    for file in source.iterdir():
        try:
            os.link(file, target / file.name)
        except OSError:
            shutil.copy2(file, target / file.name)


def list_lost(house: House) -> list[dict[str, Any]]:
    """What was set aside: name, was, why, at, and whether it is a recording, or a session,
    that can be brought back.
    """
    folder = house.folder.lost_dir
    return [
        {
            **row,
            "at": _when(row["at"]),
            "recording": _length_of(folder / row["name"]),
            "session": is_session(folder / row["name"]),
        }
        for row in lost.list_lost(folder)
    ]


def _length_of(path: Path) -> str | None:
    try:
        facts = Take(path).facts
    except StorageError:
        return None
    return format_length(facts.frames / facts.sample_rate)


def restore_lost(house: House, name: str) -> str:
    """Bring back a session that was due, or make one of a recording that was set aside; returns its id. ConflictError
    for anything else.
    """
    path = lost.find_lost(house.folder.lost_dir, name)
    if is_session(path):
        return restore(house, name)
    if _length_of(path) is None:
        raise ConflictError(f"“{name}” is no whole recording; it lies in the folder lost/ of the data folder.")
    facts = Take(path).facts
    take_id, title = new_id(), f"Found {name}"[:80]
    track = Track(name=title, take_id=take_id)
    document = Document(name=title, sample_rate=facts.sample_rate, tracks={"t": track}, order=["t"])
    whole = type(facts)(facts.channels, facts.sample_rate, facts.frames, digest_of(path))
    path.rename(house.takes_dir / take_id)
    return keep_session(house, document, [(take_id, title, whole)])


def forget_lost(house: House, name: str) -> None:
    """Delete something that was set aside."""
    lost.forget_lost(house.folder.lost_dir, name)


def raw_session(house: House, session_id: str) -> str:
    """The document of a session exactly as it is kept, readable or not, as a session file's JSON."""
    with house.reading() as db:
        text, takes = store.raw_document(db, session_id), list_takes(db, session_id)
    try:
        document = json.loads(text)
    except (ValueError, RecursionError):
        document = text
    rows = {take_id: {"name": row["name"], "file": f"takes/{take_id}.flac"} for take_id, row in takes.items()}
    return json.dumps({"format": "reins-session", "version": 1, "session": document, "takes": rows}, indent=2)
