"""Two drafts of a chain side by side, setting by setting, in words."""

from collections.abc import Sequence

from reins.core.chainfile import ProcessorEntry
from reins.core.processors import PROCESSORS
from reins.core.sessions import Draft, Strip
from reins.core.settings.fields import differences


def draft_of(strip: Strip, number: int) -> Draft | None:
    """A draft of a strip, the one in use or another; None where there is none."""
    return strip.in_use if number == strip.draft else strip.drafts.get(str(number))


def compared(one: Draft, other: Draft) -> list[str]:
    """What differs, from one draft to the other, in the order of their processors: each a line; none where they are
    equal.
    """
    pairs = _paired(one.chain, other.chain)
    lines = [line for before, after in pairs for line in _lines(before, after)]
    order = [[entry.id for entry in chain if entry.id in _both(one, other)] for chain in (one.chain, other.chain)]
    lines += ["The processors stand in another order."] if order[0] != order[1] else []
    return [*lines, *(["Other reins."] if one.reins != other.reins else [])]


def named_alike(one: Draft, other: Draft) -> Draft:
    """The other with the ids of the first's processors, the first of a type with the first of that type and so on: for
    chains that were not made from each other.
    """
    left = list(one.chain)
    chain = []
    for entry in other.chain:
        like = next((known for known in left if known.type == entry.type), None)
        if like is not None:
            left.remove(like)
        chain.append(entry if like is None else entry.model_copy(update={"id": like.id, "tied": like.tied}))
    return other.model_copy(update={"chain": chain, "reins": one.reins})  # which name what they move by those ids


def _both(one: Draft, other: Draft) -> set[str]:
    return {entry.id for entry in one.chain} & {entry.id for entry in other.chain}


def _paired(
    one: Sequence[ProcessorEntry], other: Sequence[ProcessorEntry]
) -> list[tuple[ProcessorEntry | None, ProcessorEntry | None]]:
    there = {entry.id: entry for entry in other}
    own = {entry.id for entry in one}
    return [*((entry, there.get(entry.id)) for entry in one), *((None, e) for e in other if e.id not in own)]


def _lines(before: ProcessorEntry | None, after: ProcessorEntry | None) -> list[str]:
    if before is None or after is None or before.type != after.type:
        gone = [] if before is None else [f"{PROCESSORS[before.type].label}: only in the first"]
        return gone + ([] if after is None else [f"{PROCESSORS[after.type].label}: only in the second"])
    label = PROCESSORS[before.type].label
    lines = [f"{label}: {words}" for words in differences(type(before.settings), before.settings, after.settings)]
    on = [] if before.on == after.on else [f"{label}: {'on' if before.on else 'off'} → {'on' if after.on else 'off'}"]
    return on + lines
