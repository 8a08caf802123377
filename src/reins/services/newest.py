"""The newest request of a desk wins: what an older one is still working on is stopped."""

import threading
from collections import OrderedDict
from collections.abc import Callable

from reins.errors import CancelledError

MAX_DESKS = 100


class Newest:
    """Remembers the highest request number of each desk."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._numbers: OrderedDict[str, int] = OrderedDict()

    def check(self, desk: str, number: int) -> Callable[[], None]:
        """Note a request; returns what raises CancelledError as soon as the desk has sent a higher number."""
        with self._lock:
            self._numbers[desk] = max(number, self._numbers.pop(desk, number))
            while len(self._numbers) > MAX_DESKS:
                self._numbers.popitem(last=False)

        def check() -> None:
            if self._numbers.get(desk, number) > number:
                raise CancelledError("A newer change is being drawn.")

        return check
