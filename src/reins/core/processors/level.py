"""Level: gain, balance, width and polarity, mostly there to be moved.

out = gain * side * source, with the sides S = (L - R) / 2 times sides_pct, and below sides_from_hz cut by a Butterworth
filter of 24 dB/oct. Balance turns the far side down by a quarter turn of the sine, as a strip's does. A gain of -90 dB
is silence. At rest it changes nothing, to the bit. Balance and sides do nothing to a mono signal.
"""

from collections.abc import Mapping
from typing import Any

import numpy as np

from reins.core.dsp.compiled import plain
from reins.core.dsp.cuts import MovingCut
from reins.core.dsp.gains import down_to_silence, pan_gains, split_sides, widen
from reins.core.processors.base import Array, Block, Processor, ProcessorSettings, Rows
from reins.core.settings import usual
from reins.core.settings.describing import choice, number
from reins.core.units import db_to_lin

SILENT_DB = -90.0
SIDES_ORDER = 4  # 24 dB/oct


class LevelSettings(ProcessorSettings):
    """Settings of the level."""

    gain_db: float = number(
        0.0, SILENT_DB, 24, label="Gain", unit="dB", group="Level", step=0.1, scale="db", moves="gain",
        help="How much louder or quieter; all the way down is silence.",
    )  # fmt: skip
    balance_pct: float = number(
        0.0, -100, 100, label="Balance", unit="%", group="Level", step=1, moves="gain",
        help="Turns down the right side (left of 0) or the left one.",
    )  # fmt: skip
    sides_pct: float = number(
        100.0, 0, 200, label="Sides", unit="%", group="Width", step=1, moves="gain",
        help="How wide it is: 0 is mono, 100 as it came, 200 twice as much of what differs between the sides.",
    )  # fmt: skip
    sides_from_hz: float = number(
        0.0, 0, 500, label="Sides from", unit="Hz", group="Width", step=1, scale="log", least=usual.LOWEST_HZ,
        help="Below this frequency it is mono; 0 is off.",
    )  # fmt: skip
    inverted: bool = choice(
        False, label="Polarity", group="Level", words={"false": "as it is", "true": "inverted"},
        help="Turns the sound upside down.",
    )  # fmt: skip


class Level(Processor):
    """The processor; see the module's docstring for its meaning."""

    type_name = "level"
    label = "Level"
    about = "Gain, balance and width, to be moved by hand, beat or key."
    known_as = "colour and place gain volume width balance pan mono stereo"
    timed_with = {"gain_db": -6.0, "sides_pct": 80.0}
    carried = ("_cut",)
    Settings = LevelSettings
    _settings: Any

    def __init__(
        self, settings: LevelSettings, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}
    ) -> None:
        self._channels = channels
        self._cut = MovingCut("low_cut", channels=1, sample_rate=sample_rate)
        self._placed = False
        self.gains_db = {}
        self.apply(settings)

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings; all state is kept."""
        self._settings = settings
        self._cut.place(settings.sides_from_hz, SIDES_ORDER, at_once=not self._placed, frames=over_frames)
        self._placed = True

    def takes(self, rows: Rows) -> bool:
        """All that moves but polarity and what is by the grid: the cut of the sides."""
        return True

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        moved, settings, out = block.moved, self._settings, block.sound
        gains = {} if moved is None else moved.gains
        rows = None if moved is None else moved.rows
        gain_db = gains.get("gain_db", settings.gain_db)
        cuts = self._cut.acting or (rows is not None and "sides_from_hz" in rows.at)
        gain, told_db = self._gain_of(gain_db, block.sound.shape[1])
        if settings.inverted:
            gain = -gain
        changes = "gain_db" in gains or settings.inverted or settings.gain_db != 0.0
        if self._channels == 2 and (cuts or "sides_pct" in gains or settings.sides_pct != 100.0):
            at_once = changes and not isinstance(gain, np.ndarray)
            out = self._widened(out, gains.get("sides_pct", settings.sides_pct), float(gain) if at_once else 1.0, rows)
            changes = changes and not at_once
        if changes:
            out = out * gain
        if self._channels == 2 and ("balance_pct" in gains or settings.balance_pct != 0.0):
            out = out * pan_gains(gains.get("balance_pct", settings.balance_pct), 2).reshape(2, -1)
        self.gains_db = {"gain_db": told_db}
        return out

    def _widened(self, sound: Array, sides_pct: Any, gain: float, rows: Rows | None) -> Array:
        frames = sound.shape[1]
        middle, sides, out = np.empty(frames), np.empty((1, frames)), np.empty((2, frames))
        split_sides(plain(sound), middle, sides)
        if rows is not None and "sides_from_hz" in rows.at:
            hz = rows.at["sides_from_hz"], rows.to["sides_from_hz"]
            self._cut.sweep(sides, hz, (0.0, 0.0), SIDES_ORDER, rows)
        elif self._cut.acting:
            self._cut.process(sides)
        factor = sides_pct / 100.0 if isinstance(sides_pct, np.ndarray) else np.array([sides_pct / 100.0])
        widen(middle, sides, factor, gain, out)
        return out

    _told, _told_db = np.zeros(0), 0.0  # the last gain that stood, by the frame: read only

    def _gain_of(self, gain_db: Any, frames: int) -> tuple[Any, Array]:
        """Amplitudes of a gain, or of gains for each frame, and what is told of it; SILENT_DB is silence."""
        if isinstance(gain_db, np.ndarray):
            return down_to_silence(gain_db, SILENT_DB)
        silent = gain_db <= SILENT_DB
        told_db = -120.0 if silent else float(gain_db)
        if self._told.size != frames or self._told_db != told_db:
            self._told, self._told_db = np.full(frames, told_db), told_db
        return 0.0 if silent else db_to_lin(gain_db), self._told

    @classmethod
    def tail_s(cls, settings: Any) -> float:
        """As long as the cut of the sides rings."""
        return 0.1 if settings.sides_from_hz else 0.0
