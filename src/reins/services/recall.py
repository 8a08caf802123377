"""The recall sheet of a session: as Markdown for a file, as a page to be printed."""

from collections.abc import Callable
from pathlib import Path

from reins.core.recall import sheet
from reins.core.trials.doings import doings
from reins.errors import SettingsError
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.sessionfiles import opened
from reins.services.writing import write_whole

Progress = Callable[[int, int], None]


def recall_file(path: Path, output: Path, progress: Progress) -> None:
    """Write the sheet of a session file; InputError for one that cannot be read, nothing half-written."""
    if not output.parent.is_dir():
        raise SettingsError(f"{output}: the folder {output.parent} does not exist; make it first.")
    with opened(path, output.parent) as (document, takes):
        text = sheet(document, doings(document, takes, progress))
    write_whole(output, text)


def recall_page(house: House, session_id: str) -> tuple[str, str]:
    """(name, HTML) of a session's sheet."""
    from markdown_it import MarkdownIt

    document = document_of(house, session_id)
    text = sheet(document, doings(document, house.takes(document)))
    html: str = MarkdownIt("commonmark", {"html": False}).enable("table").render(text)
    return document.name, html
