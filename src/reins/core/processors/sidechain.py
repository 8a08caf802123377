"""The sidechain of a detector: what it listens to, and what lies between that and the detector."""

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, Field

from reins.core.dsp.filters import butterworth_cut, run_sections
from reins.core.processors.base import Rows
from reins.core.settings import usual
from reins.core.settings.models import Strict
from reins.core.settings.paths import laid_over

Array = npt.NDArray[np.float64]
KEY_ORDER = 4  # 24 dB/oct


class Key(Strict):
    """What the detector listens to."""

    source: str = Field(
        "self",
        description="The track the detector listens to.",
        json_schema_extra={"kind": "source", "label": "Follows", "group": "Sidechain", "unit": ""},
    )
    gain_db: float = usual.gain_db(
        0.0,
        "Makes what the detector hears louder or quieter, without changing what you hear.",
        group="Sidechain",
        label="Key gain",
        moves="grid",
        step=0.5,
    )
    low_cut_hz: float = usual.cut_hz(
        "Low cut", group="Sidechain", off_as=usual.LOWEST_HZ,
        help="Keeps lows below this frequency from driving the detector; 0 is off.",
    )  # fmt: skip
    high_cut_hz: float = usual.cut_hz(
        "High cut", group="Sidechain", off_as=usual.HIGHEST_HZ,
        help="Keeps highs above this frequency from driving the detector; 0 is off.",
    )  # fmt: skip


class KeyPath:
    """Gain and cuts between a key and the detector; carries the filters' state."""

    carried = ("_state",)

    def __init__(self, key: Key, *, channels: int, sample_rate: int) -> None:
        self._sample_rate = sample_rate
        self._state = np.zeros((2, KEY_ORDER // 2, channels, 2))  # of the low cut, of the high cut
        self._key: Key | None = None
        self.apply(key)

    def apply(self, key: Key) -> None:
        """Take over new settings; filters keep their state."""
        if key is self._key:
            return
        self._key = key
        self._gain = 10.0 ** (key.gain_db / 20.0)
        cuts = (("low_cut", key.low_cut_hz), ("high_cut", key.high_cut_hz))
        self._cuts = [
            (place, butterworth_cut(kind, cutoff_hz=cutoff_hz, order=KEY_ORDER, sample_rate=self._sample_rate))
            for place, (kind, cutoff_hz) in enumerate(cuts)
            if cutoff_hz > 0.0
        ]

    def process(self, signal: Array) -> Array:
        """What the detector hears of signal (channels, frames); signal itself when nothing is set."""
        if self._gain == 1.0 and not self._cuts:
            return signal
        heard = signal * self._gain
        for place, sections in self._cuts:
            run_sections(sections, self._state[place], heard)
        return heard

    def process_moved(self, signal: Array, rows: Rows, standing: Key) -> Array:
        """As process, for a key of which something moves by rows."""
        heard = np.empty_like(signal)
        moved = {path[4:]: values for path, values in rows.to.items() if path[:4] == "key."}
        for row, begin, end in rows.pieces(signal.shape[1]):
            self.apply(laid_over(standing, {path: float(values[row]) for path, values in moved.items()}))
            heard[:, begin:end] = self.process(np.ascontiguousarray(signal[:, begin:end]))
        return heard


def keys_of(settings: BaseModel) -> Iterator[tuple[str, Key]]:
    """(path, key) of every key that settings hold: a processor's own, or those of its bands."""
    for name, value in vars(settings).items():
        if isinstance(value, Key):
            yield name, value
        elif isinstance(value, list):
            for place, part in enumerate(value):
                if isinstance(part, BaseModel):
                    yield from ((f"{name}.{place}.{path}", key) for path, key in keys_of(part))


def with_sources(settings: Any, source_of: Callable[[Key], str]) -> Any:
    """Settings in which every key listens to what source_of says; the same object where nothing changes."""
    update: dict[str, Any] = {}
    for name, value in vars(settings).items():
        if isinstance(value, Key) and (source := source_of(value)) != value.source:
            update[name] = value.model_copy(update={"source": source})
        elif isinstance(value, list) and value and isinstance(value[0], BaseModel):
            parts = [with_sources(part, source_of) for part in value]
            if any(part is not old for part, old in zip(parts, value, strict=True)):
                update[name] = parts
    return settings.model_copy(update=update) if update else settings
