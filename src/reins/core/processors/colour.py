"""Colour: harmonics by bending the waveform, with a drive that is no gain (processors.shaper, dsp.shaping).

Only what lies between from_hz and to_hz is bent (Butterworth, 12 dB/oct), the rest passes as it is. tilt_db brightens
what is bent, about 800 Hz, and is undone after. With auto_level what comes out is as loud as what went in: mean powers
of both, K-weighted as BS.1770 has it, over QUICK_MS and SLOW_MS, give the gain. What a curve that is not alike on both
sides adds as a constant is taken out below DC_HZ. mix_pct blends with the source.

All of it comes dsp.raising.LATENCY_FRAMES later, at any drive and oversampling.
"""

from collections.abc import Mapping
from typing import Any, ClassVar, Literal

import numpy as np

from reins.core.dsp import variable
from reins.core.dsp.cuts import MovingCut
from reins.core.dsp.filters import butterworth_cut, run_sections
from reins.core.dsp.levelling import SLOW_MS, Levelled
from reins.core.processors.base import Array, Block, Delay, Processor, ProcessorSettings, Rows, mixed
from reins.core.processors.filter import shape_still
from reins.core.processors.shaper import (
    DC_HZ,
    DC_TAIL_S,
    LATENCY_FRAMES,
    WARM_FRAMES,
    Recent,
    Shaper,
    bends,
    drive_k,
    harmonics_db,
    times_for,
)
from reins.core.settings import usual
from reins.core.settings.describing import choice, number

TILT_HZ = 800.0
EDGE_ORDER = 2


class ColourSettings(ProcessorSettings):
    """Settings of the colour."""

    raises_itself: ClassVar[bool] = True

    drive_db: float = number(
        12.0, 0, 36, label="Drive", unit="dB", group="Colour", step=0.5, scale="db", moves="drive",
        help="How far the waveform is bent; it adds harmonics, not level. 0 adds nothing.",
    )  # fmt: skip
    kind: Literal["soft", "hard", "odd", "even"] = choice(
        "soft", label="Kind", group="Colour",
        help="Soft bends at all levels, hard cuts corners off peaks, odd adds thirds, even adds octaves.",
    )  # fmt: skip
    bias_pct: float = number(
        0.0, -100, 100, label="Bias", unit="%", group="Colour", step=1, moves=False,
        help="Where on the curve it works: away from the middle even harmonics join the odd ones.",
    )  # fmt: skip
    from_hz: float = usual.cut_hz(
        "From", group="Band", off_as=usual.LOWEST_HZ, help="Only what lies above is bent; 0 is off."
    )
    to_hz: float = usual.cut_hz(
        "To", group="Band", off_as=usual.HIGHEST_HZ, help="Only what lies below is bent; 0 is off."
    )
    tilt_db: float = number(
        0.0, -12, 12, label="Tilt", unit="dB", group="Band", step=0.5, scale="db", moves=False,
        help="Brightens or darkens what is bent; undone after it.",
    )  # fmt: skip
    auto_level: bool = choice(True, label="Level alike", group="Out", help="What comes out is as loud as what went in.")
    mix_pct: float = usual.share_pct(
        100.0, "How much of the bent sound; the rest is the source.", group="Out", label="Mix", moves="gain"
    )
    output_db: float = usual.gain_db(0.0, "Level of everything that leaves.", group="Out", label="Output")
    oversampling: usual.TimesRaised = usual.raised()


