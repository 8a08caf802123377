"""Compressor: holds down what passes the threshold.

Curve and ballistics after Giannoulis, Massberg, Reiss (see dsp.dynamics). The gain in dB follows the static curve
with one pole: it has covered 63.2 % of a step after attack_ms when going further from 0 dB, after release_ms on the
way back, which starts hold_ms after the last moment that wanted at least as much.

Automatic release: see processors.release.

Where the brief is silent: input_db drives detector and signal alike (not an outside key); makeup and mix act only on
the lanes of `apply_to`, the others pass as they came but for output_db; a mono signal has one lane, so channels,
link_pct and apply_to do nothing to it; a mono signal keyed in stereo is held by the linked key.
"""

from typing import Any, Literal

import numpy as np

from reins.core.dsp import dynamics
from reins.core.processors.base import (
    Array,
    Delay,
    Key,
    KeyPath,
    Processor,
    ProcessorSettings,
    choice,
    number,
)
from reins.core.processors.release import SLOW_FILL_MS, slow_drain_ms
from reins.core.units import db_to_lin, ms_to_frames, one_pole_k

NO_LIMIT_DB = 60.0


class CompressorSettings(ProcessorSettings):
    """Settings of the compressor."""

    threshold_db: float = number(
        -18.0, -60, 0, label="Threshold", unit="dB", group="Level", step=0.5, scale="db",
        help="What is louder than this is held; lower holds more.",
    )  # fmt: skip
    ratio: float = number(
        4.0, 1, 100, label="Ratio", unit=":1", group="Level", step=0.1, scale="log",
        help="How many dB in make one dB out above the threshold; 100 stops it dead.",
    )  # fmt: skip
    knee_db: float = number(
        6.0, 0, 24, label="Knee", unit="dB", group="Level", step=0.5,
        help="How gently the hold sets in around the threshold; a wide knee starts below it.",
    )  # fmt: skip
    range_db: float = number(
        60.0, 0, 60, label="Range", unit="dB", group="Level", step=0.5,
        help="The most it may ever take away; 60 means no limit.",
    )  # fmt: skip
    input_db: float = number(
        0.0, -24, 24, label="Drive", unit="dB", group="Level", step=0.5, scale="db",
        help="Level into the compressor; more drives it further over the threshold.",
    )  # fmt: skip
    attack_ms: float = number(
        10.0, 0, 500, label="Attack", unit="ms", group="Time", step=0.1, scale="log",
        help="How long until it has taken hold; slow lets the crack of a hit through.",
    )  # fmt: skip
    hold_ms: float = number(
        0.0, 0, 500, label="Hold", unit="ms", group="Time", step=1, scale="log",
        help="How long it stays down before it starts to let go.",
    )  # fmt: skip
    release_ms: float = number(
        120.0, 1, 5000, label="Release", unit="ms", group="Time", step=1, scale="log",
        help="How long it takes to let go; too short makes bass distort, too long flattens.",
    )  # fmt: skip
    auto_release: bool = choice(
        False, label="Automatic release", group="Time",
        help="Lets go quickly after a lone hit, slowly after a long passage.",
    )  # fmt: skip
    lookahead_ms: float = number(
        0.0, 0, 20, label="Lookahead", unit="ms", group="Time", step=0.1,
        help="Sees the sound this much before it comes, so the attack can be in place in time.",
    )  # fmt: skip
    rms_pct: float = number(
        0.0, 0, 100, label="Average", unit="%", group="Detect", step=1,
        help="0 catches peaks, 100 follows the average; between them a blend.",
    )  # fmt: skip
    rms_ms: float = number(
        10.0, 1, 300, label="Window", unit="ms", group="Detect", step=1, scale="log",
        help="The span over which the average is taken.",
    )  # fmt: skip
    channels: Literal["stereo", "mid_side"] = choice(
        "stereo", label="Channels", group="Detect", words={"stereo": "L / R", "mid_side": "M / S"},
        help="Work on left and right, or on the middle and the sides.",
    )  # fmt: skip
    link_pct: float = number(
        100.0, 0, 100, label="Link", unit="%", group="Detect", step=1,
        help="100 holds both channels by the same amount, 0 each by its own.",
    )  # fmt: skip
    link_by: Literal["max", "mean"] = choice(
        "max", label="Link by", group="Detect", words={"max": "louder", "mean": "average"},
        help="Whether linked channels follow the louder one or the average of both.",
    )  # fmt: skip
    apply_to: Literal["both", "first", "second"] = choice(
        "both", label="Act on", group="Detect", words={"both": "both", "first": "L or M", "second": "R or S"},
        help="Which channels are held; the others pass untouched.",
    )  # fmt: skip
    makeup_db: float = number(
        0.0, -24, 24, label="Makeup", unit="dB", group="Out", step=0.1, scale="db",
        help="Level given back after the hold; it lifts the quietest parts too.",
    )  # fmt: skip
    mix_pct: float = number(
        100.0, 0, 100, label="Mix", unit="%", group="Out", step=1,
        help="How much of the held sound; the rest is the source, untouched.",
    )  # fmt: skip
    output_db: float = number(
        0.0, -24, 24, label="Output", unit="dB", group="Out", step=0.1, scale="db",
        help="Level of everything that leaves, held and source alike.",
    )  # fmt: skip
    key: Key = Key()


