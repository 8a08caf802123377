"""Make room: one part gives way to another only where in the spectrum, and only when, the other needs it.

In bands one ERB wide (dsp.bins) strip and key are each measured against their own loudness, the level of their loudest
band of the last seconds as the ear weighs it (the K weighting of BS.1770), so that a quiet key needs no help. Where
they come within margin_db of each other a band is moved by all of amount_db, not at all 6 dB beyond, straight between;
how much of that there is at a frequency is drawn by depth_points, straight over log frequency, flat beyond. Negative
gives way, positive comes forward. A band of the key under -70 dBFS is silent, one 40 dB under its loudest does not
count. A band's level rises within 20 ms and falls by 0.2 dB a millisecond at most, since noise dips where it is strong
all the same. Bands are joined by straight lines over ERBs, and the curve moves with attack and release. All of it is a
window of 2048 frames late. Without the sound of another to give way to it does nothing: to give way to oneself is a
fader.
"""

import math
from functools import lru_cache
from typing import Any, ClassVar

import numpy as np
from pydantic import field_validator

from reins.core.dsp.bins import erb_edges, from_bands, where_both
from reins.core.dsp.filters import sections_response
from reins.core.dsp.loudness import k_weighting
from reins.core.dsp.stft import Narrow
from reins.core.processors.base import Array
from reins.core.processors.spectral import Spectral, SpectralSettings
from reins.core.settings.describing import number
from reins.core.settings.points import Drawn, Point, checked_points, points

WINDOW, OVERLAP = 2048, 4
PLACES_HZ, MOST_POINTS = (10.0, 30000.0), 32
SILENT_DB, COUNTS_DB, BEYOND_DB = -70.0, 40.0, 6.0
RISES_MS, FALLS_DB_PER_MS = 20.0, 0.2  # of a band's level now
LOUDER_MS, QUIETER_MS, QUIETEST_POWER = 60.0, 3000.0, 1e-7  # of the loudness it is measured against


class MakeRoomSettings(SpectralSettings):
    """Settings of make room."""

    amount_db: float = number(
        -6.0, -18, 18, label="Amount", unit="dB", group="Level", step=0.5, scale="db",
        help="How far it goes where both are strong: negative gives way, positive comes forward.",
    )  # fmt: skip
    margin_db: float = number(
        12.0, 0, 40, label="Margin", unit="dB", group="Level", step=0.5,
        help="How near strip and key must come to each other in a band, each against its own loudness, to count.",
    )  # fmt: skip
    depth_points: tuple[Drawn, ...] = points(
        (Point(20.0, 100.0), Point(20000.0, 100.0)), least=2, most=MOST_POINTS, places=PLACES_HZ, values=(0.0, 100.0),
        of="amount_db", label="Depth", group="Level",
        help="Points of frequency and how much of the amount, in percent; straight over log frequency between them.",
    )  # fmt: skip

    @field_validator("depth_points", mode="before")
    @classmethod
    def _as_they_come(cls, value: Any) -> Any:
        return tuple(value) if isinstance(value, list) else value

    @field_validator("depth_points")
    @classmethod
    def _check_points(cls, value: tuple[Point, ...]) -> tuple[Point, ...]:
        return tuple(checked_points(list(value), places=PLACES_HZ, values=(0.0, 100.0)))


@lru_cache(8)
def _bands(sample_rate: float) -> tuple[Any, Array]:
    """Where bands begin among the bins, and their middles in Hz."""
    return erb_edges(WINDOW, sample_rate)


def depth_of(settings: Any, hz: Array) -> Array:
    """How much of the amount there is at frequencies, 0 to 1."""
    at, depth = np.array([[point.at, point.value] for point in settings.depth_points]).T
    return np.asarray(np.interp(np.log(np.maximum(hz, 1.0)), np.log(at), depth) / 100.0)


class MakeRoom(Spectral):
    """The processor; see the module's docstring for its meaning."""

    type_name = "make_room"
    label = "Make room"
    about = "Gives way to another track only where in the spectrum, and only when, that needs it."
    known_as = "yield masking spectral unmask space by frequency"
    may_be_as_loud = False
    wants_key = True
    Settings = MakeRoomSettings
    carried: ClassVar[tuple[str, ...]] = (*Spectral.carried, "_state")

    def __init__(self, settings: Any, **more: Any) -> None:
        super().__init__(settings, **more)
        self._begins, middles = _bands(self._rate)
        self._heard = np.abs(sections_response(k_weighting(self._rate), middles, self._rate)) ** 2
        self._state = np.zeros((2, 2, middles.size))  # power of each band of strip and key, now and of late
        hop_ms = 1000.0 * self._hop / self._rate
        self._falls = 10.0 ** (-FALLS_DB_PER_MS * hop_ms / 10.0)
        self._ks = np.array([1.0 - math.exp(-hop_ms / ms) for ms in (RISES_MS, LOUDER_MS, QUIETER_MS)])

    @classmethod
    def reach_db(cls, settings: Any) -> dict[str, float]:
        """Its amount."""
        return {"gain_db": settings.amount_db}

    @classmethod
    def cut_of(cls, settings: Any) -> tuple[int, int]:
        """As long as lows need, with windows that come often enough for syllables."""
        return WINDOW, OVERLAP

    @classmethod
    def response_db(cls, settings: Any, frequencies_hz: Array, gains_db: dict[str, float], sample_rate: int) -> Array:
        """As deep as it is drawn."""
        whole = super().response_db(settings, frequencies_hz, gains_db, sample_rate)
        return np.asarray(whole * depth_of(settings, frequencies_hz))

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings; all state is kept."""
        super().apply(settings, over_frames=over_frames)
        first, self._shares = from_bands(WINDOW, self._rate, settings.smoothing_oct)
        self._ends = np.searchsorted(first, np.arange(first[-1] + 1), side="right")
        levels = 10.0 ** (np.array([SILENT_DB, -COUNTS_DB]) / 10.0)
        self._depths = depth_of(settings, _bands(self._rate)[1])
        self._params = np.array([settings.amount_db, settings.margin_db, BEYOND_DB, *levels, QUIETEST_POWER])

    def _wanted_db(self, power: Narrow, key_power: Narrow | None) -> Narrow:
        if key_power is None or self._settings.key.source in ("self", "before"):
            return np.zeros_like(power[:1])
        power = power if power.shape[0] == 1 else power.max(axis=0, keepdims=True)
        wanted = np.empty_like(power)
        where_both(
            power[0], key_power[0], self._begins, self._heard, self._ks, self._falls, self._state, self._params,
            self._depths, self._ends, self._shares, wanted[0],
        )  # fmt: skip
        return wanted
