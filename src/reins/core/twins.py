"""Copies of running processors: arrays and what holds them are copied, what never changes is shared.

copy.deepcopy does the same, but takes a millisecond for a processor with eight bands: most of it for settings, which
are fixed once made. No array stands in two places of a processor; objects that do (what bands listen to) are copied
once.
"""

from typing import Any

import numpy as np
from pydantic import BaseModel

PLAIN = {type(None), bool, int, float, str, bytes}  # never changed, as are settings and classes


def twin_of(thing: Any, _known: dict[int, Any] | None = None) -> Any:
    """A copy that shares no state with the original. What a class names in `never_changed` is only ever replaced as a
    whole, and shared.
    """
    kind: Any = type(thing)
    if kind is np.ndarray:
        return thing.copy()
    if kind in PLAIN or (not thing and kind in (list, dict, tuple)):
        return kind(thing) if kind in (list, dict) else thing
    known = {} if _known is None else _known
    if kind is list or kind is tuple:
        return kind([twin_of(value, known) for value in thing])
    if kind is dict:
        return {name: twin_of(value, known) for name, value in thing.items()}
    if isinstance(thing, (BaseModel, type)) or not hasattr(thing, "__dict__"):
        return thing
    if id(thing) not in known:
        twin = known[id(thing)] = kind.__new__(kind)
        shared = getattr(thing, "never_changed", ())
        own = twin.__dict__
        for name, value in thing.__dict__.items():
            own[name] = value if type(value) in PLAIN or name in shared else twin_of(value, known)
    return known[id(thing)]
