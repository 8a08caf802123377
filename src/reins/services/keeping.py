"""Keeping sessions safe: a backup of a data folder, also while it is in use, and a check of what lies in it."""

import json
import os
import sqlite3
import tempfile
import time
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from reins.core.takes import Take, digest_of, rebuild_pyramid
from reins.errors import SettingsError, StorageError
from reins.services.house import House
from reins.services.outputs import check_outputs
from reins.store.database import connect, copy_database, unreadable
from reins.store.folder import DATABASE, HOUSE_ID, DataFolder
from reins.store.takes import all_takes, keep_sha256, take_ids

Progress = Callable[[int, int], None]
LOOKS, LOOK_S = 3, 0.2  # in a folder that may be in use, before something is called wrong


def _existing(data_dir: Path) -> Path:
    path = data_dir / DATABASE
    if not path.is_file():
        raise SettingsError(f"{data_dir}: there is no {DATABASE} in this folder; give a data folder of Reins.")
    return path


def backup(data_dir: Path, output: Path, progress: Progress) -> list[str]:
    """Write the sessions and all recordings of a data folder into one zip; returns sentences on recordings that are
    missing or not as they were kept. Unpacked, it is a data folder. The data folder may be in use.
    """
    database = _existing(data_dir)
    if not output.parent.is_dir():
        raise SettingsError(f"{output}: the folder {output.parent} does not exist; make it first.")
    check_outputs([output])
    partial = output.with_name(f".{output.name}.{os.getpid()}.partial")
    try:
        with tempfile.TemporaryDirectory(dir=output.parent, prefix=".reins-") as work:
            problems = _packed_anew(data_dir, Path(work) / DATABASE, partial, progress)
        partial.replace(output)
    except OSError as error:
        raise StorageError(f"{output}: the disk refused ({error.strerror}); no backup was left there.") from error
    except sqlite3.Error as error:
        raise unreadable(database, error) from error
    finally:
        partial.unlink(missing_ok=True)
    return problems


def _packed_anew(data_dir: Path, copy: Path, partial: Path, progress: Progress) -> list[str]:
    """Pack what there is, and once more where a recording was taken away while it was packed; sentences on problems."""
    for look in range(1, LOOKS + 1):
        copy.unlink(missing_ok=True)
        db = connect(data_dir / DATABASE)
        try:
            copy_database(db, copy)
            problems = _pack(data_dir, copy, partial, progress)
            if look == LOOKS or problems.keys() <= take_ids(db):
                break
        finally:
            db.close()
    return list(problems.values())


def _pack(data_dir: Path, database: Path, partial: Path, progress: Progress) -> dict[str, str]:
    """By take the sentences on what is wrong."""
    db, problems = connect(database), {}
    try:
        takes = all_takes(db)
    finally:
        db.close()
    with zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as packed:
        packed.write(database, DATABASE)
        if (data_dir / HOUSE_ID).exists():
            packed.write(data_dir / HOUSE_ID, HOUSE_ID)
        for index, take in enumerate(takes):
            progress(index, len(takes))
            folder = data_dir / "takes" / take["id"]
            problem = _problem_of(folder, take)
            if problem:
                problems[take["id"]] = f"{take['name']}: {problem}"
            try:
                for file in sorted(folder.iterdir()):
                    packed.write(file, f"takes/{take['id']}/{file.name}")
            except FileNotFoundError:  # taken away meanwhile: said, unless a second look no longer finds it named
                problems.setdefault(take["id"], f"{take['name']}: its recording went while it was packed; try again.")
        told = {"format": "reins-backup", "version": 1, "made_at": datetime.now(UTC).isoformat(timespec="seconds")}
        packed.writestr(
            "backup.json", json.dumps({**told, "takes": len(takes), "problems": list(problems.values())}, indent=2)
        )
    return problems


def _problem_of(folder: Path, take: dict[str, Any]) -> str | None:
    """What is wrong with a recording, or None."""
    if not folder.is_dir():
        return "its recording is missing; put it back from a backup."
    try:
        Take(folder)
        if take["sha256"] and digest_of(folder) != take["sha256"]:
            return "its recording is not what was kept (checksum); put it back from a backup."
    except StorageError as error:
        return str(error)
    return None


