"""Small text files, written whole or not at all."""

from pathlib import Path

from reins.core.audio import partial_of
from reins.core.disk import sync
from reins.errors import SettingsError

RUN_BY_TABLES = ("=", "+", "-", "@", "\t", "\r")


def cell(text: str) -> str:
    """A text as a cell of a CSV file: what a table program would take for a formula gets an apostrophe in front (common
    practice), and is shown without it.
    """
    return f"'{text}" if text.startswith(RUN_BY_TABLES) else text


def write_whole(path: Path, text: str) -> None:
    """Write a file; SettingsError where that is refused, and then what was there stays."""
    partial = partial_of(path)
    try:
        # What a file is called need not be UTF-8, and comes as surrogates: of such a letter a question mark is kept.
        partial.write_text(text, encoding="utf-8", errors="replace")
        sync(partial)
        partial.replace(path)
    except OSError as error:
        raise SettingsError(
            f"{path}: cannot be written there ({error.strerror}); choose another folder or name."
        ) from error
    finally:
        partial.unlink(missing_ok=True)
