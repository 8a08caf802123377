"""What lies in the data folder and nothing names: set aside with a list of what and why, never deleted unasked."""

import json
import os
import shutil
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from reins.errors import NotFoundError, StorageError

LIST, PARTIAL = "list.json", ".list.json.partial"
NOTED = ("name", "was", "why", "at")


def list_lost(folder: Path) -> list[dict[str, Any]]:
    """Of each thing set aside: name, was (where it lay), why, at. What the list does not name, or what a list that is
    damaged named, is told as it lies there: one bad file must not hide the rest.
    """
    if not folder.is_dir():
        return []
    there = {path.name: path for path in sorted(folder.iterdir()) if path.name not in (LIST, PARTIAL)}
    rows = [row for row in _noted(folder) if row["name"] in there]
    named = {row["name"] for row in rows}
    return rows + [
        {"name": name, "was": f"lost/{name}", "why": "How it came here is not noted.", "at": _changed(path)}
        for name, path in there.items()
        if name not in named
    ]


def _noted(folder: Path) -> list[dict[str, Any]]:
    """The rows of the list that can be read."""
    try:
        rows = json.loads((folder / LIST).read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        return []
    if not isinstance(rows, list):
        return []
    return [row for row in rows if isinstance(row, dict) and all(isinstance(row.get(name), str) for name in NOTED)]


def _changed(path: Path) -> str:
    return datetime.fromtimestamp(path.lstat().st_mtime, UTC).isoformat(timespec="seconds")


def set_aside(folder: Path, path: Path, why: str, *, was: str | None = None, name: str = "") -> str:
    """Move something into the folder of the lost and note it in the list; was: where it lay, if not where it is found;
    name: what it is called there, with a number where that is taken, if not as it is.
    Returns what it is called there. StorageError where there is no such folder and none can be made.
    """
    try:
        folder.mkdir(mode=0o700, exist_ok=True)
    except OSError as error:
        raise StorageError(
            f"{folder}: this is to be a folder, for what nothing names ({error.strerror}); move it elsewhere."
        ) from error
    rows = list_lost(folder)
    called = name or path.name
    name, number = called, 1
    while (folder / name).exists() or name in (LIST, PARTIAL):
        number += 1
        name = f"{called}-{number}"
    row = {
        "name": name, "was": was or f"{path.parent.name}/{path.name}", "why": why,
        "at": datetime.now(UTC).isoformat(timespec="seconds"),
    }  # fmt: skip
    _keep_list(folder, [*rows, row])  # first, so that nothing lies there unexplained
    path.rename(folder / name)
    return name


def find_lost(folder: Path, name: str) -> Path:
    """Where a thing set aside lies, or NotFoundError."""
    if not any(row["name"] == name for row in list_lost(folder)):
        raise NotFoundError("thing set aside", name)
    return folder / name


def forget_lost(folder: Path, name: str) -> None:
    """Delete a thing set aside, on request."""
    path = find_lost(folder, name)
    try:
        shutil.rmtree(path) if path.is_dir() and not path.is_symlink() else path.unlink()
    except OSError as error:
        raise StorageError(f"“{name}” could not be deleted ({error.strerror}); it is still there.") from error
    _keep_list(folder, list_lost(folder))


def _keep_list(folder: Path, rows: list[dict[str, Any]]) -> None:
    partial = folder / PARTIAL
    with partial.open("w", encoding="utf-8") as file:
        json.dump(rows, file, indent=2, ensure_ascii=False)
        file.flush()
        os.fsync(file.fileno())
    partial.replace(folder / LIST)
