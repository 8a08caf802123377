"""Opening a data folder, before anything that takes time: what the server does first, without a kernel being loaded."""

import os
import secrets
from pathlib import Path

from reins.store.folder import DataFolder


def open_folder(data_dir: Path, *, serving_at: str) -> DataFolder:
    """Lock and open a data folder; StorageError with what to do when that cannot be (see store.folder)."""
    return DataFolder(data_dir, serving_at=serving_at)


def kept_token(data_dir: Path) -> str:
    """The token of a data folder, made at the first call; only its owner may read it."""
    path = data_dir / "token"
    if not path.exists():
        with os.fdopen(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "w") as file:
            file.write(secrets.token_urlsafe(32))
    path.chmod(0o600)
    return path.read_text().strip()
