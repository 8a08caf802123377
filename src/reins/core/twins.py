"""Copies of running processors: state is copied, what settings come to is shared.

A class that is copied often names what it carries on in `carried`: arrays it writes into, and objects that do. All else
it only ever replaces as a whole, and shares. copy.deepcopy does the same, but takes a millisecond for a processor with
eight bands, most of it for settings, which are fixed once made. No array stands in two places of a processor.
"""

from typing import Any

import numpy as np


def twin_of(thing: Any) -> Any:
    """A copy that shares no state with the original."""
    kind: Any = type(thing)
    if kind is np.ndarray:
        return thing.copy()
    if kind is list:
        return [twin_of(value) for value in thing]
    if kind is dict:
        return {name: twin_of(value) for name, value in thing.items()}
    if thing is None:
        return None
    twin = kind.__new__(kind)
    own = twin.__dict__
    own.update(thing.__dict__)
    for name in kind.carried:
        value = own[name]
        own[name] = value.copy() if type(value) is np.ndarray else twin_of(value)
    return twin
