"""Fine bands: hundreds of narrow bands, each with its own dynamics, by a short-time Fourier transform (dsp.stft).

Levels are calibrated: a sine of -20 dBFS in the middle of a bin reads -20 dB; bins that hear no more than what leaks
from a louder one near by are moved with that. Above the threshold each bin is held by hold_ratio (100 is flat), below
it lifted by lift_ratio or closed by close_ratio, each over a knee and within a range. The threshold is drawn across
frequency by threshold_points, straight over log frequency between them, flat beyond, and threshold_db moves all of it.
reference says what it lies on: 0 dBFS; the take's own mean in each bin, so that what sticks out is held; or a key now,
as `key_way` says: held where the key is over it, or moved towards the key's balance. What is lifted fades out over an
octave at from_hz and to_hz. All of it is a window late.
"""

from typing import Any, Literal

import numpy as np
from pydantic import field_validator, model_validator

from reins.core.dsp.bins import AS_MUCH_DB, LEAKS_DB, curve, in_db, owned, smoothed
from reins.core.dsp.octaves import OCTAVE, TWELFTHS_HZ
from reins.core.dsp.stft import Narrow, noise_bandwidth_hz
from reins.core.processors.base import Array
from reins.core.processors.spectral import Spectral, SpectralSettings
from reins.core.settings import usual
from reins.core.settings.describing import choice, number
from reins.core.settings.models import MisfitError
from reins.core.settings.points import Drawn, Point, checked_points, points

FLAT_RATIO = 100.0
MOST_POINTS = 32
PLACES_HZ, VALUES_DB = (10.0, 30000.0), (-150.0, 60.0)
QUIET_DB = -100.0  # what lies below is not lifted


class FineBandsSettings(SpectralSettings):
    """Settings of the fine bands."""

    reference: Literal["fixed", "own_mean", "key"] = choice(
        "fixed", label="Threshold on", group="Compare", words={"fixed": "fixed", "own_mean": "mean", "key": "key"},
        help="What the threshold lies on: full scale, the take's own mean at each frequency, or a key as it is now.",
    )  # fmt: skip
    key_way: Literal["step_back", "balance"] = choice(
        "step_back", label="With a key", group="Compare", words={"step_back": "step back", "balance": "balance"},
        help="Step back where the key is over the threshold, or take on the key's balance.",
    )  # fmt: skip
    threshold_db: float = number(
        0.0, -60, 60, label="Threshold", unit="dB", group="Level", step=0.5, scale="db",
        help="Moves the drawn threshold as a whole; over a take's mean, how far a bin may stick out.",
    )  # fmt: skip
    threshold_points: list[Drawn] = points(
        [Point(1000.0, -40.0)], least=1, most=MOST_POINTS, places=PLACES_HZ, values=VALUES_DB,
        label="Drawn threshold", group="Level",
        help="Points of frequency and level; straight over log frequency between them, flat beyond.",
    )  # fmt: skip
    hold_ratio: float = usual.ratio(4.0, "How firmly what is above is held; 100 is flat.")
    lift_ratio: float = number(
        1.0, 1, 10, label="Lift", unit=":1", group="Below", step=0.1, scale="log",
        help="How much what is below comes up; 1 leaves it.",
    )  # fmt: skip
    close_ratio: float = number(
        1.0, 1, 10, label="Close", unit=":1", group="Below", step=0.1, scale="log",
        help="How much what is below sinks; 1 leaves it.",
    )  # fmt: skip
    knee_db: float = usual.knee_db(6.0, "How gradually it begins about the threshold.")
    hold_range_db: float = usual.range_db(24.0, "The most a bin is held.", label="Hold range")
    lift_range_db: float = usual.range_db(12.0, "The most a bin is lifted.", label="Lift range", group="Below")
    close_range_db: float = usual.range_db(24.0, "The most a bin is closed.", label="Close range", group="Below")
    window: Literal[64, 128, 256, 512, 1024, 2048, 4096, 8192, 16384] = choice(
        2048,
        label="Window",
        group="Windows",
        help="Frames of a window: long ones part narrow bands.",
    )
    overlap: Literal[2, 4, 8] = choice(
        4, label="Overlap", group="Windows", help="How many windows lie over each frame."
    )
    link_pct: float = usual.share_pct(
        100.0, "100 holds both channels by the same amount, 0 each by its own.", group="Band", label="Link", moves=False
    )

    @property
    def acts_below(self) -> bool:
        """Where nothing is held, it lifts or closes what lies under."""
        return self.hold_ratio == 1.0

    @field_validator("threshold_points")
    @classmethod
    def _check_points(cls, value: list[Point]) -> list[Point]:
        return checked_points(value, places=PLACES_HZ, values=VALUES_DB)

    @model_validator(mode="after")
    def _one_way_below(self) -> "FineBandsSettings":
        if self.lift_ratio > 1.0 and self.close_ratio > 1.0:
            raise MisfitError("close_ratio", f"{self.close_ratio:g}", "1 while lift_ratio is over 1")
        return self


