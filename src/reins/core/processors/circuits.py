"""What compressors by kind share: a gain element (dsp.circuits), and colour after it (processors.shaper).

input_db drives into it, what is heard and what leaves; operating_db moves the whole setting deeper or shallower: what
the gain element and the colour are given is so much louder, what leaves is not. With hold_on off the gain stays at
0 dB, with colour_on it is then colour alone. With colour off it is as clean as the compressor and not late; with it,
dsp.raising.LATENCY_FRAMES late.
"""

import math
from abc import abstractmethod
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np

from reins.core.dsp import circuits, dynamics
from reins.core.dsp.filters import butterworth_cut, run_sections
from reins.core.dsp.gains import to_lin
from reins.core.processors.base import FROM_THE_START, Array, Block, Counts, Delay, Moved, View, driven_db, mixed
from reins.core.processors.detecting import Detecting, KeyedSettings, part_lanes
from reins.core.processors.shaper import (
    DC_HZ,
    DC_TAIL_S,
    LATENCY_FRAMES,
    Bend,
    Shaper,
    bends,
    drive_k,
    harmonics_db,
    times_for,
)
from reins.core.settings import usual
from reins.core.settings.describing import choice
from reins.core.settings.paths import laid_over
from reins.core.units import db_to_lin, ms_to_frames


class LateGains(Delay):
    """Gains in dB that wait for what is late."""

    def lead(self, to_db: Array) -> None:
        """Bend what waits, found with other settings, straight on to the first that was found with the new ones
        (lanes,): so that one that is quick does not step where what has waited ends.
        """
        if self.frames:
            share = np.arange(1, self.frames + 1) / self.frames
            waiting = self.waiting
            self.put(waiting + share * (to_db[:, None] - waiting[:, -1:]))


class CircuitSettings(KeyedSettings):
    """Settings of every circuit."""

    raises_itself: ClassVar[bool] = True
    raised_whole: ClassVar[bool] = True

    input_db: float = usual.gain_db(
        0.0, "Level into it; more drives it further into what it holds.", group="Level", label="Drive", step=0.5,
        moves="drive",
    )  # fmt: skip
    operating_db: float = usual.operating_db()
    hold_on: bool = choice(True, label="Hold", group="Level", help="Off, it takes nothing: colour alone.")
    colour_on: bool = choice(True, label="Colour", group="Level", help="Off, it is as clean as the compressor.")
    oversampling: usual.TimesRaised = usual.raised(group="Time", whole=True)  # type: ignore[assignment]


