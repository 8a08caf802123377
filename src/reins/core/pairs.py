"""Pairs people build: two processors that are put into a chain together, in one step. Some are tied: what one of them
is moved by, the other is moved by, until they are parted.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from reins.core.chainfile import ProcessorEntry, parse_entry, parse_settings
from reins.core.settings.fields import limits_of, place_of
from reins.core.settings.paths import overlaid, value_at
from reins.errors import NotFoundError


@dataclass(frozen=True)
class Pair:
    """Named settings of processors in their order, with one sentence on what they do together."""

    name: str
    sentence: str
    parts: tuple[tuple[str, dict[str, Any]], ...]
    tied: bool = False


def _side(which: str, **settings: Any) -> tuple[str, dict[str, Any]]:
    return "compressor", {"channels": "mid_side", "link_pct": 0, "apply_to": which, **settings}


PAIRS = (
    Pair(
        "Level, then catch", "An optical one levels the lines; what it is too slow for, an FET behind it catches.",
        (("optical", {"threshold_db": -28, "key": {"low_cut_hz": 80}}),
         ("fet", {"input_db": -4, "ratio": 8, "attack_us": 300, "release_ms": 120, "output_db": 4})),
    ),
    Pair(
        "Slow, then quick", "A slow variable-mu carries the body, a quick clean one takes what sticks out of it.",
        (("variable_mu", {"threshold_db": -26, "attack_ms": 40, "release_ms": 500, "programme": "three"}),
         ("compressor", {"threshold_db": -18, "ratio": 3, "attack_ms": 2, "release_ms": 80})),
    ),
    Pair(
        "Middle and sides apart",
        "One compressor acts on the middle alone, the other on the sides; tied, until they are parted.",
        (_side("first", threshold_db=-22, ratio=2.5, attack_ms=20, release_ms=180),
         _side("second", threshold_db=-30, ratio=2, attack_ms=30, release_ms=250)),
        tied=True,
    ),
)  # fmt: skip


def entries_of(name: str, ids: list[str]) -> list[ProcessorEntry]:
    """The processors of a pair under these ids; NotFoundError without it."""
    pair = next((pair for pair in PAIRS if pair.name == name), None)
    if pair is None:
        raise NotFoundError("pair", name)
    tied = ids[::-1] if pair.tied else ["", ""]
    return [
        parse_entry({"id": id, "type": kind, "settings": settings, "tied": other}, name)
        for id, other, (kind, settings) in zip(ids, tied, pair.parts, strict=True)
    ]


ITS_OWN = "apply_to"  # what tells the two of a tied pair apart


def tied_to(entry: ProcessorEntry, chain: list[ProcessorEntry]) -> int | None:
    """The place of the one a processor is tied to; None where there is none, or of another type by now."""
    alike = (k for k, other in enumerate(chain) if other.id == entry.tied and other.type == entry.type)
    return next(alike, None) if entry.tied else None


def moved_alike(
    entry: ProcessorEntry, before: ProcessorEntry, after: ProcessorEntry, paths: Iterable[str]
) -> ProcessorEntry:
    """A processor whose settings go as far as those of the one it is tied to went, on their own scale; all that is no
    number becomes the same.
    """
    changes = {}
    for path in paths:
        if path == ITS_OWN:
            continue
        old, new = value_at(before.settings, path), value_at(after.settings, path)
        changes[path] = _as_far(entry, path, old, new) if old != new else value_at(entry.settings, path)
    settings = parse_settings(entry.type, overlaid(entry.settings, changes), entry.type)
    return entry.model_copy(update={"settings": settings, "on": after.on})


def _as_far(entry: ProcessorEntry, path: str, old: Any, new: Any) -> Any:
    field = place_of(type(entry.settings), path)
    extra = getattr(field, "json_schema_extra", None) or {}
    if extra.get("kind") != "number":
        return new
    own, (low, high) = value_at(entry.settings, path), limits_of(field)
    log = extra["scale"] == "log" and min(old, new, own) > 0.0
    moved = own * new / old if log else own + new - old
    return round(min(max(moved, low), high), 4)
