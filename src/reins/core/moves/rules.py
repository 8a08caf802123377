"""What a rein may move: found in a chain by its name, or refused with a sentence that names what may be moved."""

from collections.abc import Sequence
from functools import cache
from typing import Any

from pydantic import BaseModel

from reins.core.moves.models import MOST_REINS, ByLine, Rein
from reins.core.moves.scales import Way, way_of, ways_of
from reins.core.settings.models import PartError

STRIP = -1  # the place of the strip's own settings
OF_STRIP = ("fader_db", "pan_pct")


def found(what: str, entries: Sequence[Any]) -> tuple[int, str]:
    """(place in the chain, path) of what a move names; (STRIP, path) for the strip's own; LookupError without it."""
    name, _, path = what.partition(".")
    if name == "strip":
        return STRIP, path
    for place, entry in enumerate(entries):
        if entry.id and entry.id == name:
            return place, path
    if name.isdecimal() and int(name) < len(entries):
        return int(name), path
    raise LookupError(what)


def ways_at(place: int, entries: Sequence[Any], strip: BaseModel | None) -> dict[str, Way]:
    """By path all that may be moved of a processor at a place, or of the strip."""
    if place != STRIP:
        return ways_of(entries[place].settings)
    return _ways_of_strip(type(strip)) if strip is not None else {}


@cache
def _ways_of_strip(kind: type[BaseModel]) -> dict[str, Way]:
    ways = {name: way_of(kind.model_fields[name]) for name in OF_STRIP if name in kind.model_fields}
    return {name: way for name, way in ways.items() if way is not None}


def way_to(what: str, entries: Sequence[Any], strip: BaseModel | None) -> Way:
    """How what a move names may go; PartError saying what may be moved where it may not, or is not there."""
    try:
        place, path = found(what, entries)
        if place == STRIP and strip is None:
            raise LookupError(what)
    except LookupError:
        names = [*(entry.id or str(place) for place, entry in enumerate(entries)), *(["strip"] if strip else [])]
        raise PartError(
            f"“{what}” names no processor; allowed: one of {', '.join(names) or 'none, the chain is empty'}, "
            "a point, and a setting of it."
        ) from None
    ways = ways_at(place, entries, strip)
    if path not in ways:
        whose = "the strip" if place == STRIP else f"the {entries[place].type}"
        raise PartError(
            f"“{path}” of {whose} is not there or may not be moved; allowed: {', '.join(ways) or 'nothing here'}."
        )
    return ways[path]


def check_number(reins: Sequence[Rein]) -> None:
    """Raise PartError for more reins than a strip may have."""
    if len(reins) > MOST_REINS:
        raise PartError(f"there are {len(reins)} reins; allowed: up to {MOST_REINS} on one strip.")


def check(reins: Sequence[Rein], entries: Sequence[Any], strip: BaseModel | None) -> None:
    """Raise PartError unless every rein moves what is there and may be moved, within its limits."""
    check_number(reins)
    names = [rein.id for rein in reins if rein.id]
    for name in names:
        if names.count(name) > 1:
            raise PartError(f"two reins have the id “{name}”; allowed: each its own.")
    for place, rein in enumerate(reins):
        for index, move in enumerate(rein.moves):
            where = f"rein {place}, moves.{index}"
            try:
                way = way_to(move.what, entries, strip)
            except PartError as error:
                raise PartError(f"{where}.what: {error}") from error
            _check_values(rein, place, index, way)
        targets = [found(move.what, entries) for move in rein.moves]
        for index, target in enumerate(targets):
            if target in targets[:index]:
                twice = f"“{rein.moves[index].what}” is moved twice; allowed: each setting once."
                raise PartError(f"rein {place}, moves.{index}.what: {twice}")


def _check_values(rein: Rein, rein_place: int, move_place: int, way: Way) -> None:
    move = rein.moves[move_place]
    values = [point.value for point in rein.by.points] if isinstance(rein.by, ByLine) else [move.to or 0.0]
    for index, value in enumerate(values):
        if not way.lowest <= value <= way.high:
            at = f"by.points.{index}.1" if isinstance(rein.by, ByLine) else f"moves.{move_place}.to"
            allowed = f"a number from {way.lowest:g} to {way.high:g} {way.unit}".rstrip()
            raise PartError(f"rein {rein_place}, {at} is {value:g}; allowed for {move.what}: {allowed}.")


def named(reins: Sequence[Rein], before: Sequence[Any], after: Sequence[Any]) -> list[Rein]:
    """Reins for a chain whose processors, place by place, have other ids than before."""

    def renamed(what: str) -> str:
        place, path = found(what, before)
        return what if place == STRIP else f"{after[place].id or place}.{path}"

    return [
        rein.model_copy(update={"moves": [m.model_copy(update={"what": renamed(m.what)}) for m in rein.moves]})
        for rein in reins
    ]


def of_chain_alone(reins: Sequence[Rein]) -> list[Rein]:
    """The reins without what they move of fader and pan."""
    kept = []
    for rein in reins:
        moves = [move for move in rein.moves if not move.what.startswith("strip.")]
        if moves:
            kept.append(rein if len(moves) == len(rein.moves) else rein.model_copy(update={"moves": moves}))
    return kept


def fitted(reins: Sequence[Rein], entries: Sequence[Any], strip: BaseModel | None) -> list[Rein]:
    """The reins without moves that have lost what they moved, and without those that move nothing any more."""
    kept = []
    for rein in reins:
        moves = [move for move in rein.moves if _leads(move.what, entries, strip)]
        if moves:
            kept.append(rein if len(moves) == len(rein.moves) else rein.model_copy(update={"moves": moves}))
    return kept


def _leads(what: str, entries: Sequence[Any], strip: BaseModel | None) -> bool:
    try:
        way_to(what, entries, strip)
    except PartError:
        return False
    return True
