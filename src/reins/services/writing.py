"""Small text files, written whole or not at all."""

from pathlib import Path

from reins.core.audio import partial_of
from reins.errors import SettingsError


def write_whole(path: Path, text: str) -> None:
    """Write a file; SettingsError where that is refused, and then what was there stays."""
    partial = partial_of(path)
    try:
        partial.write_text(text, encoding="utf-8")
        partial.replace(path)
    except OSError as error:
        raise SettingsError(
            f"{path}: cannot be written there ({error.strerror}); choose another folder or name."
        ) from error
    finally:
        partial.unlink(missing_ok=True)
