"""What is on the disk before anything counts on it."""

import os
from pathlib import Path


def sync(path: Path) -> None:
    """Have the disk keep a file, or the names in a folder, before anything counts on them."""
    fd = os.open(path, os.O_RDONLY)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)
