"""Ducker: the track yields while a key speaks.

A compressor said as people think of it: ratio without end (slope exactly flat), no knee, range_db = amount_db,
attack_ms = down_ms, release_ms = back_ms, linked by the louder channel. It goes down by as much as the key is above the
level from which it is heeded, by amount_db at most. Key levels under floor_db count as
silence, so that a constant background in the key does not hold all the time. Without an outside key it yields to
itself.
"""

from typing import Any

from reins.core.dsp import dynamics
from reins.core.processors.base import Array
from reins.core.processors.curves import release_by_itself
from reins.core.processors.detecting import DetectorSettings, FollowingCurve
from reins.core.settings import usual
from reins.core.settings.describing import number
from reins.core.units import ms_to_frames, one_pole_k


class DuckerSettings(DetectorSettings):
    """Settings of the ducker."""

    amount_db: float = usual.range_db(9.0, "How far the track is turned down.", label="Amount")
    threshold_db: float = number(
        -40.0, -60, 0, label="Threshold", unit="dB", group="Level", step=0.5, scale="db",
        help="The level of the key from which the track is turned down; lower starts sooner.",
    )  # fmt: skip
    floor_db: float = number(
        -60.0, -90, 0, label="Key floor", unit="dB", group="Sidechain", step=0.5, scale="db",
        help="Levels of the key below this count as silence, so that its background does not hold the track down.",
    )  # fmt: skip
    down_ms: float = usual.attack_ms(
        10.0, "How fast it steps back; a note length such as 1/32 is understood.", label="Down"
    )
    hold_ms: float = usual.hold_ms(60.0, "How long it waits after the key before it comes back.", high=2000)
    back_ms: float = usual.release_ms(
        250.0, "How slowly it comes back; a note length such as 1/8 is understood.", label="Back"
    )
    auto_release: bool = usual.auto_release("Comes back quickly after a lone hit, slowly after a long passage.")


class Ducker(FollowingCurve):
    """The processor; see the module's docstring for its meaning."""

    type_name = "ducker"
    label = "Ducker"
    about = "Steps back while another track speaks."
    known_as = "yield duck sidechain pump step back voice-over"
    may_be_as_loud = False
    views = ("in_out", "burst", "returns")
    made_by_tie = True
    wants_key = True
    Settings = DuckerSettings

    @classmethod
    def _set_curve(cls, settings: Any, params: Array, sample_rate: int) -> None:
        rate = sample_rate
        params[..., dynamics.THRESHOLD_DB] = settings.threshold_db
        params[..., dynamics.SLOPE] = -1.0
        params[..., dynamics.RANGE_DB] = settings.amount_db
        params[..., dynamics.ATTACK_K] = one_pole_k(settings.down_ms, rate)
        params[..., dynamics.RELEASE_K] = one_pole_k(settings.back_ms, rate)
        params[..., dynamics.HOLD_FRAMES] = ms_to_frames(settings.hold_ms, rate)
        params[..., dynamics.KEY_FLOOR_DB] = settings.floor_db
        release_by_itself(params, settings.back_ms, on=settings.auto_release, sample_rate=rate)