class Colour(Processor):
    """The processor; see the module's docstring for its meaning."""

    type_name = "colour"
    label = "Colour"
    about = "Adds harmonics to all or to a band, at the same loudness."
    known_as = "hold saturation distortion drive warmth harmonics tape tube grit exciter"
    views = ("harmonics",)
    timed_with = {"drive_db": 24.0}
    carried = (
        "_delay", "_shaper", "_low_cut", "_high_cut", "_tilt_state", "_untilt_state", "_dc_state",
        "_alike", "_recent",
    )  # fmt: skip
    Settings = ColourSettings
    _settings: Any

    def __init__(
        self, settings: ColourSettings, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}
    ) -> None:
        self._channels, self._rate = channels, sample_rate
        self._delay = Delay(channels, LATENCY_FRAMES)
        self._shaper = Shaper(channels, sample_rate, 1)
        self._made_as: tuple[Any, ...] | None = None  # what the shaper's state was made with; None where it rests
        self._recent = Recent(channels)
        kinds = ("low_cut", "high_cut")
        self._low_cut, self._high_cut = (MovingCut(k, channels=channels, sample_rate=sample_rate) for k in kinds)
        self._tilt_state, self._untilt_state = np.zeros((channels, 2)), np.zeros((channels, 2))
        self._dc = butterworth_cut("low_cut", cutoff_hz=DC_HZ, order=1, sample_rate=sample_rate)
        self._dc_state = np.zeros((1, channels, 2))
        self._alike = Levelled(channels, sample_rate)
        self.gains_db = {}
        self.apply(settings)

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings; all state is kept."""
        more: dict[str, Any] = {"at_once": not hasattr(self, "_settings"), "frames": over_frames}
        self._settings = settings
        self._low_cut.place(settings.from_hz, EDGE_ORDER, **more)
        self._high_cut.place(settings.to_hz, EDGE_ORDER, **more)

    @classmethod
    def latency_of(cls, settings: Any, *, sample_rate: int) -> int:
        """The way to the raised rate and back."""
        return LATENCY_FRAMES

    @property
    def latency_frames(self) -> int:
        """The way to the raised rate and back."""
        return LATENCY_FRAMES

    def takes(self, rows: Rows) -> bool:
        """All: the edges of the band."""
        return True

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        settings, moved = self._settings, block.moved
        gains, drives = ({}, {}) if moved is None else (moved.gains, moved.drives)
        late, band = self._delay.process(block.sound), self._band(block)
        made = late
        if settings.drive_db > 0.0 or "drive_db" in drives:
            made = self._added(band, drives.get("drive_db", settings.drive_db))
            made += late
        else:
            self._made_as = None
        self._recent.add(band)
        self.gains_db = {}
        if settings.auto_level:
            made = self._alike.process(late, made)
        return mixed(late, made, settings, gains)

    def _band(self, block: Block) -> Array:
        """What is to be bent."""
        rows = None if block.moved is None else block.moved.rows
        if rows is None and not self._low_cut.acting and not self._high_cut.acting:
            return block.sound
        band = block.sound.copy()
        for cut, name in ((self._low_cut, "from_hz"), (self._high_cut, "to_hz")):
            if rows is not None and name in rows.at:
                cut.sweep(band, (rows.at[name], rows.to[name]), (0.0, 0.0), EDGE_ORDER, rows)
            elif cut.acting:
                cut.process(band)
        return band

    def _added(self, band: Array, drive_db: Any) -> Array:
        """What bending adds to the sound. What is on its way through the raised rate, made with other settings, is made
        anew of what came last, so that nothing steps.
        """
        settings, moves = self._settings, isinstance(drive_db, np.ndarray)
        times = times_for(settings, moves=moves)
        made_as = settings.kind, settings.bias_pct, settings.tilt_db, times, None if moves else drive_db
        if made_as != self._made_as:
            rested, self._made_as = self._made_as is None, made_as
            self._shaper = Shaper(self._channels, self._rate, times)
            self._tilt_state, self._untilt_state = np.zeros((2, self._channels, 2))
            first = self._bent(self._recent.joined(), float(drive_db[0] if moves else drive_db))
            if rested:  # as if a constant had long been taken out
                self._dc_state[0, :, 0] = -self._dc[0, 0] * first[:, WARM_FRAMES // 2 :].mean(axis=1)
        added = self._bent(band, drive_db)
        run_sections(self._dc, self._dc_state, added)
        return added

    def _bent(self, band: Array, drive_db: Any) -> Array:
        settings = self._settings
        if settings.tilt_db:
            band = band.copy()
            self._tilt(band, settings.tilt_db, self._tilt_state)
        added = self._shaper.process(band, drive_k(drive_db), kind=settings.kind, bias_pct=settings.bias_pct)
        if settings.tilt_db:
            self._tilt(added, -settings.tilt_db, self._untilt_state)
        return added

    def _tilt(self, sound: Array, tilt_db: float, state: Array) -> None:
        variable.filter_still(sound, shape_still("tilt", TILT_HZ, tilt_db, self._rate), state, False, sound)

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as the loudness of both is averaged."""
        return SLOW_MS * 1e-3 if settings.auto_level else 0.0

    @classmethod
    def tail_s(cls, settings: Any) -> float:
        """As long as what takes a constant out rings."""
        return DC_TAIL_S

    @classmethod
    def bends(cls, settings: Any, values: Array) -> Array:
        """The curve at this drive, without what is filtered before and after it."""
        return bends(settings, values)

    @classmethod
    def harmonics_db(cls, settings: Any) -> dict[str, Any]:
        """Those of the curve."""
        return harmonics_db(settings)
