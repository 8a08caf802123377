"""What is due in the recycle place: after KEPT_DAYS a session goes to lost/, whole, and from there after as many more.

Days are counted by the clock and by the newest change in the database: a clock that was wrong at one start must not
take away what nobody could have missed.
"""

import json
import logging
import re
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

from reins.errors import ConflictError, StorageError
from reins.services.exporting import safe_file
from reins.services.house import House
from reins.store import lost, rows
from reins.store import sessions as store
from reins.store.folder import write_synced

log = logging.getLogger(__name__)
KEPT_DAYS = 30
ROWS, TAKES = "rows.json", "takes"
WHY = f"It was deleted {KEPT_DAYS} days ago. In {KEPT_DAYS} more it goes for good."


def forget_old(house: House) -> None:
    """Set aside what was deleted KEPT_DAYS ago, and forget what was set aside for that KEPT_DAYS ago."""
    with house.reading() as db:
        newest, deleted = rows.newest_change(db), store.list_deleted(db)
    if newest is None:
        return
    try:
        for row in lost.list_lost(house.folder.lost_dir):
            if is_session(house.folder.lost_dir / row["name"]) and _is_due(row["at"], newest):
                lost.forget_lost(house.folder.lost_dir, row["name"])
        for row in deleted:
            if _is_due(row["deleted_at"], newest):
                _set_aside(house, row["id"])
    except (OSError, StorageError) as error:  # a disk that is full keeps no desk from starting; another start will do
        log.warning("what is due in the recycle place stays there: %s", error)


def _is_due(at: str, newest: str) -> bool:
    """Whether a moment lies far enough back, by the clock and by the newest change; one that is none never does."""
    try:
        now = min(datetime.now(UTC), datetime.fromisoformat(newest))
        return datetime.fromisoformat(at) < now - timedelta(days=KEPT_DAYS)
    except (ValueError, TypeError):
        return False


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
    with house.reading() as db:
        if store.session_exists(db, session_id):
            raise ConflictError(f"“{name}” is on the shelf or in the recycle place already; nothing was changed.")
    if not all(re.fullmatch(r"\w+", k) for k in ids):
        raise ConflictError(f"“{name}” cannot be read any more; it lies in the folder lost/ of the data folder.")
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
    except (OSError, StorageError) as error:
        for was, now in moved:
            now.rename(was)
        raise StorageError(f"“{name}” could not be brought back ({error}); it is still in lost/.") from error
    lost.forget_lost(house.folder.lost_dir, name)
    return session_id
