"""The guide: a page a processor, written in Markdown under docs/guide, with pictures made from the demo session."""

import re
from pathlib import Path

from reins.core.processors import PROCESSORS
from reins.errors import NotFoundError

FOLDERS = (
    Path(__file__).parents[1] / "guide",
    Path(__file__).parents[3] / "docs" / "guide",
)  # installed, or a checkout


def _find(name: str) -> Path:
    for folder in FOLDERS:
        if (folder / name).is_file():
            return folder / name
    raise NotFoundError("page of the guide", name)


def page(kind: str) -> str:
    """The page on a processor type as HTML; NotFoundError when there is none."""
    from markdown_it import MarkdownIt

    if kind not in PROCESSORS:
        raise NotFoundError("page of the guide", kind)
    text = _find(f"{kind}.md").read_text(encoding="utf-8")
    html: str = MarkdownIt("commonmark").enable("table").render(text)
    return html


def picture(name: str) -> bytes:
    """A picture of the guide; NotFoundError when there is none of this name."""
    if not re.fullmatch(r"[a-z0-9_-]+\.svg", name):
        raise NotFoundError("picture of the guide", name)
    return _find(f"pictures/{name}").read_bytes()
