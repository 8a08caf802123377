"""What was computed of settings, remembered by the settings themselves: they are fixed once made, and a changed
document shares all that has not changed. So one thread can compute ahead what the one that plays will ask for.
"""

import threading
from collections.abc import Callable
from typing import Any, Generic, TypeVar

T = TypeVar("T")


class BySettings(Generic[T]):
    """Values by the object they were computed of, and by what else they depend on; safe to use from any thread."""

    def __init__(self, most: int = 1024) -> None:
        self._most, self._lock = most, threading.Lock()
        self._known: dict[tuple[int, Any], tuple[Any, T]] = {}  # with the object, so that its id stays its own

    def get(self, settings: Any, rest: Any, compute: Callable[[], T]) -> T:
        """The value, computed where it is not known; to be read only."""
        place = id(settings), rest
        known = self._known.get(place)
        if known is None or known[0] is not settings:
            known = settings, compute()
            with self._lock:
                if len(self._known) >= self._most:
                    del self._known[next(iter(self._known))]  # the oldest
                self._known[place] = known
        return known[1]
