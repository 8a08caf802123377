"""What a step keeps: two patches of plain data, back and forth.

Objects are compared name by name, lists of things with ids (a chain's processors) by id; all else is kept whole.
A patch of an object has by name ABSENT (it is not there), {"is": value}, or a patch; one of such a list has the patches
or values by id under "items", ABSENT where it is not there, and under "order" the ids, where those have changed.
"""

from typing import Any

ABSENT = {"absent": True}
Patch = dict[str, Any]


def difference(before: dict[str, Any], after: dict[str, Any]) -> tuple[Patch, Patch]:
    """Two patches that turn `after` into `before` and back."""
    back: Patch = {}
    forth: Patch = {}
    for name in before.keys() | after.keys():
        old, new = before.get(name, ABSENT), after.get(name, ABSENT)
        if old != new:
            back[name], forth[name] = _between(old, new)
    return back, forth


def _between(old: Any, new: Any) -> tuple[Patch, Patch]:
    if isinstance(old, dict) and isinstance(new, dict) and ABSENT not in (old, new):
        return difference(old, new)
    ids = [_ids(values) for values in (old, new)]
    if ids[0] and ids[1]:
        items = difference(*({one["id"]: one for one in values} for values in (old, new)))
        orders = [{"order": order} for order in ids] if ids[0] != ids[1] else [{}, {}]
        return {"items": items[0], **orders[0]}, {"items": items[1], **orders[1]}
    return _whole(old), _whole(new)


def _whole(value: Any) -> Patch:
    return ABSENT if value is ABSENT else {"is": value}


def _ids(values: Any) -> list[str]:
    """The ids of a list of things that each have one of their own; none for anything else."""
    if not isinstance(values, list) or not all(isinstance(one, dict) and one.get("id") for one in values):
        return []
    ids = [one["id"] for one in values]
    return ids if len(set(ids)) == len(ids) else []


def patched(values: dict[str, Any], patch: Patch) -> dict[str, Any]:
    """`values` with a patch of `difference` applied."""
    merged = dict(values)
    for name, part in patch.items():
        if part == ABSENT:
            merged.pop(name, None)
        elif set(part) == {"is"}:
            merged[name] = part["is"]
        elif isinstance(merged[name], list):
            items = patched({one["id"]: one for one in merged[name]}, part["items"])
            merged[name] = [items[one] for one in part.get("order", [one["id"] for one in merged[name]])]
        else:
            merged[name] = patched(merged[name], part)
    return merged
