"""Expander: lets quiet sound sink further (down), or loud sound rise further (up).

Down: each dB below the threshold comes out as `ratio` dB below it. Up: each dB above comes out as `ratio` dB above.
The curve is the compressor's, eq. (4) of Giannoulis, Massberg, Reiss (see dsp.dynamics), mirrored at the threshold or
turned upward, its slope ratio - 1; range_db bounds the change. The same one pole smooths the gain in dB: attack_ms
towards the untouched level when going down and towards the raised level when going up, release_ms the other way, which
starts hold_ms after the last moment that wanted at least as much.

Where the brief is silent: it starts at 0 dB, not closed, so that nothing at the very beginning is lost.
"""

from typing import Any, Literal

from reins.core.dsp import dynamics
from reins.core.processors.base import Array, choice, number
from reins.core.processors.curves import expand
from reins.core.processors.detecting import DetectorSettings, FollowingCurve
from reins.core.units import ms_to_frames


class ExpanderSettings(DetectorSettings):
    """Settings of the expander."""

    direction: Literal["down", "up"] = choice(
        "down", label="Direction", group="Level", words={"down": "quiet down", "up": "loud up"},
        help="Lets what is below the threshold sink, or what is above it rise.",
    )  # fmt: skip
    threshold_db: float = number(
        -40.0, -90, 0, label="Threshold", unit="dB", group="Level", step=0.5, scale="db",
        help="Where it begins: below this going down, above it going up.",
    )  # fmt: skip
    ratio: float = number(
        2.0, 1, 20, label="Ratio", unit=":1", group="Level", step=0.1, scale="log",
        help="How many dB come out for each dB past the threshold; upward, small amounts are enough.",
    )  # fmt: skip
    knee_db: float = number(
        6.0, 0, 24, label="Knee", unit="dB", group="Level", step=0.5,
        help="How gently it sets in around the threshold.",
    )  # fmt: skip
    range_db: float = number(
        20.0, 0, 60, label="Range", unit="dB", group="Level", step=0.5, help="The most it may ever change.",
    )  # fmt: skip
    attack_ms: float = number(
        5.0, 0, 500, label="Attack", unit="ms", group="Time", step=0.1, scale="log",
        help="How long until it has opened up, or raised.",
    )  # fmt: skip
    hold_ms: float = number(
        0.0, 0, 500, label="Hold", unit="ms", group="Time", step=1, scale="log",
        help="How long it stays before it goes back.",
    )  # fmt: skip
    release_ms: float = number(
        150.0, 1, 5000, label="Release", unit="ms", group="Time", step=1, scale="log",
        help="How long it takes to go back; too short sounds torn off.",
    )  # fmt: skip


class Expander(FollowingCurve):
    """The processor; see the module's docstring for its meaning."""

    type_name = "expander"
    label = "Expander"
    about = "Lets quiet sound sink further, or loud sound rise."
    Settings = ExpanderSettings

    def _set_curve(self, settings: Any, params: Array) -> None:
        expand(params, settings, down=settings.direction == "down", sample_rate=self._sample_rate)
        params[dynamics.HOLD_FRAMES] = ms_to_frames(settings.hold_ms, self._sample_rate)
