"""Multiband: two to six bands, each with a compressor or expander of its own.

Bands are those of dsp.crossovers: at rest their sum is the source, flat within 0.01 dB but turned in phase by the
crossovers. Curve and ballistics of a band are those of compressor and expander; amount_pct scales every band's movement
in dB. A line may be leaned over the bands (lean_lows_db and its like, at LEAN_HZ, straight between): where it leans up,
bands that compress act from as much lower and are made up for it. Each band's detector hears that band of the source or
key, averaged over 10 ms as far as its rms_pct says.

Decided here: mix_pct blends with the source turned in phase as the bands are (the sum of the bands at
rest), because the plain source would cancel around the crossovers; at 0 the source comes through as it is. A band
that is off passes as it comes, without its gain; once any band is soloed, only soloed ones are heard. With mid_side,
middle and sides are split, not left and right. Missing bands take their defaults.
"""

from collections.abc import Mapping
from types import SimpleNamespace
from typing import Any

import numpy as np

from reins.core.dsp import dynamics
from reins.core.dsp.crossovers import BUTTERWORTH_K, Splitter, band_paths
from reins.core.dsp.filters import ring_s, sections_response
from reins.core.dsp.gains import to_lin
from reins.core.dsp.held_bands import hold_bands
from reins.core.processors.base import FROM_THE_START, NOTHING, Array, Block, Delay, Moved, band_of, mixed
from reins.core.processors.curves import compress, expand, lift
from reins.core.processors.detecting import (
    RMS_MS,
    Detecting,
    from_mid_side,
    has_key,
    part_lanes,
    to_mid_side,
)
from reins.core.processors.multiband_settings import MultibandSettings, leaned
from reins.core.processors.release import remembers_s
from reins.core.processors.shaper import LATENCY_FRAMES, Bend, Grit, grit
from reins.core.processors.sidechain import filtered, names_of
from reins.core.settings.paths import laid_over
from reins.core.units import db_to_lin, ms_to_frames, one_pole_k


def _bent(settings: Any) -> list[Bend]:
    """How each band is bent."""
    share = min(1.0, settings.amount_pct / 100.0)  # of what all bands do
    return [grit(share * min(100.0, band.grit_pct + settings.grit_pct)) for band in settings.bands]


def _gritty(settings: Any) -> bool:
    """Whether it goes through the raised rate: at any amount, so that amount changes no latency."""
    return bool(settings.grit_pct or any(band.grit_pct for band in settings.bands))


def _sum(parts: list[Array]) -> Array:
    """Their sum; of one, itself."""
    total = parts[0] if len(parts) == 1 else parts[0] + parts[1]
    for part in parts[2:]:
        total += part
    return total


