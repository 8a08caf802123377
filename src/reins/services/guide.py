"""The guide as a book: chapters and a page a processor, in Markdown under reins/guide, with pictures made from the demo
session; searched by words, and an index of all settings.
"""

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from reins.core.processors import PROCESSORS
from reins.core.settings.fields import describe_fields
from reins.core.settings.known_as import KNOWN_AS
from reins.errors import NotFoundError

#: Chapters that are of no single processor, in their order.
CHAPTERS = {
    "first_hour": "The first hour", "aim": "Aim", "judging": "Judging", "movement": "Movement",
    "compressors": "Which compressor", "batch": "Many takes at once",
}  # fmt: skip
FOLDER = Path(__file__).parents[1] / "guide"
AROUND = 90  # letters shown about what was found


@dataclass(frozen=True)
class Found:
    """A page with what was looked for, and the words about it."""

    page: str
    title: str
    words: str


def page(kind: str) -> str:
    """The page on a processor type, or a chapter, as HTML; NotFoundError when there is none."""
    from markdown_it import MarkdownIt

    html: str = MarkdownIt("commonmark").enable("table").render(_text(kind))
    return html


@cache
def _text(kind: str) -> str:
    if kind not in (*PROCESSORS, *CHAPTERS):
        raise NotFoundError("page of the guide", kind)
    return (FOLDER / f"{kind}.md").read_text(encoding="utf-8")


def contents() -> list[tuple[str, list[tuple[str, str]]]]:
    """The book's parts with (page, title) of each of their pages."""
    processors = [(kind, made.label) for kind, made in PROCESSORS.items()]
    return [("Chapters", list(CHAPTERS.items())), ("Processors", processors)]


def index() -> list[tuple[str, list[tuple[str, str]]]]:
    """Every setting by its label, with (page, title) of the processors that have it."""
    found: dict[str, list[tuple[str, str]]] = {}
    for kind, made in PROCESSORS.items():
        for row in describe_fields(made.Settings):
            if row["kind"] != "list":
                found.setdefault(row["label"], []).append((kind, made.label))
    return sorted((label, list(dict.fromkeys(pages))) for label, pages in found.items())


def search(words: str) -> list[Found]:
    """Pages that hold all of some words, or whose processor or settings people know by them; those titled so first."""
    wanted = words.lower().split()[:8]
    if not wanted:
        return []
    hits: list[tuple[int, Found]] = []
    for _, pages in contents():
        for kind, title in pages:
            text = re.sub(r"!?\[([^\]]*)\]\([^)]*\)|[*#|`]", r"\1", _text(kind))
            known = f"{title} {_known(kind)}".lower()
            if all(word in text.lower() or word in known for word in wanted):
                rank = 0 if all(word in title.lower() for word in wanted) else 1 if wanted[0] in known else 2
                hits.append((rank, Found(kind, title, _about(text, wanted))))
    return [found for _, found in sorted(hits, key=lambda one: one[0])]


def _known(kind: str) -> str:
    if kind not in PROCESSORS:
        return ""
    made = PROCESSORS[kind]
    names = (row["name"].split(".")[-1] for row in describe_fields(made.Settings))
    return " ".join([made.known_as, *(KNOWN_AS.get(name, "") for name in names)])


def _about(text: str, wanted: list[str]) -> str:
    places = [at for word in wanted if (at := text.lower().find(word)) >= 0]
    at = min(places, default=0)
    words = " ".join(text[max(0, at - AROUND) : at + AROUND].split())
    return f"… {words} …"


def picture(name: str) -> bytes:
    """A picture of the guide; NotFoundError when there is none of this name."""
    if not re.fullmatch(r"[a-z0-9_-]+\.svg", name):
        raise NotFoundError("picture of the guide", name)
    try:
        return (FOLDER / "pictures" / name).read_bytes()
    except FileNotFoundError as error:
        raise NotFoundError("picture of the guide", name) from error
