"""What lies in the data folder and nothing names: set aside with a list of what and why, never deleted unasked."""

import json
import os
import shutil
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from reins.errors import NotFoundError, StorageError

LIST = "list.json"


def list_lost(folder: Path) -> list[dict[str, Any]]:
    """Of each thing set aside that is still there: name, was (where it lay), why, at."""
    try:
        rows = json.loads((folder / LIST).read_text(encoding="utf-8"))
    except FileNotFoundError:
        return []
    except (OSError, ValueError) as error:
        raise StorageError(f"The list of what was found, lost/{LIST}, cannot be read; take a look at it.") from error
    return [row for row in rows if (folder / row["name"]).exists()]


def set_aside(folder: Path, path: Path, why: str) -> None:
    """Move something into the folder of the lost and note it in the list."""
    folder.mkdir(mode=0o700, exist_ok=True)
    rows = list_lost(folder)
    name, number = path.name, 1
    while (folder / name).exists() or name == LIST:
        number += 1
        name = f"{path.name}-{number}"
    row = {
        "name": name, "was": f"{path.parent.name}/{path.name}", "why": why,
        "at": datetime.now(UTC).isoformat(timespec="seconds"),
    }  # fmt: skip
    _keep_list(folder, [*rows, row])  # first, so that nothing lies there unexplained
    path.rename(folder / name)


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
        raise StorageError(f"“{name}” could not be deleted ({error.strerror}).") from error
    _keep_list(folder, list_lost(folder))


def _keep_list(folder: Path, rows: list[dict[str, Any]]) -> None:
    partial = folder / f".{LIST}.partial"
    with partial.open("w", encoding="utf-8") as file:
        json.dump(rows, file, indent=2, ensure_ascii=False)
        file.flush()
        os.fsync(file.fileno())
    partial.replace(folder / LIST)
