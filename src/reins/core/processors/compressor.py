"""Compressor: holds down what passes the threshold.

Curve and ballistics after Giannoulis, Massberg, Reiss (see dsp.dynamics). The gain in dB follows the static curve
with one pole: it has covered 63.2 % of a step after attack_ms when going further from 0 dB, after release_ms on the
way back, which starts hold_ms after the last moment that wanted at least as much.

Automatic release: see processors.release.

Where the brief is silent: input_db drives detector and signal alike (not an outside key); makeup and mix act only on
the lanes of `apply_to`, the others pass as they came but for output_db; a mono signal has one lane, so channels,
link_pct and apply_to do nothing to it; a mono signal keyed in stereo is held by the linked key.
"""

from typing import Any

from reins.core.dsp import dynamics
from reins.core.processors.base import Array, choice, number
from reins.core.processors.curves import compress
from reins.core.processors.detecting import DetectorSettings, FollowingCurve
from reins.core.processors.release import SLOW_FILL_MS, slow_drain_ms
from reins.core.units import ms_to_frames, one_pole_k


class CompressorSettings(DetectorSettings):
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
    makeup_db: float = number(
        0.0, -24, 24, label="Makeup", unit="dB", group="Out", step=0.1, scale="db",
        help="Level given back after the hold; it lifts the quietest parts too.",
    )  # fmt: skip


class Compressor(FollowingCurve):
    """The processor; see the module's docstring for its meaning."""

    type_name = "compressor"
    label = "Compressor"
    about = "Holds down what is louder than the threshold."
    Settings = CompressorSettings

    def _set_curve(self, settings: Any, params: Array) -> None:
        rate = self._sample_rate
        compress(params, settings, sample_rate=rate)
        params[dynamics.HOLD_FRAMES] = ms_to_frames(settings.hold_ms, rate)
        params[dynamics.AUTO_RELEASE] = settings.auto_release
        params[dynamics.FILL_K] = one_pole_k(SLOW_FILL_MS, rate)
        params[dynamics.DRAIN_K] = one_pole_k(slow_drain_ms(settings.release_ms), rate)