class FineBands(Spectral):
    """The processor; see the module's docstring for its meaning."""

    type_name = "fine_bands"
    label = "Fine bands"
    about = "Hundreds of narrow bands, each held, lifted or closed by itself: whistles, ringing, harshness."
    known_as = "by frequency resonance whistle ringing spectral denoise harshness"
    Settings = FineBandsSettings

    def __init__(self, settings: Any, **more: Any) -> None:
        self._mean_db: Narrow | None = None
        self._spectrum: Array | None = None
        super().__init__(settings, **more)

    @classmethod
    def cut_of(cls, settings: Any) -> tuple[int, int]:
        """As set."""
        return settings.window, settings.overlap

    @classmethod
    def listens(cls, settings: Any) -> bool:
        """Whether its threshold lies on a key."""
        return bool(settings.reference == "key")

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings of the same windows; all state is kept."""
        super().apply(settings, over_frames=over_frames)
        self._drawn_db = _drawn_db(settings, self._hz).astype(np.float32)
        low, high = max(settings.from_hz, 1.0), max(settings.to_hz, 1.0) if settings.to_hz else 1e9
        octaves = np.minimum(np.log2(np.maximum(self._hz, 1.0) / low), np.log2(high / np.maximum(self._hz, 1.0)))
        self._fades = np.clip(octaves, 0.0, 1.0).astype(np.float32)
        steep = 1.0 if settings.hold_ratio == FLAT_RATIO else 1.0 - 1.0 / settings.hold_ratio
        lifted, closed = 1.0 - 1.0 / settings.lift_ratio, settings.close_ratio - 1.0
        ranges = settings.hold_range_db, settings.lift_range_db, settings.close_range_db
        self._params = np.array([steep, settings.knee_db, ranges[0], lifted, ranges[1], closed, ranges[2]], np.float32)

    def know(self, spectrum: Array | None) -> None:
        """The take's mean in each bin, of its power in twelfths of an octave."""
        if spectrum is self._spectrum:
            return
        self._spectrum, self._mean_db = spectrum, None
        if spectrum is not None:
            self._mean_db = _mean_db(spectrum, self._hz, self._length, self._rate).astype(np.float32)

    @classmethod
    def lies_on_db(cls, settings: Any, frequencies_hz: Array, spectrum: Array | None, sample_rate: int) -> Array | None:
        """threshold_db, over the take's mean where it lies on that; None where a key's balance is taken on."""
        if settings.reference == "key" and settings.key_way == "balance":
            return None
        under = np.full(frequencies_hz.shape, settings.threshold_db)
        if settings.reference != "own_mean" or spectrum is None:
            return under
        return under - _level(settings) + _mean_db(spectrum, frequencies_hz, settings.window, sample_rate)

    @classmethod
    def reach_db(cls, settings: Any) -> dict[str, float]:
        """As far as it holds, else as far as it lifts or closes."""
        if settings.hold_ratio > 1.0:
            return {"gain_db": -settings.hold_range_db}
        if settings.lift_ratio > 1.0:
            return {"gain_db": settings.lift_range_db}
        return {"gain_db": -settings.close_range_db if settings.close_ratio > 1.0 else 0.0}

    def _goes_by_louder(self) -> bool:
        return bool(self._settings.link_pct == 100.0)

    def _wanted_db(self, power: Narrow, key_power: Narrow | None) -> Narrow:
        return smoothed(self._by_bin_db(power, key_power), self._settings.smoothing_oct)

    def _by_bin_db(self, power: Narrow, key_power: Narrow | None) -> Narrow:
        settings = self._settings
        tied = np.float32(settings.link_pct / 100.0)
        if tied == 1.0 and power.shape[0] == 2:  # one gain for both sides, by the louder of them in each bin
            power, tied = power.max(axis=0, keepdims=True), np.float32(0.0)
        level = _owned(power)
        if settings.reference == "own_mean":
            mean = self._mean_db if self._mean_db is not None else np.float32(0.0)
            return self._curve(level, mean + self._drawn_db, tied)
        if key_power is None:
            return self._curve(level, self._drawn_db, tied)
        heard = _owned(key_power)
        if settings.key_way == "balance":
            level = level + tied * (level.max(axis=0, keepdims=True) - level)
            sound = (heard > QUIET_DB) & (level > QUIET_DB)
            apart = np.where(sound, heard + np.float32(settings.threshold_db) - level, np.float32(0.0))
            share = np.float32(1.0 - 1.0 / settings.hold_ratio)
            return np.clip(share * apart, np.float32(-settings.hold_range_db), np.float32(settings.lift_range_db))
        held = np.minimum(self._curve(heard, self._drawn_db, np.float32(0.0)), np.float32(0.0))
        return np.repeat(held, level.shape[0], axis=0)

    def _curve(self, level: Narrow, threshold: Narrow, tied: np.float32) -> Narrow:
        gain = np.empty_like(level)
        curve(level, threshold, tied, self._fades, self._params, gain)
        return gain


def _drawn_db(settings: Any, hz: Array) -> Array:
    """The threshold as drawn, at frequencies; on a mean its shape alone, so that 0 dB is the mean."""
    at, level = np.array([[point.at, point.value] for point in settings.threshold_points]).T
    drawn = np.interp(np.log(np.maximum(hz, 1.0)), np.log(at), level) + settings.threshold_db
    return np.asarray(drawn - _level(settings) if settings.reference == "own_mean" else drawn)


def _level(settings: Any) -> float:
    """The mean level of the points drawn."""
    return sum(point.value for point in settings.threshold_points) / len(settings.threshold_points)


def _mean_db(spectrum: Array, hz: Array, length: int, sample_rate: float) -> Array:
    """What a bin of a window of so many frames reads at frequencies of a take with this power in twelfths."""
    width_hz = TWELFTHS_HZ * (OCTAVE ** (1 / 24) - OCTAVE ** (-1 / 24))
    density = np.maximum(spectrum / width_hz, 1e-20) * noise_bandwidth_hz(length, sample_rate)
    return np.interp(np.log(np.maximum(hz, 1.0)), np.log(TWELFTHS_HZ), 10.0 * np.log10(density))


def _owned(power: Narrow) -> Narrow:
    level = np.ascontiguousarray(in_db(power))
    made = np.empty_like(level)
    owned(level, LEAKS_DB, AS_MUCH_DB, made)
    return made
