"""What was computed and may be asked for again: the last used are kept."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable
from typing import Any

MOST_LOUDNESSES = 500


class Remembered:
    """Values by key, at most so many, and no more than `fits` allows; safe to use from several threads."""

    def __init__(self, most: int, fits: Callable[[Iterable[Any]], bool] = lambda values: True) -> None:
        self._most, self._fits = most, fits
        self._lock = threading.Lock()
        self._values: OrderedDict[Any, Any] = OrderedDict()

    def get(self, key: Any, make: Callable[[], Any]) -> Any:
        """The value of a key, made now unless it is known; the latest stays whatever its size."""
        with self._lock:
            if key in self._values:
                self._values.move_to_end(key)
                return self._values[key]
        value = make()
        with self._lock:
            self._values[key] = value
            while len(self._values) > 1 and (len(self._values) > self._most or not self._fits(self._values.values())):
                self._values.popitem(last=False)
        return value

    def put(self, key: Any, value: Any) -> None:
        """The value of a key from now on, whatever it was."""
        with self._lock:
            self._values.pop(key, None)
        self.get(key, lambda: value)


class LoudnessBook:
    """Integrated loudness in LUFS by signature (core.otherwise); safe to use from several threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._known: OrderedDict[str, float] = OrderedDict()

    def get(self, signature: str) -> float | None:
        """What is known."""
        with self._lock:
            return self._known.get(signature)

    def note(self, signature: str, lufs: float | None) -> None:
        """Remember what was measured; silence has no loudness."""
        if lufs is not None:
            with self._lock:
                self._known[signature] = lufs
                while len(self._known) > MOST_LOUDNESSES:
                    self._known.popitem(last=False)
