"""The guide as a book: chapters, jobs and a page a processor, in Markdown under reins/guide, with pictures made from
the demo session; under each processor its settings, from the settings themselves; searched by words, and an index.
"""

import html
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from reins.core.processors import PROCESSORS
from reins.core.settings.fields import describe_fields
from reins.core.settings.known_as import KNOWN_AS
from reins.core.settings.words import said
from reins.errors import NotFoundError

#: Chapters that are of no single processor, in their order.
CHAPTERS = {
    "first_hour": "The first hour", "aim": "Aim", "judging": "Judging", "movement": "Movement",
    "compressors": "Which compressor", "batch": "Many takes at once",
}  # fmt: skip
JOBS = {
    "job_esses": "De-ess a voice", "job_level_voice": "Level a voice", "job_glue": "Glue a kit",
    "job_close_mics": "Clean close microphones", "job_bass_kick": "Bass and kick",
    "job_under_speech": "Duck under speech", "job_voice_guitars": "Guitars that make room for a voice",
    "job_flattened": "Rescue a flattened loop",
    "job_crushed_room": "A crushed room beneath the kit", "job_ringing": "Ringing and whistles",
    "job_hand_over": "Check and hand over",
}  # fmt: skip
FOLDER = Path(__file__).parents[1] / "guide"
AROUND = 90  # letters shown about what was found


@dataclass(frozen=True)
class Found:
    """A page with what was looked for, and the words about it, or the settings that people know by them."""

    page: str
    title: str
    words: str


def page(kind: str) -> str:
    """The page on a processor type, a job or a chapter, as HTML; NotFoundError when there is none."""
    from markdown_it import MarkdownIt

    made: str = MarkdownIt("commonmark").enable("table").render(_text(kind))
    return made + (_settings_of(kind) if kind in PROCESSORS else "")


@cache
def _text(kind: str) -> str:
    if kind not in (*PROCESSORS, *CHAPTERS, *JOBS):
        raise NotFoundError("page of the guide", kind)
    return (FOLDER / f"{kind}.md").read_text(encoding="utf-8")


def contents() -> list[tuple[str, list[tuple[str, str]]]]:
    """The book's parts with (page, title) of each of their pages."""
    processors = [(kind, made.label) for kind, made in PROCESSORS.items()]
    return [("Chapters", list(CHAPTERS.items())), ("Jobs", list(JOBS.items())), ("Processors", processors)]


@cache
def settings_of(kind: str) -> list[tuple[str, dict[str, Any]]]:
    """Every setting of a processor, those of its lists too, with the name of its place on the page."""
    return list(_described(describe_fields(PROCESSORS[kind].Settings), ""))


def _described(rows: list[dict[str, Any]], prefix: str) -> Iterator[tuple[str, dict[str, Any]]]:
    for row in rows:
        if row["kind"] == "list":
            yield from _described(row["fields"], f"{prefix}{row['name']}.")
        else:
            yield f"set-{prefix}{row['name']}", row


def _settings_of(kind: str) -> str:
    rows = []
    for place, row in settings_of(kind):
        words = KNOWN_AS.get(row["name"].split(".")[-1], "").split()
        known = f" <em>Looked for as {html.escape(', '.join(words))}.</em>" if words else ""
        meaning = f"{html.escape(row['help'])} <span>{html.escape(_allowed(row))}</span>{known}"
        name = f"{row['label']}, each band" if place.startswith("set-bands.") else row["label"]
        rows.append(f'<div id="{place}"><dt>{html.escape(name)}</dt><dd>{meaning}</dd></div>')
    return f'<h2>Its settings</h2><dl class="guide-settings">{"".join(rows)}</dl>'


def _allowed(row: dict[str, Any]) -> str:
    if row["kind"] == "number":
        return f"{said(row['low'], row)} to {said(row['high'], row)}, at first {said(row['default'], row)}."
    if row["kind"] == "choice":
        return f"{' or '.join(said(option, row) for option in row['options'])}, at first {said(row['default'], row)}."
    return ""


def index() -> list[tuple[str, list[tuple[str, str, str]]]]:
    """Every setting by its label, with (page, title, place) of the processors that have it, each once."""
    found: dict[str, dict[str, tuple[str, str, str]]] = {}
    for kind, made in PROCESSORS.items():
        for place, row in settings_of(kind):
            found.setdefault(row["label"], {}).setdefault(kind, (kind, made.label, place))
    return sorted((label, list(pages.values())) for label, pages in found.items())


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
                hits.append((rank, Found(kind, title, _about(kind, text, wanted))))
    return [found for _, found in sorted(hits, key=lambda one: one[0])]


def _known(kind: str) -> str:
    if kind not in PROCESSORS:
        return ""
    rows = (row for _, row in settings_of(kind))
    return " ".join([PROCESSORS[kind].known_as, *(_looked_for(row) for row in rows)])


def _looked_for(row: dict[str, Any]) -> str:
    return f"{row['label']} {KNOWN_AS.get(row['name'].split('.')[-1], '')}"


def _about(kind: str, text: str, wanted: list[str]) -> str:
    """The words about what is found in the text; where it is no word of the text, the settings that are known by it."""
    places = [at for word in wanted if (at := text.lower().find(word)) >= 0]
    if not places and kind in PROCESSORS:
        rows = [row for _, row in settings_of(kind) if any(word in _looked_for(row).lower() for word in wanted)]
        labels = dict.fromkeys(row["label"] for row in rows)
        return f"“{' '.join(wanted)}”: {', '.join(labels) or PROCESSORS[kind].about}"
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
