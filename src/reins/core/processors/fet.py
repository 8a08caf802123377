"""FET compressor: a fixed threshold that one drives into, quick, with a way back of two speeds.

Threshold and hardness of the knee rise with the ratio (LAW), so that changing it keeps about the same depth. What is
wanted is covered with one pole in attack_us; the way back takes release_ms behind a hit, and about six times as
long behind a note of two seconds (processors.release). crush_pct turns ratio into a limit, takes the knee away, lets
the hold go too deep for a moment (dsp.circuits) and bends more. restless_pct turns over to the slow way back later and
bends more. Its colour bends odd: thirds. At the fastest times the gain follows the waveform of low notes: that is in
its nature.

Threshold, ratio and times are common practice for the kind.
"""

from typing import Any

import numpy as np

from reins.core.dsp import circuits, dynamics
from reins.core.processors.base import Array, driven_db
from reins.core.processors.circuits import Circuit, CircuitSettings
from reins.core.processors.release import SLOW_FILL_MS, VALLEY_MS, slow_drain_ms
from reins.core.processors.shaper import Bend
from reins.core.settings import usual
from reins.core.settings.describing import number
from reins.core.units import ms_to_frames, one_pole_k

#: Ratio, threshold in dB of full scale with input 0, knee in dB.
LAW = np.array([[2.0, -25.5, 12.0], [4.0, -24.0, 9.0], [8.0, -22.5, 6.0], [12.0, -21.5, 4.0], [20.0, -20.0, 2.0]])
OVER_MS = 4.0  # how long the hold is too deep
MOST_OVER = 0.3  # by which share, crushed
DRIVES_DB = 6.0, 10.0, 6.0  # of the colour: always, crushed, restless


class FetSettings(CircuitSettings):
    """Settings of the FET compressor."""

    ratio: float = number(
        4.0, 2, 20, label="Ratio", unit=":1", group="Level", step=0.1, scale="log",
        help="How steep it is; threshold and hardness rise with it, so the depth stays about the same.",
    )  # fmt: skip
    crush_pct: float = usual.share_pct(
        0.0,
        "From as the ratio says to a hard limit that goes too deep for a moment.",
        label="Crush",
        group="Level",
        moves=False,
    )
    attack_us: float = number(
        200.0, 10, 10000, label="Attack", unit="µs", group="Time", step=10, scale="log",
        help="How long until it acts; at the fastest it grits low notes.",
    )  # fmt: skip
    release_ms: float = number(
        150.0, 30, 1500, label="Release", unit="ms", group="Time", step=1, scale="log",
        help="The way back behind a hit; behind a note of 2 s it takes six times as long, 600 ms at least.",
    )  # fmt: skip
    restless_pct: float = usual.share_pct(
        0.0, "Turns over to the slow way back later, and bends more.", label="Restless", group="Time", moves=False
    )


def law_of(ratio: Any) -> tuple[Any, Any]:
    """Threshold and knee in dB of a ratio, or of ratios."""
    place = np.log(ratio)
    return np.interp(place, np.log(LAW[:, 0]), LAW[:, 1]), np.interp(place, np.log(LAW[:, 0]), LAW[:, 2])


class Fet(Circuit):
    """The processor; see the module's docstring for its meaning."""

    type_name = "fet"
    label = "FET compressor"
    about = "Quick, driven into a fixed threshold; with a hard crush."
    known_as = "hold compressor fast limiting amplifier crush"
    which = circuits.FET
    line = "input_db"
    line_drives = True
    timed_with = {"input_db": 12.0, "colour_on": False}
    Settings = FetSettings

    @classmethod
    def acts_from_db(cls, settings: Any) -> float:
        """The fixed threshold, less what drives into it."""
        return float(law_of(settings.ratio)[0]) - driven_db(settings)

    @classmethod
    def _set_element(cls, settings: Any, params: Array, sample_rate: int) -> None:
        crush = np.asarray(settings.crush_pct) / 100.0
        threshold, knee = law_of(settings.ratio)
        params[..., dynamics.THRESHOLD_DB] = threshold - 3.0 * crush
        params[..., dynamics.SLOPE] = (1.0 - crush) * (1.0 / settings.ratio - 1.0) - crush
        params[..., dynamics.KNEE_DB] = knee * (1.0 - 0.98 * crush)
        params[..., dynamics.RANGE_DB] = np.inf
        params[..., dynamics.ATTACK_K] = one_pole_k(settings.attack_us / 1000.0, sample_rate)
        params[..., dynamics.RELEASE_K] = one_pole_k(settings.release_ms, sample_rate)
        params[..., dynamics.AUTO_RELEASE] = 1.0
        later = 1.0 + np.asarray(settings.restless_pct) / 50.0
        params[..., dynamics.FILL_K] = one_pole_k(SLOW_FILL_MS * later, sample_rate)
        params[..., dynamics.DRAIN_K] = one_pole_k(slow_drain_ms(settings.release_ms), sample_rate)
        params[..., dynamics.VALLEY_FRAMES] = ms_to_frames(VALLEY_MS, sample_rate)
        params[..., circuits.OVERSHOOT] = MOST_OVER * crush if settings.hold_on else 0.0
        params[..., circuits.OVER_K] = one_pole_k(OVER_MS, sample_rate)

    @classmethod
    def colour_of(cls, settings: Any) -> Bend:
        """Thirds; more of them crushed, and restless."""
        always, crushed, restless = DRIVES_DB
        drive_db = always + crushed * settings.crush_pct / 100.0 + restless * settings.restless_pct / 100.0
        return Bend(drive_db, "odd", 0.0, settings.oversampling)

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as the slow way back remembers."""
        return 3.0 * max(float(slow_drain_ms(settings.release_ms)), SLOW_FILL_MS) / 1000.0
