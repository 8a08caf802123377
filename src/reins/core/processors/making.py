"""How an entry of a chain becomes a processor: for a take, which can be heard ahead, or for a sum, which cannot; at the
rate of the sound or at a multiple of it.
"""

import contextlib
from collections.abc import Mapping
from typing import Any, NamedTuple

from reins.core.processors import PROCESSORS
from reins.core.processors.base import Array, Processor
from reins.core.processors.bending import Bending
from reins.core.processors.oversampling import Oversampled, filters_tail_s, latency_of, times_of, within
from reins.errors import NotReadyError


class Make(NamedTuple):
    """What an entry is made as: which class, by how much the rate is raised, how much later its result comes, and what
    one that sounds already cannot go over to.
    """

    kind: type[Processor]
    times: int
    latency_frames: int
    shape: tuple[Any, ...]

    @classmethod
    def of(cls, type_name: str, settings: Any, *, sample_rate: int, on_take: bool) -> "Make":
        """The make of a processor type with these settings."""
        kind, times = PROCESSORS[type_name], times_of(settings)
        kind = kind.on_take() if on_take else kind
        if times == 1:
            return cls(kind, 1, kind.latency_of(settings, sample_rate=sample_rate), kind.shape_of(settings))
        late = latency_of(kind, settings, times, sample_rate=sample_rate)
        return cls(kind, times, late, kind.shape_of(settings))

    def processor(
        self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}
    ) -> Processor | Oversampled:
        """The processor, at rest."""
        rest: dict[str, Any] = {"channels": channels, "sample_rate": sample_rate, "key_channels": key_channels}
        if self.times == 1:
            return self.kind(settings, **rest)
        wrapper = Bending if self.kind.bends_at_once else Oversampled
        return wrapper(settings, **rest, kind=self.kind, times=self.times)


def prepare(type_name: str, settings: Any, sample_rate: int) -> None:
    """Compute what settings come to at the rate they are used at, so that the thread that plays need not."""
    with contextlib.suppress(NotReadyError):  # it goes on without it, then
        for channels in (1, 2):
            PROCESSORS[type_name].tuned(within(settings), channels, sample_rate * times_of(settings))


def tail_s(type_name: str, settings: Any, sample_rate: int) -> float:
    """Processor.tail_s, and what a raised rate adds to it."""
    return PROCESSORS[type_name].tail_s(settings) + filters_tail_s(settings, sample_rate)


def response_db(type_name: str, settings: Any, frequencies_hz: Array, gains: dict[str, float], rate: int) -> Array:
    """Processor.response_db at the rate it works at."""
    return PROCESSORS[type_name].response_db(settings, frequencies_hz, gains, rate * times_of(settings))
