"""Variable-mu compressor: a valve whose gain falls the more the further it is driven; for bass, buses and mixes.

Its ratio grows with level (dsp.circuits): under 2:1 near the threshold, a limit far above it. bias_pct moves where on
its curve the valve works: growth sets in sooner, so it holds more, and the curve is no longer alike on both sides, so
that octaves join the thirds. The way back has one, two or three stages, the later ones filled by long holding only.

hue_pct tilts what is held, dark to bright, about HUE_HZ, adds even harmonics on the dark side and odd ones on the
bright, and is levelled: what leaves is as loud as without it (dsp.levelling). At 0 it does nothing.

That the kind is slow and gentle is common practice.
"""

from typing import Any, Literal

import numpy as np

from reins.core.dsp import circuits, dynamics, variable
from reins.core.dsp.levelling import Levelled
from reins.core.processors.base import Array
from reins.core.processors.circuits import Circuit, CircuitSettings
from reins.core.processors.filter import shape_still
from reins.core.processors.release import SLOW_FILL_MS, VALLEY_MS, slow_drain_ms
from reins.core.processors.shaper import Bend
from reins.core.settings import usual
from reins.core.settings.describing import choice, number
from reins.core.units import ms_to_frames, one_pole_k

GROWTH_DB, LEAST_GROWTH_DB = 11.0, 4.0  # at bias 0 and 100
THIRD_FILL_MS, THIRD_DRAIN_TIMES = 2000.0, 4.0  # of the second's drain
HUE_HZ, HUE_DB = 900.0, 6.0
DRIVE_DB, HUE_DRIVE_DB = 4.0, 5.0
BIAS_SHARE, HUE_SHARE = 0.6, 0.4  # of the offset on the curve


class VariableMuSettings(CircuitSettings):
    """Settings of the variable-mu compressor."""

    threshold_db: float = usual.threshold_db(-24.0, "What is louder than this is held, the more the louder.", low=-60)
    bias_pct: float = usual.share_pct(
        0.0, "Where the valve works: more holds more, sets in harder and adds octaves.", label="Bias", group="Level",
        moves=False,
    )  # fmt: skip
    knee_db: float = usual.knee_db(6.0, "How gently the hold sets in around the threshold.")
    attack_ms: float = usual.attack_ms(20.0, "How long until it acts; slow leaves hits as they are.")
    release_ms: float = usual.release_ms(300.0, "How long the first stage of the way back takes.")
    programme: Literal["none", "two", "three"] = choice(
        "two", label="Stages", group="Time", words={"none": "one", "two": "two", "three": "three"},
        help="How many stages the way back has; later ones are filled by long holding only.",
    )  # fmt: skip
    hue_pct: float = number(
        0.0, -100, 100, label="Hue", unit="%", group="Level", step=1, moves=False,
        help="From dark to bright, equally loud; 0 is none. It belongs to the colour.",
    )  # fmt: skip


class VariableMu(Circuit):
    """The processor; see the module's docstring for its meaning."""

    type_name = "variable_mu"
    label = "Variable-mu compressor"
    about = "Holds the more the louder it gets; with a hue from dark to bright."
    known_as = "hold compressor glue tube valve bus mix"
    which = circuits.MU
    timed_with = {"threshold_db": -30.0, "colour_on": False}
    carried = (*Circuit.carried, "_hue_state", "_alike")
    Settings = VariableMuSettings
    _hue: Array

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, **more: Any) -> None:
        self._hue_state, self._alike = np.zeros((channels, 2)), Levelled(channels, sample_rate)
        super().__init__(settings, channels=channels, sample_rate=sample_rate, **more)

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int, rows: int = 1) -> dict[str, Any]:
        hue = shape_still("tilt", HUE_HZ, HUE_DB * settings.hue_pct / 100.0, sample_rate)
        return super()._tune(settings, channels, sample_rate, rows) | {"_hue": hue}

    @classmethod
    def _set_element(cls, settings: Any, params: Array, sample_rate: int) -> None:
        bias = settings.bias_pct / 100.0
        params[..., dynamics.THRESHOLD_DB], params[..., dynamics.KNEE_DB] = settings.threshold_db, settings.knee_db
        params[..., dynamics.SLOPE], params[..., dynamics.RANGE_DB] = -1.0, np.inf
        params[..., circuits.GROWTH_DB] = GROWTH_DB + bias * (LEAST_GROWTH_DB - GROWTH_DB)
        params[..., dynamics.ATTACK_K] = one_pole_k(settings.attack_ms, sample_rate)
        params[..., dynamics.RELEASE_K] = one_pole_k(settings.release_ms, sample_rate)
        drain_ms = slow_drain_ms(settings.release_ms)
        params[..., dynamics.AUTO_RELEASE] = settings.programme != "none"
        params[..., dynamics.FILL_K] = one_pole_k(SLOW_FILL_MS, sample_rate)
        params[..., dynamics.DRAIN_K] = one_pole_k(drain_ms, sample_rate)
        params[..., dynamics.VALLEY_FRAMES] = ms_to_frames(VALLEY_MS, sample_rate)
        if settings.programme == "three":
            params[..., circuits.THIRD_FILL_K] = one_pole_k(THIRD_FILL_MS, sample_rate)
            params[..., circuits.THIRD_DRAIN_K] = one_pole_k(THIRD_DRAIN_TIMES * drain_ms, sample_rate)

    def _hued(self, source: Array, held: Array) -> Array:
        hued = np.empty_like(held)
        variable.filter_still(held, self._hue, self._hue_state, False, hued)
        if self._settings.hue_pct == 0.0:
            return held
        return self._alike.process(held, hued)

    @classmethod
    def colour_of(cls, settings: Any) -> Bend:
        """Thirds; octaves with bias and on the dark side, more of all on either side."""
        hue, bias = settings.hue_pct / 100.0, settings.bias_pct
        offset_pct = BIAS_SHARE * bias + HUE_SHARE * 100.0 * max(-hue, 0.0)
        return Bend(DRIVE_DB + HUE_DRIVE_DB * abs(hue), "soft", offset_pct, settings.oversampling)

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as the slowest stage remembers."""
        drain_ms = float(slow_drain_ms(settings.release_ms))
        slowest = {"none": settings.release_ms, "two": drain_ms, "three": THIRD_DRAIN_TIMES * drain_ms}
        return 3.0 * max(slowest[settings.programme], SLOW_FILL_MS) / 1000.0
