"""The sidechain of a detector: what it listens to, and what lies between that and the detector."""

from collections.abc import Callable, Iterator, Mapping
from typing import Annotated, Any, Literal

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, BeforeValidator, Field

from reins.core.dsp import along, variable
from reins.core.dsp.cuts import prewarped
from reins.core.dsp.filters import butterworth_cut, butterworth_cuts, run_sections, run_sections_in_rows
from reins.core.dsp.gains import to_lin
from reins.core.dsp.sweeping import straight
from reins.core.processors.base import Rows
from reins.core.settings import usual
from reins.core.settings.describing import choice, number
from reins.core.settings.models import Strict
from reins.core.units import db_to_lin

Array = npt.NDArray[np.float64]
KEY_ORDER = 4  # 24 dB/oct
SHELF_Q = 0.7
MOST_ALSO = 3


class KeySource(Strict):
    """Another sound that a detector listens to besides its key's own source."""

    source: str
    gain_db: float = usual.gain_db(0.0, "Its level among what is heard.", group="Sidechain", label="Gain", moves="grid")


def _as_sources(value: Any) -> Any:
    """Sources that came as a list, as JSON has it."""
    return tuple(value) if isinstance(value, list) else value


class Key(Strict):
    """What the detector listens to: `self` is what comes to the processor, `before` the strip's own sound before its
    chain, all else a name that the chain is given.
    """

    source: str = Field(
        "self",
        description="The track the detector listens to.",
        json_schema_extra={"kind": "source", "label": "Follows", "group": "Sidechain", "unit": ""},
    )
    also: Annotated[tuple[KeySource, ...], BeforeValidator(_as_sources)] = Field(
        (), max_length=MOST_ALSO, description="Sounds it listens to as well, each with its gain.",
        json_schema_extra={"kind": "sources", "label": "And", "group": "Sidechain", "unit": "", "most": MOST_ALSO},
    )  # fmt: skip
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
    bell_db: float = usual.gain_db(
        0.0, "Makes what lies around the bell's frequency count more, or less.", group="Key filter", label="Bell",
        moves="grid",
    )  # fmt: skip
    bell_hz: float = number(
        1000.0, 20, 20000, label="Bell at", unit="Hz", group="Key filter", step=1, scale="log",
        help="The middle of the bell.",
    )  # fmt: skip
    bell_q: float = number(
        1.0, 0.1, 20, label="Bell Q", unit="", group="Key filter", step=0.1, scale="log",
        help="How narrow the bell is; higher is narrower.",
    )  # fmt: skip
    shelf_db: float = usual.gain_db(
        0.0, "Makes all above, or below, the shelf's frequency count more, or less.", group="Key filter",
        label="Shelf", moves="grid",
    )  # fmt: skip
    shelf_hz: float = number(
        4000.0, 20, 20000, label="Shelf from", unit="Hz", group="Key filter", step=1, scale="log",
        help="Half way of the shelf.",
    )  # fmt: skip
    shelf: Literal["high", "low"] = choice(
        "high", label="Shelf side", group="Key filter", words={"high": "above", "low": "below"},
        help="Whether the shelf counts what lies above its frequency or below.",
    )  # fmt: skip


#: Ready curves of a key: a word, a sentence, and the settings of its filters; what is not named is off.
READY_CURVES: tuple[tuple[str, str, dict[str, Any]], ...] = (
    ("flat", "Everything counts as it is.", {}),
    ("no lows", "Nothing below 120 Hz drives it: kick and pops leave it alone.", {"low_cut_hz": 120.0}),
    ("voice", "Only the range of a voice counts, its presence most.",
     {"low_cut_hz": 150.0, "high_cut_hz": 7000.0, "bell_hz": 2500.0, "bell_db": 6.0, "bell_q": 0.7}),
    ("esses", "Only what lies above 4.5 kHz counts.", {"low_cut_hz": 4500.0}),
    ("thump", "Only what lies below 150 Hz counts.", {"high_cut_hz": 150.0}),
    ("as heard", "Highs count more and lows less, as the ear has it.",
     {"low_cut_hz": 60.0, "shelf": "high", "shelf_hz": 2000.0, "shelf_db": 4.0}),
)  # fmt: skip


def names_of(key: Key) -> Iterator[str]:
    """The names of all sounds a key listens to but what comes to the processor, each as often as it is named."""
    yield from (name for name in (key.source, *(one.source for one in key.also)) if name != "self")


def filtered(key: Key) -> bool:
    """Whether cuts, bell or shelf change what a key hears."""
    return bool(key.low_cut_hz or key.high_cut_hz or key.bell_db or key.shelf_db)


def lanes_of(key: Key, channels: int, key_channels: Mapping[str, int]) -> int:
    """How many lanes hold all that a key listens to, beside the processor's own channels."""
    return max(channels, *(key_channels.get(name, channels) for name in names_of(key)), 1)


def gathered(key: Key, own: Array, keys: Mapping[str, Array], lanes: int) -> Array:
    """What a key listens to (lanes, frames), of what comes to the processor and of the keys by name."""

    def sound(name: str) -> Array:
        found = own if name == "self" else keys.get(name, own)[:lanes]  # a key that is not given is the own sound
        return found if found.shape[0] == lanes else np.repeat(found, lanes, axis=0)

    heard = sound(key.source)
    for one in key.also:
        heard = heard + db_to_lin(one.gain_db) * sound(one.source)
    return heard