class Circuit(Detecting):
    """Base of the circuits."""

    which: ClassVar[int]  # the gain element of dsp.circuits
    views: ClassVar[tuple[View, ...]] = ("in_out", "burst", "harmonics")
    timed_also: ClassVar[dict[str, dict[str, Any]]] = {"colour on": {"colour_on": True}}
    carried = (*Detecting.carried, "_late", "_late_gain", "_shaper", "_dc_state")
    params_size = circuits.CIRCUIT_PARAMS
    beside_kernel = ("key.",)

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}) -> None:
        super().__init__(settings, channels=channels, sample_rate=sample_rate, key_channels=key_channels)
        self._delay = Delay(channels, ms_to_frames(settings.lookahead_ms, sample_rate))
        self._state = self._make_state()
        self._colours = settings.colour_on
        wait = LATENCY_FRAMES if self._colours else 0
        self._late = Delay(channels, wait)
        self._late_gain = LateGains(self._lanes, wait)
        self._changed = False  # whether settings have, since the last block
        self._shaper = Shaper(channels, sample_rate, int(self._driven_colour(settings).oversampling))
        self._dc = butterworth_cut("low_cut", cutoff_hz=DC_HZ, order=1, sample_rate=sample_rate)
        self._dc_state = np.zeros((1, channels, 2))
        self.apply(settings)

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings of equal latency; all state is kept."""
        changed = "_settings" in vars(self)
        super().apply(settings, over_frames=over_frames)
        self._changed = changed

    def _make_state(self) -> Array:
        return np.zeros((self._lanes, circuits.CIRCUIT_STATE))

    @classmethod
    @abstractmethod
    def colour_of(cls, settings: Any) -> Bend:
        """How it bends what it has held; see processors.shaper."""

    @classmethod
    def _driven_colour(cls, settings: Any, *, moves: bool = False) -> Bend:
        """Its colour, at so many times the rate as what is driven into it wants, too; the most where that moves."""
        colour = cls.colour_of(settings)
        k = float(drive_k(colour.drive_db)) * db_to_lin(settings.input_db + settings.operating_db)
        driven = replace(colour, drive_db=max(colour.drive_db, 20.0 * math.log10(1.0 + k)))
        return replace(colour, oversampling=times_for(driven, moves=moves))

    @classmethod
    def latency_of(cls, settings: Any, *, sample_rate: int) -> int:
        """The lookahead, and with colour the way to the raised rate and back."""
        return super().latency_of(settings, sample_rate=sample_rate) + (LATENCY_FRAMES if settings.colour_on else 0)

    @property
    def latency_frames(self) -> int:
        """The lookahead, and with colour the way to the raised rate and back."""
        return self._delay.frames + self._late.frames

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int, rows: int = 1) -> dict[str, Any]:
        plain = laid_over(settings, {"mix_pct": 100.0, "output_db": 0.0})
        params = cls._detector_params(plain, channels, sample_rate, rows)
        params[..., dynamics.SIDE], params[..., dynamics.GAIN_SIGN] = 1.0, 1.0
        cls._set_element(settings, params, sample_rate)
        if not settings.hold_on:
            params[..., dynamics.SLOPE] = 0.0
        return super()._tune(settings, channels, sample_rate, rows) | {
            "_params": params, "_colour": cls._driven_colour(settings),
            "_colour_moved": cls._driven_colour(settings, moves=True),
        }  # fmt: skip

    @classmethod
    @abstractmethod
    def _set_element(cls, settings: Any, params: Array, sample_rate: int) -> None:
        """Fill in the law and the times of its gain element."""

    def _part_lanes(self) -> None:
        part_lanes(self._state)

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        gains, drives = ({}, {}) if block.moved is None else (block.moved.gains, block.moved.drives)
        settings, frames = self._settings, block.sound.shape[1]
        heard, source = self._heard(block), self._delay.process(block.sound)
        rows = None if block.moved is None else block.moved.rows
        at = {} if rows is None else {k: v for k, v in rows.at.items() if not k.startswith(self.beside_kernel)}
        params, begins = self._params, FROM_THE_START
        if rows is not None and at:
            params, begins = self._params_in_rows(settings, at, rows.begins.size), rows.begins
        gain_db, held = np.empty((self._gain_lanes, frames)), np.empty_like(source)
        self._run(heard, source, params, begins, gain_db, held)
        added: Any = None
        if self._colours:
            source, gain_db, held, added = self._coloured(source, gain_db, held, params, begins, block.moved)
        if "input_db" in drives:
            held *= to_lin(gains["input_db"] - settings.input_db)
        if added is not None:
            added += held
            held = self._hued(source, added)
        self.gains_db = {"gain_db": self._furthest(gain_db)}
        return mixed(source, held, settings, gains)

    def _run(self, heard: Array, source: Array, params: Array, begins: Counts, gain_db: Array, held: Array) -> None:
        circuits.run_circuit(self.which, heard, source, self._state, params, begins, self._scratch, gain_db, held)

    def _hued(self, source: Array, held: Array) -> Array:
        """What colour there is beside the bending."""
        return held

    def _coloured(
        self, source: Array, gain_db: Array, held: Array, params: Array, begins: Counts, moved: Moved | None
    ) -> tuple[Array, Array, Array, Array]:
        """Source and gains late, the one held by the other, and what bending adds. What waits is not driven yet: so
        drives may move without a step; operating_db moves the colour deeper too.
        """
        driven = db_to_lin(self._settings.input_db)
        k = db_to_lin(self._settings.operating_db) * float(drive_k(self._colour.drive_db))
        if moved is not None and "input_db" in moved.drives:
            added = self._shaper.add(held / driven, k * to_lin(moved.drives["input_db"]), self._colour_moved)
            added *= to_lin(moved.gains["input_db"])
        else:
            added = self._shaper.add(held, k * driven, self._colour, driven=driven)
        source, lanes = self._late.process(source), gain_db.shape[0]
        every = gain_db if lanes == self._lanes else np.concatenate([gain_db] * self._lanes)
        if self._changed:
            self._late_gain.lead(every[:, 0])
            self._changed = False
        late_db = self._late_gain.process(every)[:lanes]
        late = np.empty_like(held)
        circuits.apply_late(late_db, source, params, begins, self._scratch, late)
        run_sections(self._dc, self._dc_state, added)  # a curve that is not alike on both sides adds a constant
        return source, late_db, late, added

    _colour: Bend
    _colour_moved: Bend

    @classmethod
    def curve_db(cls, settings: Any, level_db: Array) -> Array:
        """Steady level out for each steady level in: its law, at once."""
        plain = settings.model_copy(update={"colour_on": False, "lookahead_ms": 0.0})
        params = cls._tune(plain, 1, 48000)["_params"][0]
        wanted = np.asarray(level_db) + driven_db(settings) + settings.key.gain_db
        held = cls._law_db(wanted, params)
        mix, source = settings.mix_pct / 100.0, 10.0 ** (np.asarray(level_db) / 20.0)
        out = (1.0 - mix) * source + mix * source * 10.0 ** ((settings.input_db + held) / 20.0)
        return np.asarray(20.0 * np.log10(np.maximum(out * db_to_lin(settings.output_db), 1e-6)))

    @classmethod
    def _law_db(cls, level_db: Array, params: Array) -> Array:
        """The gain in dB that steady levels want."""
        return circuits.static_db(cls.which, level_db, params)

    @classmethod
    def tail_s(cls, settings: Any) -> float:
        """With colour, as long as what takes a constant out rings."""
        return DC_TAIL_S if settings.colour_on else 0.0

    @classmethod
    def harmonics_db(cls, settings: Any) -> dict[str, Any]:
        """Those that its colour gives a tone."""
        bend = cls.colour_of(settings)
        return harmonics_db(bend if settings.colour_on else replace(bend, drive_db=0.0))

    @classmethod
    def bends(cls, settings: Any, values: Array) -> Array:
        """The curve of its colour."""
        return bends(cls.colour_of(settings), values) if settings.colour_on else values
