"""The recall sheet: a session in Markdown, to be printed or kept beside a mix: each strip's way, chain and reins, every
setting that is not its default, and what each processor did.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from reins.core.chainfile import ProcessorEntry
from reins.core.moves.models import Rein
from reins.core.processors import PROCESSORS
from reins.core.processors.sidechain import names_of
from reins.core.routing import describe_tie, destination
from reins.core.sessions import MASTER, Document
from reins.core.settings.fields import describe_fields, nested, settings_fields
from reins.core.settings.paths import value_at
from reins.core.settings.words import said


@dataclass(frozen=True)
class Did:
    """What a processor did over a session: share of time in percent with at least half a dB taken or given, the median
    and the furthest gain while so, loudness before and after in LUFS, None where it cannot be given.
    """

    held_pct: float
    usual_db: float
    deepest_db: float
    before_lufs: float | None
    after_lufs: float | None
    low_db: tuple[float, ...] = ()  # the lowest and the highest gain in each of equal parts of the session
    high_db: tuple[float, ...] = ()

    def sentence(self) -> str:
        """In words."""
        loud = "" if self.before_lufs is None or self.after_lufs is None else (
            f" {_db(self.before_lufs, 'LUFS')} → {_db(self.after_lufs, 'LUFS')}."
        )  # fmt: skip
        if self.held_pct < 0.05:
            return f"It did nothing here.{loud}" if self.deepest_db == 0.0 else f"Hardly anything was moved.{loud}"
        held = f"{self.held_pct:.0f} % of the time, usually {_db(self.usual_db)}, at most {_db(self.deepest_db)}"
        return f"Moved {held}.{loud}"


def _db(value: float, unit: str = "dB") -> str:
    return f"{value:.1f} {unit}".replace("-", "−")


STEPS = "▁▂▃▄▅▆▇█"
LEAST_SCALE_DB = 6.0
LEAST_DRAWN_PCT = 0.05  # of the time: less is nothing to be seen


def spark(did: Did) -> str:
    """What a processor did from end to end, in a row of characters: the deeper, the taller."""
    if not did.low_db:
        return ""
    furthest = [max(-low, high) for low, high in zip(did.low_db, did.high_db, strict=True)]
    scale = max(LEAST_SCALE_DB, *furthest)
    row = "".join(STEPS[round((len(STEPS) - 1) * one / scale)] for one in furthest)
    return f"`{row}` to {_db(scale)}"


def sheet(document: Document, did: Mapping[tuple[str, str], Did], picture: Callable[[Did], str] = spark) -> str:
    """The sheet of a session; did: by strip and processor what it did, where that is known, each with a picture."""
    beats = f"{document.tempo_bpm:g} bpm, {document.beats_per_bar} beats a bar"
    lines = [f"# {document.name}", "", f"{document.sample_rate / 1000:g} kHz · {beats}", ""]
    for strip_id in (*document.order, *document.bus_order, MASTER):
        lines += _strip(document, strip_id, did, picture)
    if document.judged:
        lines += [
            "## Judged blind",
            "",
            *(f"- {one.strip}, {one.a} and {one.b}: {one.said}" for one in document.judged),
        ]
    return "\n".join(lines).rstrip() + "\n"


def _strip(
    document: Document, strip_id: str, did: Mapping[tuple[str, str], Did], picture: Callable[[Did], str]
) -> list[str]:
    strip: Any = document.strip(strip_id)
    model, ways = type(strip), []
    if strip_id != MASTER:
        ways.append(f"to {document.strip(destination(document, strip_id)).name}")
        for send in strip.sends:
            off = "" if send.on else ", off"
            ways.append(f"sent to {document.buses[send.bus].name} at {_db(send.level_db)}, {send.tap} the fader{off}")
    changed = [
        f"{row['label'].lower()} {said(getattr(strip, row['name']), row)}"
        for row in describe_fields(model)
        if getattr(strip, row["name"]) != row["default"]
    ]
    drafts = [f"draft {strip.draft}{f' “{strip.draft_name}”' if strip.draft_name else ''}"] if strip.drafts else []
    lines = [f"## {strip.name}", "", " · ".join([*ways, *changed, *drafts]) or "as it came", ""]
    for number, entry in enumerate(strip.chain, 1):
        lines += _processor(document, number, entry, did.get((strip_id, entry.id)), picture)
    lines += [f"- {_rein(document, strip, rein)}" for rein in strip.reins]
    return [*lines, ""] if strip.reins else lines


def _processor(
    document: Document, number: int, entry: ProcessorEntry, did: Did | None, picture: Callable[[Did], str]
) -> list[str]:
    lines = [f"### {number}. {PROCESSORS[entry.type].label}{'' if entry.on else ' (off)'}", ""]
    rows = list(settings_apart(document, entry.settings))
    if rows:
        lines += ["| setting | value |", "|---|---|", *(f"| {name} | {value} |" for name, value in rows), ""]
    else:
        lines += ["All at their defaults.", ""]
    if did is None or not entry.on:
        return lines
    drawn = picture(did) if did.held_pct >= LEAST_DRAWN_PCT else ""
    return [*lines, did.sentence(), "", *([drawn, ""] if drawn else [])]


def settings_apart(document: Document | None, settings: BaseModel, lead: str = "") -> list[tuple[str, str]]:
    """(name, value) in words of every setting that is not its default; keys are named where a document is given."""
    rows: list[tuple[str, str]] = []
    for path, field in settings_fields(type(settings)):
        extra: Any = field.json_schema_extra or {}
        value, default = value_at(settings, path), field.get_default(call_default_factory=True)
        if value == default or "label" not in extra:
            continue
        name = f"{lead}{'Key ' if path.startswith('key.') and extra['kind'] != 'source' else ''}{extra['label']}"
        item = nested(field.annotation)
        if isinstance(value, list) and item is not None and extra["kind"] == "list":
            for place, one in enumerate(value, 1):
                rows += settings_apart(document, one, f"{name.removesuffix('s')} {place}: ")
        elif isinstance(value, list):
            rows.append((name, ", ".join(_value(document, one, extra) for one in value)))
        else:
            rows.append((name, _value(document, value, extra)))
    return rows


def _value(document: Document | None, value: Any, extra: Mapping[str, Any]) -> str:
    if extra["kind"] == "source" and document is not None:
        return describe_tie(document, value)
    if extra["kind"] == "recording" and document is not None:
        return document.impulses.get(value, value)
    if isinstance(value, BaseModel):  # a sound more in a key
        source = getattr(value, "source", "")
        return f"{describe_tie(document, source) if document is not None else source} at {_db(value.gain_db)}"  # type: ignore[attr-defined]
    return said(value, extra)


def _rein(document: Document, strip: Any, rein: Rein) -> str:
    moved = []
    for move in rein.moves:
        owner, _, path = move.what.partition(".")
        entry = next((entry for entry in strip.chain if entry.id == owner), None)
        model = type(strip) if entry is None else type(entry.settings)
        fields = {row["name"]: row for row in describe_fields(model)}
        row = fields.get(path) or {"label": path.replace("_", " ").replace(".", " "), "unit": ""}
        whose = "" if entry is None else f"{PROCESSORS[entry.type].label}: "
        to = "" if move.to is None else f" to {said(float(move.to), row)}"
        moved.append(f"{whose}{row['label'].lower()}{to}")
    by: Any = rein.by
    how = {
        "beat": lambda: f"by the beat, every {by.beats:g} beats, {len(by.points)} points",
        "line": lambda: f"by a line of {len(by.points)} points",
        "key": lambda: "by " + ", ".join(describe_tie(document, name) for name in names_of(by.key) or ("self",))
        + f" from {_db(by.floor_db)} to {_db(by.ceiling_db)}",
    }[by.kind]()  # fmt: skip
    return f"Rein{'' if rein.on else ' (off)'}: {'; '.join(moved)}, {how}"
