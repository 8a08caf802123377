"""Limiter: nothing passes the ceiling.

The gain is fully in place when a peak arrives and lets go with one pole in dB (release, or the automatic release of
the compressor). With true_peak off no sample passes the ceiling. With it on, peaks between samples are found by an
interpolation eight times finer, and a margin of 0.15 dB is kept for what even that reads too low.

Latency: the lookahead, and with true_peak half the interpolation filter more.
"""

from collections.abc import Mapping
from typing import Any

import numpy as np

from reins.core.dsp import limiting
from reins.core.dsp.gains import to_lin
from reins.core.processors.base import FROM_THE_START, Array, Block, Counts, Moved, Processor, ProcessorSettings, Rows
from reins.core.processors.release import SLOW_FILL_MS, VALLEY_MS, remembers_s, slow_drain_ms
from reins.core.settings import usual
from reins.core.settings.describing import choice, number
from reins.core.units import db_to_lin, ms_to_frames, one_pole_k

MARGIN_DB = 0.15


class LimiterSettings(ProcessorSettings):
    """Settings of the limiter."""

    ceiling_db: float = number(
        -1.0, -24, 0, label="Ceiling", unit="dB", group="Level", step=0.1, scale="db", moves="drive",
        help="Nothing that leaves is louder than this.",
    )  # fmt: skip
    input_db: float = usual.gain_db(
        0.0,
        "Level into the limiter; more is louder and held more.",
        group="Level",
        label="Drive",
        step=0.5,
        moves="drive",
    )
    true_peak: bool = choice(
        True, label="True peak", group="Level",
        help="Holds the peaks between the samples too, as a converter would make them.",
    )  # fmt: skip
    lookahead_ms: float = number(
        3.0, 0.5, 10, label="Lookahead", unit="ms", group="Time", step=0.1, moves=False,
        help="How long before a peak the hold begins; longer is smoother.",
    )  # fmt: skip
    release_ms: float = usual.release_ms(80.0, "How long it takes to go back; short is loud, too short distorts.")
    auto_release: bool = usual.auto_release("Lets go quickly after a lone peak, slowly after a long passage.")
    link_pct: float = usual.share_pct(
        100.0,
        "100 holds both channels by the same amount, 0 each by its own.",
        group="Detect",
        label="Link",
        moves=False,
    )
    oversampling: usual.TimesTheRate = usual.oversampling()


RELEASE_K, DRAIN_K = 2, 5  # among the parameters of limit_gain


def _ahead_frames(settings: LimiterSettings, sample_rate: int) -> int:
    return max(1, ms_to_frames(settings.lookahead_ms, sample_rate))


