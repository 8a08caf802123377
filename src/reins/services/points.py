"""A person's own starting points, of a processor or a whole chain: kept beside the shipped ones, out and in as chain
files.
"""

import json
from typing import Any

from reins.core.chainfile import parse_chain, parse_settings
from reins.core.processors import PROCESSORS
from reins.core.processors.sidechain import with_sources
from reins.core.routing import BEFORE
from reins.core.sessions import new_id
from reins.core.settings.fields import recordings
from reins.errors import ConflictError, InputError, NotFoundError
from reins.services.editing import document_of
from reins.services.exporting import safe_name
from reins.services.house import House
from reins.store import points as store
from reins.store.database import transaction

MAX_FILE_BYTES = 1 << 20
CHAIN = "chain"  # in the place of a processor's type


def own_points(house: House) -> list[dict[str, Any]]:
    """id, type, name and settings of each, by type and name."""
    with house.reading() as db:
        return store.list_points(db)


def keep_point(house: House, kind: str, name: str, settings: dict[str, Any]) -> None:
    """Keep settings under a name; one of the same type and name is replaced. InputError for what is not allowed."""
    with house.database() as db, transaction(db):
        _keep(db, kind, name, settings)


def keep_chain(house: House, session_id: str, strip_id: str, name: str) -> None:
    """Keep a strip's whole chain under a name, to be laid on any other; one of the same name is replaced. ConflictError
    where there is nothing in it, or a room that sounds by a recording of this session's.
    """
    strip = document_of(house, session_id).strip(strip_id)
    if not strip.chain:
        raise ConflictError(f"{strip.name}: there is nothing in its chain to keep; add a processor first.")
    if any(recordings(entry.settings) for entry in strip.chain):
        raise ConflictError(
            f"{strip.name}: a room sounds by a recording of this session alone; choose one that is made."
        )
    processors = [
        {"id": entry.id, "type": entry.type, "on": entry.on, "tied": entry.tied, "settings": _anywhere(entry.settings)}
        for entry in strip.chain
    ]
    with house.database() as db, transaction(db):
        store.keep_point(db, new_id(), CHAIN, _checked_name(name), {"processors": processors})


def _keep(db: Any, kind: str, name: str, settings: dict[str, Any]) -> None:
    name = _checked_name(name)
    if kind not in PROCESSORS:
        raise InputError(f"There is no processor type “{kind}”; allowed: {', '.join(PROCESSORS)}.")
    store.keep_point(db, new_id(), kind, name, _anywhere(parse_settings(kind, settings, name)))


def _checked_name(name: str) -> str:
    name = name.strip()
    if not 1 <= len(name) <= 80:
        raise InputError("The name is empty or too long; 1 to 80 characters are allowed.")
    return name


def _anywhere(settings: Any) -> dict[str, Any]:
    """Plain settings that hear themselves: another session does not know this one's tracks."""
    plain: dict[str, Any] = with_sources(settings, lambda name: name if name == BEFORE else "self").model_dump()
    return plain


def remove_point(house: House, point_id: str) -> None:
    """Forget one, or NotFoundError."""
    with house.database() as db:
        store.remove_point(db, point_id)


def chain_file(house: House, point_id: str) -> tuple[str, str]:
    """(file name, text) of a starting point as a chain file with one processor."""
    point = next((p for p in own_points(house) if p["id"] == point_id), None)
    if point is None:
        raise NotFoundError("starting point", point_id)
    one = [{"type": point["type"], "on": True, "settings": point["settings"]}]
    processors = point["settings"]["processors"] if point["type"] == CHAIN else one
    text = json.dumps({"format": "reins-chain", "version": 1, "processors": processors}, indent=2)
    return f"{safe_name(point['name'])}.json", text


def read_chain_file(house: House, raw: bytes, name: str) -> None:
    """Keep every processor of a chain file under the file's name, numbered where there are several."""
    if len(raw) > MAX_FILE_BYTES:
        raise InputError(f"{name}: it is too large; allowed: up to {MAX_FILE_BYTES >> 20} MiB.")
    try:
        text = raw.decode("utf-8")
    except UnicodeDecodeError as error:
        raise InputError(f"{name}: cannot be read as text; a chain file is JSON.") from error
    entries = parse_chain(text, name).entries
    stem = name.rsplit(".", 1)[0][:70] or "chain"
    with house.database() as db, transaction(db):
        for index, entry in enumerate(entries, 1):
            title = stem if len(entries) == 1 else f"{stem} {index}"
            _keep(db, entry.type, title, entry.settings.model_dump())
