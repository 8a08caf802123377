"""Compressor: holds down what passes the threshold.

Curve and ballistics after Giannoulis, Massberg, Reiss (see dsp.dynamics). The gain in dB follows the static curve
with one pole: it has covered 63.2 % of a step after attack_ms when going further from 0 dB, after release_ms on the
way back, which starts hold_ms after the last moment that wanted at least as much.

Automatic release: see processors.release.

operating_db raises what is heard and lowers what leaves alike: the whole setting lies deeper in the sound.

Decided here: input_db drives detector and signal alike (not an outside key); makeup and mix act only on
the lanes of `apply_to`, the others pass as they came but for output_db; a mono signal has one lane, so channels,
link_pct and apply_to do nothing to it; a mono signal keyed in stereo is held by the linked key.
"""

from typing import Any

from reins.core.dsp import dynamics
from reins.core.processors.base import Array
from reins.core.processors.curves import compress
from reins.core.processors.detecting import DetectorSettings, FollowingCurve
from reins.core.settings import usual
from reins.core.units import ms_to_frames


class CompressorSettings(DetectorSettings):
    """Settings of the compressor."""

    threshold_db: float = usual.threshold_db(-18.0, "What is louder than this is held; lower holds more.", low=-60)
    ratio: float = usual.ratio(
        4.0, "How many dB in make one dB out above the threshold; 100 lets nothing more through."
    )
    knee_db: float = usual.knee_db(
        6.0, "How gently the hold sets in around the threshold; a wide knee starts below it."
    )
    range_db: float = usual.range_db(60.0, "The most it may ever take away; 60 means no limit.")
    input_db: float = usual.gain_db(
        0.0,
        "Level into the compressor; more drives it further over the threshold.",
        group="Level",
        label="Drive",
        step=0.5,
        moves="drive",
    )
    operating_db: float = usual.operating_db()
    attack_ms: float = usual.attack_ms(10.0, "How long until it acts; slow leaves the start of a hit as it is.")
    hold_ms: float = usual.hold_ms(0.0, "How long it stays down before it starts to let go.")
    release_ms: float = usual.release_ms(
        120.0, "How long it takes to go back; too short distorts low notes, too long holds the next hit too."
    )
    auto_release: bool = usual.auto_release()
    makeup_db: float = usual.gain_db(
        0.0, "Level given back after the hold; it lifts the quietest parts too.", group="Out", label="Makeup"
    )


class Compressor(FollowingCurve):
    """The processor; see the module's docstring for its meaning."""

    type_name = "compressor"
    label = "Compressor"
    about = "Holds down what is louder than the threshold."
    known_as = "hold compression dynamics squash level glue parallel"
    Settings = CompressorSettings

    @classmethod
    def _set_curve(cls, settings: Any, params: Array, sample_rate: int) -> None:
        compress(params, settings, sample_rate=sample_rate)
        params[..., dynamics.HOLD_FRAMES] = ms_to_frames(settings.hold_ms, sample_rate)