class KeyPath:
    """Gain and cuts between a key and the detector; carries the filters' state."""

    carried = ("_state", "_shape_state")

    def __init__(self, key: Key, *, channels: int, sample_rate: int) -> None:
        self._sample_rate = sample_rate
        self._state = np.zeros((2, KEY_ORDER // 2, channels, 2))  # of the low cut, of the high cut
        self._shape_state = np.zeros((2, channels, 2))  # of the bell, of the shelf
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
        shelf = {"high": "high_shelf", "low": "low_shelf"}[key.shelf]
        shapes = (("bell", key.bell_hz, key.bell_q, key.bell_db), (shelf, key.shelf_hz, SHELF_Q, key.shelf_db))
        self._shapes = [
            (place, variable.still(shape, freq_hz=hz, q=q, gain_db=db, sample_rate=self._sample_rate))
            for place, (shape, hz, q, db) in enumerate(shapes)
            if db != 0.0
        ]

    def process(self, signal: Array) -> Array:
        """What the detector hears of signal (channels, frames); signal itself when nothing is set."""
        if self._gain == 1.0 and not self._cuts and not self._shapes:
            return signal
        heard = signal * self._gain
        for place, sections in self._cuts:
            run_sections(sections, self._state[place], heard)
        for place, shape in self._shapes:
            variable.filter_still(heard.copy(), shape, self._shape_state[place], True, heard)
        return heard

    def process_moved(self, signal: Array, rows: Rows, standing: Key, prefix: str = "key.") -> Array:
        """As process, for a key of which something moves by rows, at paths that begin with `prefix`."""
        self.apply(standing)
        cut, frames = len(prefix), signal.shape[1]
        at, to = (
            {path[cut:]: values for path, values in which.items() if path.startswith(prefix)}
            for which in (rows.at, rows.to)
        )
        gain = to_lin(straight(at["gain_db"], to["gain_db"], rows, frames)) if "gain_db" in to else self._gain
        heard = signal * gain
        still_cuts, still_shapes = dict(self._cuts), dict(self._shapes)
        for place, kind in enumerate(("low_cut", "high_cut")):
            if f"{kind}_hz" in to:
                moving: dict[str, Any] = {
                    "cutoff_hz": to[f"{kind}_hz"],
                    "order": KEY_ORDER,
                    "sample_rate": self._sample_rate,
                }
                run_sections_in_rows(butterworth_cuts(kind, **moving), rows.begins, self._state[place], heard)
            elif place in still_cuts:
                run_sections(still_cuts[place], self._state[place], heard)
        for place, name in enumerate(("bell", "shelf")):
            if any(path.startswith(f"{name}_") for path in to):
                shape = self._shape_in_rows(name, vars(standing) | to, rows.begins.size)
                along.filter_in_rows(heard.copy(), shape, rows.begins, self._shape_state[place], True, heard)
            elif place in still_shapes:
                variable.filter_still(heard.copy(), still_shapes[place], self._shape_state[place], True, heard)
        return heard

    def _shape_in_rows(self, name: str, now: Mapping[str, Any], rows: int) -> Array:
        """The bell's or the shelf's coefficients (rows, 6), for settings that are numbers or one value a row."""
        shape = "bell" if name == "bell" else {"high": "high_shelf", "low": "low_shelf"}[now["shelf"]]
        hz, gain_db = (np.broadcast_to(now[f"{name}_{end}"], (rows,)).copy() for end in ("hz", "db"))
        q = now["bell_q"] if name == "bell" else SHELF_Q
        return variable.stills(shape, warped=prewarped(hz, self._sample_rate), q=q, gain_db=gain_db)


def keys_of(settings: BaseModel) -> Iterator[tuple[str, Key]]:
    """(path, key) of every key that settings hold: a processor's own, or those of its bands."""
    for name, value in vars(settings).items():
        if isinstance(value, Key):
            yield name, value
        elif isinstance(value, list):
            for place, part in enumerate(value):
                if isinstance(part, BaseModel):
                    yield from ((f"{name}.{place}.{path}", key) for path, key in keys_of(part))


def with_sources(settings: Any, source_of: Callable[[str], str]) -> Any:
    """Settings in which every key listens to what source_of says of each name; what else it listens to goes where that
    becomes the processor's own sound. The same object where nothing changes.
    """
    update: dict[str, Any] = {}
    for name, value in vars(settings).items():
        if isinstance(value, Key) and (key := renamed(value, source_of)) is not value:
            update[name] = key
        elif isinstance(value, list) and value and isinstance(value[0], BaseModel):
            parts = [with_sources(part, source_of) for part in value]
            if any(part is not old for part, old in zip(parts, value, strict=True)):
                update[name] = parts
    return settings.model_copy(update=update) if update else settings


def renamed(key: Key, source_of: Callable[[str], str]) -> Key:
    """A key that listens to what source_of says of each name; see with_sources."""
    if all(source_of(name) == name for name in names_of(key)):
        return key
    also = (one.model_copy(update={"source": source_of(one.source)}) for one in key.also)
    kept = tuple(
        new for new, old in zip(also, key.also, strict=True) if new.source == old.source or new.source != "self"
    )
    return key.model_copy(update={"source": source_of(key.source), "also": kept})
