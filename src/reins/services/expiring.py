"""What is due in the recycle place: after KEPT_DAYS a session goes to lost/, whole, and from there after as many more.

Days are counted by the clock and by the newest change in the database: a clock that was wrong at one start must not
take away what nobody could have missed.
"""

import json
import sqlite3
from contextlib import suppress
from datetime import datetime, timedelta
from pathlib import Path

from reins.errors import ConflictError, StorageError
from reins.services.exporting import safe_file
from reins.services.house import House
from reins.store import lost, rows
from reins.store import sessions as store
from reins.store.folder import write_synced

KEPT_DAYS = 30
ROWS, TAKES = "rows.json", "takes"
WHY = f"It was deleted {KEPT_DAYS} days ago. In {KEPT_DAYS} more it goes for good."


def forget_old(house: House) -> None:
    """Set aside what was deleted KEPT_DAYS ago, and forget what was set aside for that KEPT_DAYS ago."""
    with house.reading() as db:
        newest, deleted = rows.newest_change(db), store.list_deleted(db)
    if newest is None:
        return
    now = min(datetime.now().astimezone(), datetime.fromisoformat(newest))
    due = now - timedelta(days=KEPT_DAYS)
    for row in lost.list_lost(house.folder.lost_dir):
        if is_session(house.folder.lost_dir / row["name"]) and datetime.fromisoformat(row["at"]) < due:
            lost.forget_lost(house.folder.lost_dir, row["name"])
    for row in deleted:
        if datetime.fromisoformat(row["deleted_at"]) < due:
            _set_aside(house, row["id"])


def is_session(path: Path) -> bool:
    """Whether something set aside is a session that was due."""
    return (path / ROWS).is_file()


def _set_aside(house: House, session_id: str) -> None:
    """Move a deleted session to lost/: its rows first, so that at no moment it is nowhere."""
    kept = house.passing_folder()
    with house.reading() as db:
        told = rows.of_session(db, session_id)
    write_synced(kept / ROWS, json.dumps(told, ensure_ascii=False))
    (kept / TAKES).mkdir()
    called = store.name_of(told["sessions"][0]["document"])
    name = lost.set_aside(house.folder.lost_dir, kept, WHY, was="the recycle place", name=safe_file(called))
    with house.database() as db:
        takes = store.forget_session(db, session_id)
    for take_id in takes:  # one that stays behind is set aside by itself at the next start
        with suppress(OSError):
            (house.takes_dir / take_id).rename(house.folder.lost_dir / name / TAKES / take_id)


def restore(house: House, name: str) -> str:
    """Bring a session back that was due; returns its id. ConflictError where its recordings are not all to be found, or
    it is there already.
    """
    place = lost.find_lost(house.folder.lost_dir, name)
    try:
        told = json.loads((place / ROWS).read_text(encoding="utf-8"))
        session_id = str(told["sessions"][0]["id"])
        ids = [str(row["id"]) for row in told["takes"]]
    except (OSError, ValueError, LookupError, TypeError) as error:
        raise ConflictError(
            f"“{name}” cannot be read any more; it lies in the folder lost/ of the data folder."
        ) from error
    found = {k: next((p for p in (place / TAKES / k, place.parent / k) if p.is_dir()), None) for k in ids}
    missing = [k for k, path in found.items() if path is None]
    if missing:
        raise ConflictError(f"“{name}”: {len(missing)} of its recordings are not in lost/; put them back there.")
    moved: list[tuple[Path, Path]] = []
    try:
        for take_id, path in found.items():
            assert path is not None
            path.rename(house.takes_dir / take_id)
            moved.append((path, house.takes_dir / take_id))
        with house.database() as db:
            rows.put(db, told)
    except (OSError, sqlite3.Error) as error:
        for was, now in moved:
            now.rename(was)
        if isinstance(error, sqlite3.IntegrityError):
            raise ConflictError(f"“{name}”: there is a session of this id already.") from error
        raise StorageError(f"The disk refused ({error}); nothing was changed.") from error
    lost.forget_lost(house.folder.lost_dir, name)
    return session_id
