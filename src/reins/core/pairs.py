"""Pairs people build: two processors that are put into a chain together, in one step."""

from dataclasses import dataclass
from typing import Any

from reins.core.chainfile import ProcessorEntry, parse_entry
from reins.errors import NotFoundError


@dataclass(frozen=True)
class Pair:
    """Named settings of processors in their order, with one sentence on what they do together."""

    name: str
    sentence: str
    parts: tuple[tuple[str, dict[str, Any]], ...]


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
        "Middle and sides apart", "One compressor acts on the middle alone, the other on the sides.",
        (_side("first", threshold_db=-22, ratio=2.5, attack_ms=20, release_ms=180),
         _side("second", threshold_db=-30, ratio=2, attack_ms=30, release_ms=250)),
    ),
)  # fmt: skip


def entries_of(name: str, ids: list[str]) -> list[ProcessorEntry]:
    """The processors of a pair under these ids; NotFoundError without it."""
    pair = next((pair for pair in PAIRS if pair.name == name), None)
    if pair is None:
        raise NotFoundError("pair", name)
    return [
        parse_entry({"id": id, "type": kind, "settings": settings}, name)
        for id, (kind, settings) in zip(ids, pair.parts, strict=True)
    ]
