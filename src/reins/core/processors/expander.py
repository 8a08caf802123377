"""Expander: lets quiet sound sink further (down), or loud sound rise further (up).

Down: each dB below the threshold comes out as `ratio` dB below it. Up: each dB above comes out as `ratio` dB above.
The curve is the compressor's, eq. (4) of Giannoulis, Massberg, Reiss (see dsp.dynamics), mirrored at the threshold or
turned upward, its slope ratio - 1; range_db bounds the change. The same one pole smooths the gain in dB: attack_ms
towards the untouched level when going down and towards the raised level when going up, release_ms the other way, which
starts hold_ms after the last moment that wanted at least as much.

Decided here: it starts at 0 dB, not closed, so that nothing at the very beginning is lost.
"""

from typing import Any, Literal

from reins.core.dsp import dynamics
from reins.core.processors.base import Array
from reins.core.processors.curves import expand
from reins.core.processors.detecting import DetectorSettings, FollowingCurve
from reins.core.settings import usual
from reins.core.settings.describing import choice
from reins.core.units import ms_to_frames


class ExpanderSettings(DetectorSettings):
    """Settings of the expander."""

    direction: Literal["down", "up"] = choice(
        "down", label="Direction", group="Level", words={"down": "downward", "up": "upward"},
        help="Lets what is below the threshold sink, or what is above it rise.",
    )  # fmt: skip
    threshold_db: float = usual.threshold_db(-40.0, "Where it begins: below this going down, above it going up.")
    ratio: float = usual.ratio(
        2.0, "How many dB come out for each dB past the threshold; upward, small amounts are enough.", high=20
    )
    knee_db: float = usual.knee_db(6.0, "How gently it sets in around the threshold.")
    range_db: float = usual.range_db(20.0, "The most it may ever change.")
    attack_ms: float = usual.attack_ms(5.0, "How long until it has opened up, or raised.")
    hold_ms: float = usual.hold_ms(0.0, "How long it stays before it goes back.")
    release_ms: float = usual.release_ms(150.0, "How long it takes to go back; too short cuts the decay off.")
    auto_release: bool = usual.auto_release("Goes back quickly after a lone hit, slowly after a long passage.")

    @property
    def acts_below(self) -> bool:
        """Of one that lets down what is quiet."""
        return self.direction == "down"


class Expander(FollowingCurve):
    """The processor; see the module's docstring for its meaning."""

    type_name = "expander"
    label = "Expander"
    about = "Lets quiet sound sink further, or loud sound rise."
    known_as = "let upward downward punch transient life bleed"
    may_be_as_loud = False
    Settings = ExpanderSettings

    @classmethod
    def _set_curve(cls, settings: Any, params: Array, sample_rate: int) -> None:
        expand(params, settings, down=settings.direction == "down", sample_rate=sample_rate)
        params[..., dynamics.HOLD_FRAMES] = ms_to_frames(settings.hold_ms, sample_rate)
