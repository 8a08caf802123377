"""Copies of running processors: arrays and what holds them are copied, what never changes is shared.

copy.deepcopy does the same, but takes a millisecond for a processor with eight bands: most of it for settings, which
are fixed once made.
"""

from typing import Any

import numpy as np
from pydantic import BaseModel

FIXED = (type(None), bool, int, float, str, bytes, BaseModel, type, np.dtype)
PLAIN = {type(None), bool, int, float, str}  # most of what there is; looked up first


def twin_of(thing: Any, _known: dict[int, Any] | None = None) -> Any:
    """A copy that shares no state with the original; what is there twice is there twice in the copy, too. What a class
    names in `never_changed` is only ever replaced as a whole, and shared.
    """
    if type(thing) in PLAIN or isinstance(thing, FIXED):
        return thing
    known = {} if _known is None else _known
    if id(thing) not in known:
        known[id(thing)] = _copied(thing, known)
    return known[id(thing)]


def _copied(thing: Any, known: dict[int, Any]) -> Any:
    if isinstance(thing, np.ndarray):
        return thing.copy()
    if isinstance(thing, dict):
        return {name: twin_of(value, known) for name, value in thing.items()}
    if isinstance(thing, (list, tuple)):
        return type(thing)([twin_of(value, known) for value in thing])
    if not hasattr(thing, "__dict__"):
        return thing
    twin = thing.__class__.__new__(thing.__class__)
    known[id(thing)] = twin
    shared = getattr(thing, "never_changed", ())
    twin.__dict__.update(
        {
            name: value if type(value) in PLAIN or name in shared else twin_of(value, known)
            for name, value in thing.__dict__.items()
        }
    )
    return twin