@dataclass
class Findings:
    """What a check found: sentences on what is wrong, what was mended, and counts."""

    takes: int = 0
    without_checksum: int = 0
    problems: list[str] = field(default_factory=list)
    mended: list[str] = field(default_factory=list)


def check(data_dir: Path, progress: Progress, *, repair: bool) -> Findings:
    """Check database and recordings of a data folder; with `repair`, which wants it to itself, checksums are filled in,
    pictures made anew, the database's indexes too, and what nothing names is set aside.
    """
    database, found = _existing(data_dir), Findings()
    if not repair:
        db = connect(database)
        try:
            _check_database(db, found)
            _check_takes(data_dir, db, found, progress)
            _name_orphans(data_dir, db, found)
        except sqlite3.Error as error:
            raise unreadable(database, error) from error
        finally:
            db.close()
        return found
    before = _folders(data_dir)
    folder = DataFolder(data_dir)
    try:
        for name in sorted(before - _folders(data_dir)):
            found.mended.append(f"takes/{name}: no session names it; set aside in lost/.")
        _check_database(folder.writer, found)
        if any("index" in problem for problem in found.problems):
            folder.writer.execute("REINDEX")
            found.problems.clear()
            _check_database(folder.writer, found)
            found.mended.append("The database's indexes were made anew.")
        _mend_takes(folder, found)
        _check_takes(data_dir, folder.writer, found, progress)
    except sqlite3.Error as error:
        raise unreadable(database, error) from error
    finally:
        folder.close()
    return found


def _folders(data_dir: Path) -> set[str]:
    """The names of what lies in takes/."""
    takes = data_dir / "takes"
    return {path.name for path in takes.iterdir()} if takes.is_dir() else set()


def _check_database(db: sqlite3.Connection, found: Findings) -> None:
    for (sentence,) in db.execute("PRAGMA integrity_check(20)"):
        if sentence != "ok":
            found.problems.append(f"{DATABASE}: {sentence}.")
    for row in db.execute("PRAGMA foreign_key_check"):
        found.problems.append(f"{DATABASE}: a row of {row[0]} refers to one of {row[2]} that is not there.")


def _check_takes(data_dir: Path, db: sqlite3.Connection, found: Findings, progress: Progress) -> None:
    takes = all_takes(db)
    found.takes = len(takes)
    for index, take in enumerate(takes):
        progress(index, len(takes))
        found.without_checksum += take["sha256"] is None
        place = data_dir / "takes" / take["id"]
        # The folder may be in use: what was taken away or renamed meanwhile is no problem.
        if _problem_of(place, take) and take["id"] in take_ids(db) and (problem := _problem_of(place, take)):
            found.problems.append(f"{take['name']} (takes/{take['id']}): {problem}")


def _name_orphans(data_dir: Path, db: sqlite3.Connection, found: Findings) -> None:
    names = _folders(data_dir) - take_ids(db)
    for _ in range(LOOKS):  # a recording that comes in has its folder a moment before it has its row
        if names:
            time.sleep(LOOK_S)
            names &= _folders(data_dir) - take_ids(db)
    for name in sorted(names):
        found.problems.append(f"takes/{name}: no session names it; --repair sets it aside in lost/.")


def _mend_takes(folder: DataFolder, found: Findings) -> None:
    for take in all_takes(folder.writer):
        place = folder.takes_dir / take["id"]
        try:
            Take(place)
        except StorageError:
            try:
                rebuild_pyramid(place)
                found.mended.append(f"{take['name']}: its pictures were made anew.")
            except StorageError:
                continue  # said by the check that follows
        if take["sha256"] is None:
            keep_sha256(folder.writer, take["id"], digest_of(place))
            found.mended.append(f"{take['name']}: its checksum was filled in.")


def fill_checksums(house: House) -> None:
    """Give recordings from before there were checksums theirs, one after the other."""
    with house.reading() as db:
        waiting = [take["id"] for take in all_takes(db) if take["sha256"] is None]
    for take_id in waiting:
        try:
            digest = digest_of(house.takes_dir / take_id)
        except StorageError:
            continue  # said where it is played
        with house.database() as db:
            keep_sha256(db, take_id, digest)