class Compressor(Processor):
    """The processor; see the module's docstring for its meaning."""

    type_name = "compressor"
    label = "Compressor"
    about = "Holds down what is louder than the threshold."
    Settings = CompressorSettings

    def __init__(self, settings: CompressorSettings, *, channels: int, sample_rate: int, key_channels: int) -> None:
        self._channels, self._sample_rate = channels, sample_rate
        self._outside_key = settings.key.source != "self"
        self._lanes = max(channels, key_channels) if self._outside_key else channels
        self._key_path = KeyPath(settings.key, channels=self._lanes, sample_rate=sample_rate)
        self._delay = Delay(channels, ms_to_frames(settings.lookahead_ms, sample_rate))
        self._state = np.zeros((self._lanes, dynamics.LANE_STATE))
        self._scratch = np.zeros((dynamics.SCRATCH_ROWS, dynamics.CHUNK))
        self.gains_db = {}
        self.apply(settings)

    def apply(self, settings: CompressorSettings) -> None:
        """Take over new settings of equal latency; all state is kept."""
        rate = self._sample_rate
        self._settings = settings
        self._key_path.apply(settings.key)
        self._input = db_to_lin(settings.input_db)
        self._mid_side = settings.channels == "mid_side" and self._channels == 2
        forced = self._channels == 1
        self._link = 1.0 if forced else settings.link_pct / 100.0
        gain_lanes = 1 if self._link == 1.0 else self._lanes
        if gain_lanes > getattr(self, "_gain_lanes", gain_lanes):
            self._state[1, : dynamics.MEAN_SQUARE] = self._state[0, : dynamics.MEAN_SQUARE]
        self._gain_lanes = gain_lanes
        mix = settings.mix_pct / 100.0
        acting = (1.0 - mix, mix * self._input * db_to_lin(settings.makeup_db))
        untouched = (1.0, 0.0)
        self._params = np.array([
            settings.rms_pct / 100.0, one_pole_k(settings.rms_ms, rate), self._link, settings.link_by == "mean",
            settings.threshold_db, -1.0 if settings.ratio == 100.0 else 1.0 / settings.ratio - 1.0, settings.knee_db,
            np.inf if settings.range_db == NO_LIMIT_DB else settings.range_db,
            one_pole_k(settings.attack_ms, rate), one_pole_k(settings.release_ms, rate),
            ms_to_frames(settings.hold_ms, rate), settings.auto_release,
            one_pole_k(SLOW_FILL_MS, rate), one_pole_k(slow_drain_ms(settings.release_ms), rate),
                db_to_lin(settings.output_db), self._mid_side,
            *(untouched if settings.apply_to == "second" and not forced else acting),
            *(untouched if settings.apply_to == "first" else acting),
        ], dtype=np.float64)  # fmt: skip

    @property
    def latency_frames(self) -> int:
        """The lookahead."""
        return self._delay.frames

    def process(self, block: Array, key: Array | None = None) -> Array:
        """The result for the next block; `key` (key channels, frames) where the settings name an outside key."""
        gain_db = np.empty((self._gain_lanes, block.shape[1]))
        out = np.empty_like(block)
        heard, source = self._heard(block, key), self._delay.process(block)
        dynamics.compress(heard, source, self._state, self._params, self._scratch, gain_db, out)
        self.gains_db = {"gain_db": self._deepest(gain_db)}
        return out

    def _heard(self, block: Array, key: Array | None) -> Array:
        """What the detector hears, in lanes."""
        if self._outside_key and key is not None:
            signal = key if key.shape[0] == self._lanes else np.repeat(key, self._lanes, axis=0)
        else:
            signal = block if self._input == 1.0 else block * self._input
        if self._mid_side:
            signal = np.stack([0.5 * (signal[0] + signal[1]), 0.5 * (signal[0] - signal[1])])
        return self._key_path.process(signal)

    def _deepest(self, gain_db: Array) -> Array:
        if gain_db.shape[0] == 1:
            return gain_db[0]
        acting = {"both": gain_db, "first": gain_db[:1], "second": gain_db[1:]}[self._settings.apply_to]
        return np.asarray(acting.min(axis=0))

    @classmethod
    def curve_db(cls, settings: Any, level_db: Array) -> Array:
        """Steady level out for each of the rising steady levels in: the processor itself, its attack at once."""
        still = settings.model_copy(
            update={
                "attack_ms": 0.0, "hold_ms": 0.0, "auto_release": False, "rms_pct": 0.0, "lookahead_ms": 0.0,
                "key": Key(gain_db=settings.key.gain_db),
            }
        )  # fmt: skip
        twin = cls(still, channels=1, sample_rate=48000, key_channels=1)
        amplitude = 10.0 ** (np.atleast_2d(level_db) / 20.0)
        return np.asarray(20.0 * np.log10(np.maximum(twin.process(amplitude)[0], 1e-6)))