class Multiband(Detecting):
    """The processor; see the module's docstring for its meaning."""

    type_name = "multiband"
    label = "Multiband"
    about = "Splits the sound in bands and holds or lets each by itself."
    known_as = "hold by frequency bands crossover compressor balance"
    overdoes = True
    views = ("spectrum", "bands")
    covers = "splits"
    line = None
    timed_with = {"crossovers_hz": [150.0, 1000.0, 6000.0], "bands": [{"threshold_db": -30.0}] * 4}
    Settings = MultibandSettings
    carried = (*Detecting.carried, "_split", "_split_key", "_grit", "_dry_late")
    beside_kernel = ("key.", "crossovers_hz.")
    _params: Any  # of each band
    _each: Array  # the first row of each
    _rising: list[bool]

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}) -> None:
        super().__init__(settings, channels=channels, sample_rate=sample_rate, key_channels=key_channels)
        crossovers, count = settings.crossovers_hz, len(settings.bands)
        self._split = Splitter(crossovers, channels=channels, sample_rate=sample_rate)
        self._split_key: Splitter | None = None  # where it hears what it splits anyway
        self._state = np.zeros((count, self._lanes, dynamics.LANE_STATE))
        self._delay = Delay(channels, ms_to_frames(settings.lookahead_ms, sample_rate))
        self._grit, self._dry_late = None, Delay(channels, LATENCY_FRAMES)
        if _gritty(settings):
            self._grit = Grit(channels, sample_rate, count)
        self.apply(settings)

    @classmethod
    def latency_of(cls, settings: Any, *, sample_rate: int) -> int:
        """The lookahead, and with grit the way to the raised rate and back."""
        return super().latency_of(settings, sample_rate=sample_rate) + (LATENCY_FRAMES if _gritty(settings) else 0)

    @property
    def latency_frames(self) -> int:
        """The lookahead, and with grit the way to the raised rate and back."""
        return self._delay.frames + (0 if self._grit is None else LATENCY_FRAMES)

    def leaves_late(self, path: str) -> int:
        """A band's own gain stands before its grit, all else behind."""
        return self._delay.frames if path.startswith("bands.") else self.latency_frames

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings of equal latency; state is kept as long as the number of bands stays."""
        if len(settings.bands) != len(self._state):
            self.__init__(  # type: ignore[misc]
                settings, channels=self._channels, sample_rate=self._sample_rate, key_channels=self._key_channels
            )
            return
        super().apply(settings, over_frames=over_frames)
        self._split.place(settings.crossovers_hz, over_frames)
        own = settings.key
        alone = not (any(names_of(own)) or own.also or own.gain_db or filtered(own))
        if alone and self._delay.frames == 0:
            self._split_key = None
        elif self._split_key is None:
            self._split_key = Splitter(settings.crossovers_hz, channels=self._lanes, sample_rate=self._sample_rate)
        else:
            self._split_key.place(settings.crossovers_hz, over_frames)

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int, rows: int = 1) -> dict[str, Any]:
        soloed = any(band.solo for band in settings.bands)
        base = cls._detector_params(settings, channels, sample_rate, rows)
        params = [
            cls._band_params(
                settings, leaned(settings, index, band), base, sample_rate, silent=soloed and not band.solo
            )
            for index, band in enumerate(settings.bands)
        ]
        return super()._tune(settings, channels, sample_rate, rows) | {
            "_params": params, "_each": np.stack([own[0] for own in params]),
            "_rising": [bool(own[0, dynamics.GAIN_SIGN] < 0.0) for own in params],
        }  # fmt: skip

    @staticmethod
    def _band_params(settings: Any, band: Any, base: Array, rate: int, *, silent: bool) -> Array:
        amount, params = np.asarray(settings.amount_pct / 100.0), base.copy()
        amount = 2.0 * amount if getattr(settings, "is_overdone", False) else amount
        if band.direction == "compress":
            compress(params, band, sample_rate=rate)
        elif band.direction == "lift":
            lift(params, band, sample_rate=rate)
        else:
            expand(params, band, down=band.direction == "expand_down", sample_rate=rate)
        # The movement is linear in the curve's slope and range.
        params[..., dynamics.SLOPE] *= amount if band.on else 0.0
        params[..., dynamics.RANGE_DB] *= np.where(amount == 0.0, 1.0, amount)
        params[..., dynamics.HOLD_FRAMES] = ms_to_frames(band.hold_ms, rate)
        params[..., dynamics.BLEND], params[..., dynamics.RMS_K] = band.rms_pct / 100.0, one_pole_k(RMS_MS, rate)
        level = db_to_lin(band.gain_db) if band.on else 1.0
        for wet in (dynamics.FIRST_WET, dynamics.SECOND_WET):
            params[..., wet] *= 0.0 if band.mute else level
            params[..., wet - 1 : wet + 1] *= 0.0 if silent else 1.0
        params[..., dynamics.MID_SIDE] = 0.0  # the bands are middle and sides already
        return params

    def _part_lanes(self) -> None:
        for state in self._state:
            part_lanes(state)

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        heard, source = self._heard(block), self._delay.process(block.sound)
        # Delayed first, split after: what is on its way must not have been split at crossovers that have moved since.
        bands = self._in_bands(self._split, to_mid_side(source) if self._mid_side else source, block.moved)
        if self._split_key is None and block.moved and block.moved.rows and has_key(block.moved.rows):
            self._split_key = Splitter(
                self._settings.crossovers_hz, channels=self._lanes, sample_rate=self._sample_rate
            )
        watched = bands if self._split_key is None else self._in_bands(self._split_key, heard, block.moved)
        if block.moved is None and self._grit is None:
            return self._still(source, watched, bands)
        result, part = np.zeros_like(source), np.empty_like(source)
        self.gains_db = {}
        moved, begins = block.moved, FROM_THE_START
        if moved is None:
            moved = Moved()
        all_params, begins = (self._params, begins) if moved is None else self._moving(moved)
        gains = {} if moved is None else moved.gains
        blends = (
            moved is not None and self._mixes_aside(moved) and ("mix_pct" in gains or self._settings.mix_pct < 100.0)
        )
        parts: list[Array] = []
        aside: list[Array] = []
        soloed = any(band.solo for band in self._settings.bands)
        for index, params in enumerate(all_params):
            gain_db = np.empty((self._gain_lanes, source.shape[1]))
            heard, band, state = watched[index], bands[index], self._state[index]
            if len(params) == 1:
                dynamics.follow_curve(heard, band, state, params, self._scratch, gain_db, part)
            else:
                dynamics.follow_moving(heard, band, state, params, begins, NOTHING, self._scratch, gain_db, part)
            if gains:
                self._level(index, part, gains)
            if blends and (self._settings.bands[index].solo or not soloed):
                aside.append(band)
            result += part
            if self._grit is not None:
                parts.append(from_mid_side(part) if self._mid_side else part.copy())
            if self._settings.bands[index].on:
                self.gains_db[f"band{index + 1}.gain_db"] = self._furthest(gain_db, rising=self._rising[index])
        dry = _sum(aside) if aside else result
        if self._grit is not None:
            result, dry = (from_mid_side(sound) if self._mid_side else sound for sound in (result, dry))
            bent = self._grit.process(result, parts, [1.0] * len(parts), _bent(self._settings))
            self.gains_db = self._grit.told(self.gains_db)
            return mixed(self._dry_late.process(dry), bent, self._settings, gains)
        if gains:  # dry and held are mixed as they are where nothing moves
            result = mixed(dry, result, self._settings, gains)
        elif self._settings.mix_pct == 0.0:
            return source * db_to_lin(self._settings.output_db)
        return from_mid_side(result) if self._mid_side else result

    def _still(self, source: Array, watched: Array, bands: Array) -> Array:
        """The result while nothing moves and nothing is bent: all bands at once."""
        count, frames = len(bands), source.shape[1]
        gain_db, result = np.empty((count, self._gain_lanes, frames)), np.empty_like(source)
        hold_bands(watched, bands, self._state, self._each, self._scratch, gain_db, result)
        self.gains_db = {
            f"band{index + 1}.gain_db": self._furthest(gain_db[index], rising=self._rising[index])
            for index, band in enumerate(self._settings.bands)
            if band.on
        }
        if self._settings.mix_pct == 0.0:
            return source * db_to_lin(self._settings.output_db)
        return from_mid_side(result) if self._mid_side else result

    def _in_bands(self, split: Splitter, signal: Array, moved: Moved | None) -> Array:
        rows = None if moved is None else moved.rows
        if rows is None or not any(path.startswith("crossovers_hz.") for path in rows.at):
            return split.process(signal)
        ends = [
            tuple(end.get(f"crossovers_hz.{place}", np.array([hz])) for end in (rows.at, rows.to))
            for place, hz in enumerate(self._settings.crossovers_hz)
        ]
        return split.sweep(signal, ends, rows)  # type: ignore[arg-type]

    def _params_in_rows(self, settings: Any, at: dict[str, Array], rows: int) -> Any:
        """Of the bands that move; the others have one row."""
        if any(not path.startswith("bands.") for path in at):
            return super()._params_in_rows(settings, at, rows)
        standing = self.tuned(settings, self._channels, self._sample_rate)["_params"]
        made = list(standing)  # one row of the bands that stand
        base = self._detector_params(settings, self._channels, self._sample_rate, rows)
        for place in {int(path.split(".")[1]) for path in at}:
            own = {path.split(".", 2)[2]: values for path, values in at.items() if int(path.split(".")[1]) == place}
            band = SimpleNamespace(**vars(settings.bands[place]) | own)
            silent = any(other.solo for other in settings.bands) and not band.solo
            band = leaned(settings, place, band)
            made[place] = self._band_params(settings, band, base, self._sample_rate, silent=silent)
        return made

    def _level(self, index: int, part: Array, gains: dict[str, Array]) -> None:
        """A band's own gain, where that moves, on what its part of the result is to be."""
        own = gains.get(f"bands.{index}.gain_db")
        if own is not None and self._settings.bands[index].on:
            part *= to_lin(own)

    def _mixes_aside(self, moved: Moved) -> bool:
        return self._grit is not None or super()._mixes_aside(moved)

    def _plain(self, gains: dict[str, Array]) -> Any:
        """Settings without what moves as gains: the result is then mixed and levelled in process."""
        own = {path: 0.0 for path in gains if path.startswith("bands.")}
        return laid_over(self._settings, {"mix_pct": 100.0, "output_db": 0.0} | own)

    def hears(self, band: str = "") -> tuple[Array, Array | None] | None:
        """What all bands heard; of one, with the path that leads to it."""
        heard = super().hears()
        if heard is None or not band:
            return heard
        path = self.region_of(self._settings, band, self._sample_rate)
        return None if path is None else (heard[0], path)

    @classmethod
    def region_of(cls, settings: Any, band: str, sample_rate: int) -> Array | None:
        """The path through the crossovers that leads to a band."""
        paths = band_paths(settings.crossovers_hz, sample_rate)
        return {f"band{index + 1}.gain_db": path for index, path in enumerate(paths)}.get(band)

    @classmethod
    def part_of(cls, settings: Any, band: str) -> Any:
        """A band's settings as the line makes them."""
        index = band_of(band) or 0
        return leaned(settings, index, settings.bands[index])

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as the slowest band remembers."""
        return max(remembers_s(band) for band in settings.bands)

    @classmethod
    def tail_s(cls, settings: Any) -> float:
        """As long as the lowest crossover rings: two equal filters in a row, half as long again as one."""
        return 1.5 * ring_s(settings.crossovers_hz[0], 1.0 / BUTTERWORTH_K)

    @classmethod
    def response_db(cls, settings: Any, frequencies_hz: Array, gains_db: dict[str, float], sample_rate: int) -> Array:
        """How much it changes each frequency while its bands' gains stand so; solo and mix are left out."""
        total = np.zeros(frequencies_hz.shape, complex)
        for index, path in enumerate(band_paths(settings.crossovers_hz, sample_rate)):
            band = cls.part_of(settings, f"band{index + 1}.gain_db")
            moved_db = gains_db.get(f"band{index + 1}.gain_db", 0.0) + (band.gain_db if band.on else 0.0)
            total += sections_response(path, frequencies_hz, sample_rate) * (0.0 if band.mute else db_to_lin(moved_db))
        return np.asarray(20.0 * np.log10(np.maximum(np.abs(total), 1e-6)) + settings.output_db)

    @classmethod
    def reach_db(cls, settings: Any) -> dict[str, float]:
        """By name how far each band may move."""
        share = settings.amount_pct / 100.0
        moving = [(k + 1, band) for k, band in enumerate(settings.bands) if band.on]
        signed = [(number, b.range_db if b.direction in ("expand_up", "lift") else -b.range_db) for number, b in moving]
        return {f"band{number}.gain_db": share * reach for number, reach in signed}
