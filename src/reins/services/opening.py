"""Opening a data folder, before anything that takes time: what the server does first, without a kernel being loaded."""

import re
import secrets
from pathlib import Path

from reins.errors import StorageError
from reins.store.folder import DataFolder, write_synced

OURS = re.compile(r"[\w-]{22,}", re.ASCII)  # 128 bits or more, six a letter


def open_folder(data_dir: Path, *, serving_at: str) -> DataFolder:
    """Lock and open a data folder; StorageError with what to do when that cannot be (see store.folder)."""
    return DataFolder(data_dir, serving_at=serving_at)


def kept_token(data_dir: Path) -> tuple[str, str]:
    """The token of a data folder, made at the first call, which only its owner may read; and a sentence where one that
    was there was none that is hard to guess, and another was made. StorageError where the disk refuses.
    """
    path, said = data_dir / "token", ""
    try:
        if path.exists():
            path.chmod(0o600)
            kept = path.read_text(encoding="ascii", errors="replace").strip()
            if OURS.fullmatch(kept):
                return kept, ""
            said = f"{path}: that was no token of ours; another was made, and the links of before open nothing."
        token = secrets.token_urlsafe(32)
        write_synced(path, token)
    except OSError as error:
        raise StorageError(f"{path}: the disk refused ({error.strerror}); remove it and start again.") from error
    return token, said
