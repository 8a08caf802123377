"""Optical compressor: a lamp that shines on a cell; for levelling that is not heard.

The lamp follows the mean power over RMS_MS. What is wanted follows a soft curve, about 3:1, or about 10:1 with `firm`;
the cell takes hold in about 10 ms and lets go in two parts with a memory of light (dsp.circuits). highs_pct lets highs
drive the lamp more: a shelf of up to HIGHS_DB above HIGHS_HZ. Its colour is a little of the octave.

Times and ratios are common practice for the kind.
"""

from typing import Any

import numpy as np

from reins.core.dsp import circuits, dynamics, variable
from reins.core.processors.base import Array, Block
from reins.core.processors.circuits import Circuit, CircuitSettings
from reins.core.processors.shaper import Bend
from reins.core.settings import usual
from reins.core.settings.describing import choice
from reins.core.units import one_pole_k

RMS_MS = 3.0
ATTACK_MS, QUICK_MS = 10.0, 40.0
SLOW_MS, SLOWEST_MS = 400.0, 2000.0
MEMORY_UP_MS, MEMORY_DOWN_MS = 2000.0, 4000.0
SOFT, FIRM = (3.0, 16.0), (10.0, 8.0)  # ratio, knee in dB
HIGHS_HZ, HIGHS_Q, HIGHS_DB = 1500.0, 0.6, 12.0
DRIVE_DB = 4.0


class OpticalSettings(CircuitSettings):
    """Settings of the optical compressor."""

    threshold_db: float = usual.threshold_db(
        -24.0, "What is louder than this lights the lamp; lower holds more.", low=-60
    )
    firm: bool = choice(False, label="Firm", group="Level", help="About 10:1 instead of about 3:1.")
    highs_pct: float = usual.share_pct(
        0.0, "How much more highs drive it: it then holds presence and esses rather than lows.", label="Highs",
        group="Level", moves=False,
    )  # fmt: skip


class Optical(Circuit):
    """The processor; see the module's docstring for its meaning."""

    type_name = "optical"
    label = "Optical compressor"
    about = "Levels slowly and softly; its way back remembers."
    known_as = "hold compressor slow levelling smooth voice"
    which = circuits.OPTICAL
    timed_with = {"threshold_db": -30.0, "colour_on": False}
    carried = (*Circuit.carried, "_highs_state")
    Settings = OpticalSettings
    _highs: Array | None

    def __init__(self, settings: Any, **more: Any) -> None:
        super().__init__(settings, **more)
        self._highs_state = np.zeros((self._lanes, 2))

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int, rows: int = 1) -> dict[str, Any]:
        shelf: dict[str, Any] = {"freq_hz": HIGHS_HZ, "q": HIGHS_Q, "gain_db": HIGHS_DB * settings.highs_pct / 100.0}
        highs = variable.still("high_shelf", **shelf, sample_rate=sample_rate) if settings.highs_pct else None
        return super()._tune(settings, channels, sample_rate, rows) | {"_highs": highs}

    @classmethod
    def _set_element(cls, settings: Any, params: Array, sample_rate: int) -> None:
        ratio, knee = FIRM if settings.firm else SOFT
        params[..., dynamics.BLEND], params[..., dynamics.RMS_K] = 1.0, one_pole_k(RMS_MS, sample_rate)
        params[..., dynamics.THRESHOLD_DB], params[..., dynamics.SLOPE] = settings.threshold_db, 1.0 / ratio - 1.0
        params[..., dynamics.KNEE_DB], params[..., dynamics.RANGE_DB] = knee, np.inf
        params[..., dynamics.ATTACK_K] = one_pole_k(ATTACK_MS, sample_rate)
        params[..., dynamics.RELEASE_K] = one_pole_k(QUICK_MS, sample_rate)
        per_ms = sample_rate / 1000.0
        params[..., circuits.SLOW_FRAMES], params[..., circuits.SLOWEST_FRAMES] = SLOW_MS * per_ms, SLOWEST_MS * per_ms
        params[..., circuits.MEMORY_UP_K] = one_pole_k(MEMORY_UP_MS, sample_rate)
        params[..., circuits.MEMORY_DOWN_K] = one_pole_k(MEMORY_DOWN_MS, sample_rate)

    def _heard(self, block: Block) -> Array:
        heard = super()._heard(block)
        if self._highs is None:
            return heard
        lit = heard.copy()
        variable.filter_still(heard, self._highs, self._highs_state, True, lit)
        return lit

    @classmethod
    def colour_of(cls, settings: Any) -> Bend:
        """A little of the octave."""
        return Bend(DRIVE_DB, "even", 0.0, settings.oversampling)

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as the cell remembers light."""
        return 2.0 * MEMORY_UP_MS / 1000.0
