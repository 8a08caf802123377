"""The guide: a page a processor, in Markdown under reins/guide, with pictures made from the demo session."""

import re
from pathlib import Path

from reins.core.processors import PROCESSORS
from reins.errors import NotFoundError

MORE = ("movement", "compressors", "aim", "judging")
FOLDER = Path(__file__).parents[1] / "guide"


def page(kind: str) -> str:
    """The page on a processor type, or on one of MORE, as HTML; NotFoundError when there is none."""
    from markdown_it import MarkdownIt

    if kind not in (*PROCESSORS, *MORE):
        raise NotFoundError("page of the guide", kind)
    text = (FOLDER / f"{kind}.md").read_text(encoding="utf-8")
    html: str = MarkdownIt("commonmark").enable("table").render(text)
    return html


def picture(name: str) -> bytes:
    """A picture of the guide; NotFoundError when there is none of this name."""
    if not re.fullmatch(r"[a-z0-9_-]+\.svg", name):
        raise NotFoundError("picture of the guide", name)
    try:
        return (FOLDER / "pictures" / name).read_bytes()
    except FileNotFoundError as error:
        raise NotFoundError("picture of the guide", name) from error