class Limiter(Processor):
    """The processor; see the module's docstring for its meaning."""

    type_name = "limiter"
    label = "Limiter"
    about = "Lets nothing pass its ceiling."
    known_as = "hold ceiling loudness peak brick wall maximize true peak"
    views = ("in_out", "burst")
    line = "ceiling_db"
    carried = ("_lanes", "_wanted", "_places", "_recent", "_counters")
    Settings = LimiterSettings

    def __init__(
        self, settings: LimiterSettings, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}
    ) -> None:
        self._sample_rate = sample_rate
        self._channels, self._ahead = channels, _ahead_frames(settings, sample_rate)
        self._latency = self.latency_of(settings, sample_rate=sample_rate)
        self._phases = limiting.interpolator() if settings.true_peak else None
        # What has come in, not driven yet: enough for the delay, and for all that the gain of now depends on.
        self._before = np.zeros((channels, 2 * self._ahead + 3 + limiting.TAPS))
        self._lanes = np.zeros((channels, limiting.LANE_STATE))
        self._forget()
        self.gains_db = {}
        self._heard_with: tuple[float, ...] = ()
        self.apply(settings)

    def _forget(self) -> None:
        """The windows as they are after silence; how far the gain has let go stays."""
        channels, ahead = self._channels, self._ahead
        window = ahead + (2 if self._phases is not None else 1)
        self._wanted = np.ones((channels, window + 1))
        self._places = np.zeros((channels, window + 1), np.int64)
        self._recent = np.full((channels, ahead + 1), int(limiting.STEPS), np.int64)
        self._lanes[:, limiting.TOTAL] = limiting.STEPS * (ahead + 1)
        self._counters = np.zeros((channels, 4), np.int64)

    def apply(self, settings: LimiterSettings, *, over_frames: int | None = None) -> None:
        """Take over new settings of equal latency. What is on its way through the window was not driven yet, and is
        heard once more as it will be: drive and ceiling may move without a step.
        """
        rate, self._settings = self._sample_rate, settings
        self._ceiling = db_to_lin(settings.ceiling_db)
        held_to = db_to_lin(settings.ceiling_db - (MARGIN_DB if settings.true_peak else 0.0))
        self._input = db_to_lin(settings.input_db)
        linked = settings.link_pct == 100.0
        if not linked and getattr(self, "_linked", False):
            self._lanes[1:] = self._lanes[:1]
        self._linked = linked
        self._params = np.array([[
            held_to, settings.link_pct / 100.0, one_pole_k(settings.release_ms, rate), settings.auto_release,
            one_pole_k(SLOW_FILL_MS, rate), one_pole_k(slow_drain_ms(settings.release_ms), rate),
            ms_to_frames(VALLEY_MS, rate),
        ]], dtype=np.float64)  # fmt: skip
        heard_with = (held_to, self._input, settings.link_pct)
        if self._heard_with not in ((), heard_with):
            self._forget()
            self._gains(self._before * self._input, limiting.TAPS - 1, self._params, FROM_THE_START)
        self._heard_with = heard_with

    @classmethod
    def latency_of(cls, settings: Any, *, sample_rate: int) -> int:
        """Lookahead, and the reach of the interpolation."""
        return _ahead_frames(settings, sample_rate) + (limiting.TAPS // 2 if settings.true_peak else 0)

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as its gain remembers."""
        return remembers_s(settings)

    @property
    def latency_frames(self) -> int:
        """Lookahead, and the reach of the interpolation."""
        return self._latency

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        frames, before = block.sound.shape[1], self._before.shape[1]
        moved = block.moved
        sound = block.sound if moved is None else block.sound * self._driven(moved)
        joined = np.concatenate([self._before, sound], axis=1)
        self._before = joined[:, frames:].copy()
        driven = joined * self._input if self._input != 1.0 else joined
        rows = None if moved is None else moved.rows
        params, begins = (self._params, FROM_THE_START) if rows is None else self._in_rows(rows)
        gains = self._gains(driven, before, params, begins)
        gain_db, out = np.empty(frames), np.empty_like(block.sound)
        limiting.apply_limit(driven, before - self._latency, gains, self._ceiling, gain_db, out)
        self.gains_db = {"gain_db": gain_db}
        if moved is not None and "ceiling_db" in moved.gains:
            out *= to_lin(moved.gains["ceiling_db"] - self._settings.ceiling_db)
        return out

    def _driven(self, moved: Moved) -> Array | float:
        """What comes in is made louder by, where drive or ceiling move: a lower ceiling is more drive, and less level
        of what leaves, so that no sample passes the ceiling of its own moment.
        """
        by_db: Any = 0.0
        if "input_db" in moved.drives:
            by_db = by_db + moved.drives["input_db"] - self._settings.input_db
        if "ceiling_db" in moved.drives:
            by_db = by_db + self._settings.ceiling_db - moved.drives["ceiling_db"]
        return to_lin(by_db) if isinstance(by_db, np.ndarray) else 1.0

    def takes(self, rows: Rows) -> bool:
        """All there is: the release."""
        return True

    def _in_rows(self, rows: Rows) -> tuple[Array, Counts]:
        """Parameters (rows, 7) while the release moves, and the frames at which the rows begin."""
        release_ms, params = rows.at["release_ms"], np.repeat(self._params, rows.begins.size, axis=0)
        params[:, RELEASE_K] = one_pole_k(release_ms, self._sample_rate)
        params[:, DRAIN_K] = one_pole_k(slow_drain_ms(release_ms), self._sample_rate)
        return params, rows.begins

    def _gains(self, driven: Array, first: int, params: Array, begins: Counts) -> Array:
        """Gains in lanes from driven sound (channels, frames), of its frames from `first` on; those before are heard
        between.
        """
        lanes = 1 if self._linked else driven.shape[0]  # linked: one gain for all, from the loudest channel
        gains = np.empty((lanes, driven.shape[1] - first))
        if self._phases is None:
            limiting.sample_peaks(driven, first, gains)
        else:
            first -= limiting.TAPS - 1
            limiting.between_peaks(driven, first, self._phases, limiting.bound(), params[0, 0], gains)
        carried = (self._wanted, self._places, self._lanes, self._recent, self._counters)
        limiting.limit_gain(gains, *carried, params, begins)
        return gains

    @classmethod
    def curve_db(cls, settings: Any, level_db: Array) -> Array:
        """Steady level out for each steady level in."""
        return np.minimum(np.asarray(level_db) + settings.input_db, settings.ceiling_db)
