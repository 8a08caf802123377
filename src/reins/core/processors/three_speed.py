"""Three-speed compressor: sharp peaks, softer hits and the body of a sound, each held by a measure of its own.

Peaks are heard by their level at once, hits by the mean power over HITS_MS, the body over BODY_MS. Each has a
sensitivity (a level that counts so much more; OFF_DB is off), an attack, but for peaks, which are held at once, and a
way back. One curve serves all (dsp.three_speed); the deepest wish wins, and glide_pct hands the deeper over to the
slower. Told beside the gain: who is in charge, and what each detector hears.

Windows are common practice for what the ear calls a hit, and loudness.
"""

from collections.abc import Mapping
from typing import Any

import numpy as np

from reins.core.dsp import dynamics, three_speed
from reins.core.processors.base import Array, Block, Counts, Delay
from reins.core.processors.circuits import Circuit, CircuitSettings
from reins.core.processors.detecting import part_lanes
from reins.core.processors.shaper import LATENCY_FRAMES, Bend
from reins.core.settings import usual
from reins.core.settings.describing import number
from reins.core.units import one_pole_k

HITS_MS, BODY_MS = 10.0, 200.0
OFF_DB = -24.0
KNEE_DB = 6.0
DRIVE_DB = 3.0
NAMES = ("peaks", "hits", "body")
MARKS = (*(f"heard.{name}" for name in NAMES), "in_charge")


def _sensitivity(label: str, help: str) -> Any:
    return number(
        0.0, OFF_DB, 12, label="Sense", unit="dB", group=label, step=0.5, scale="db",
        help=f"{help} +6 makes it act 6 dB sooner; −24 is off.",
    )  # fmt: skip


class ThreeSpeedSettings(CircuitSettings):
    """Settings of the three-speed compressor."""

    threshold_db: float = usual.threshold_db(-22.0, "What a detector hears above this is held.", low=-60)
    ratio: float = usual.ratio(3.0, "How many dB in make one dB out above the threshold.")
    growth_pct: float = usual.share_pct(
        30.0, "How much the ratio grows with level; at 100 up to a limit.", label="Growth", group="Level"
    )
    glide_pct: float = usual.share_pct(
        40.0, "0: each lets go by itself, and pumps. 100: one way back, from the quickest over to the slowest.",
        label="Glide", group="Level",
    )  # fmt: skip
    peaks_db: float = _sensitivity("Peaks", "Sharp peaks, by their level at once.")
    peaks_release_ms: float = usual.release_ms(40.0, "The way back behind a peak.", label="Back", group="Peaks")
    hits_db: float = _sensitivity("Hits", "Hits, by the mean power over 10 ms.")
    hits_attack_ms: float = usual.attack_ms(3.0, "How long until a hit is held.", label="Attack", group="Hits")
    hits_release_ms: float = usual.release_ms(150.0, "The way back behind a hit.", label="Back", group="Hits")
    body_db: float = _sensitivity("Body", "The sustained body, by the mean power over 200 ms.")
    body_attack_ms: float = usual.attack_ms(60.0, "How long until the body is held.", label="Attack", group="Body")
    body_release_ms: float = usual.release_ms(
        600.0, "The way back of the body: short follows closely, long lags.", label="Back", group="Body"
    )


class ThreeSpeed(Circuit):
    """The processor; see the module's docstring for its meaning."""

    type_name = "three_speed"
    label = "Three-speed compressor"
    about = "Peaks, hits and body held apart, and seen: who acts when."
    known_as = "hold compressor peaks transients body multi-stage"
    views = (*Circuit.views, "ribbon")
    timed_with = {"threshold_db": -30.0, "colour_on": False}
    carried = (*Circuit.carried, "_late_marks")
    params_size = 3 * three_speed.SIZE
    Settings = ThreeSpeedSettings

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}) -> None:
        super().__init__(settings, channels=channels, sample_rate=sample_rate, key_channels=key_channels)
        self._scratch = np.zeros((three_speed.SCRATCH_ROWS, dynamics.CHUNK))
        self._late_marks = Delay(4, LATENCY_FRAMES if settings.colour_on else 0)

    def _make_state(self) -> Array:
        return np.zeros((3, self._lanes, dynamics.LANE_STATE))

    def _part_lanes(self) -> None:
        for state in self._state:
            part_lanes(state)

    @classmethod
    def _set_element(cls, settings: Any, params: Array, sample_rate: int) -> None:
        size = three_speed.SIZE
        params[..., dynamics.ATTACK_K] = 1.0
        for place, name in enumerate(NAMES):
            own = params[..., place * size : (place + 1) * size]
            shared = (dynamics.LINK, dynamics.LINK_BY_MEAN, dynamics.KEY_FLOOR_DB)
            own[..., shared] = params[..., shared]
            sensitivity = np.asarray(getattr(settings, f"{name}_db"), np.float64)
            acts = (sensitivity > OFF_DB) & settings.hold_on
            own[..., three_speed.SENSITIVITY_DB] = sensitivity
            own[..., dynamics.THRESHOLD_DB], own[..., dynamics.KNEE_DB] = settings.threshold_db, KNEE_DB
            own[..., dynamics.SLOPE] = np.where(acts, 1.0 / settings.ratio - 1.0, 0.0)
            own[..., three_speed.GROWTH] = np.where(acts, settings.growth_pct / 100.0, 0.0)
            own[..., dynamics.RELEASE_K] = one_pole_k(getattr(settings, f"{name}_release_ms"), sample_rate)
            if place > 0:
                own[..., dynamics.BLEND] = 1.0
                own[..., dynamics.RMS_K] = one_pole_k((HITS_MS, BODY_MS)[place - 1], sample_rate)
                own[..., dynamics.ATTACK_K] = one_pole_k(getattr(settings, f"{name}_attack_ms"), sample_rate)
        params[..., three_speed.GLIDE] = settings.glide_pct / 100.0

    def _run(self, heard: Array, source: Array, params: Array, begins: Counts, gain_db: Array, held: Array) -> None:
        lanes, frames = gain_db.shape
        self._told = told = np.empty((3 + lanes, frames))
        three_speed.run_three(heard, source, self._state, params, begins, self._scratch, gain_db, told, held)
        if lanes == 2:
            told[3] = np.where(gain_db[0] <= gain_db[1], told[3], told[4])

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        out = super().process(block)
        self.marks = dict(zip(MARKS, self._late_marks.process(self._told[:4]), strict=True))
        return out

    @classmethod
    def _law_db(cls, level_db: Array, params: Array) -> Array:
        return three_speed.static_db(level_db, params)

    @classmethod
    def curves_apart_db(cls, settings: Any, level_db: Array) -> dict[str, Array]:
        """The curve of each detector while the others are off."""
        off = {f"{name}_db": OFF_DB for name in NAMES}
        own = {name: off | {f"{name}_db": getattr(settings, f"{name}_db")} for name in NAMES}
        return {name: cls.curve_db(settings.model_copy(update=update), level_db) for name, update in own.items()}

    @classmethod
    def colour_of(cls, settings: Any) -> Bend:
        """A little of everything odd."""
        return Bend(DRIVE_DB, "soft", 0.0, settings.oversampling)

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as the body's window and way back remember, and where all hand over, all of them."""
        ways = settings.peaks_release_ms, settings.hits_release_ms, settings.body_release_ms
        return 3.0 * (sum(ways) + BODY_MS + settings.body_attack_ms) / 1000.0
