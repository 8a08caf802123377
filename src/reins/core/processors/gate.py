"""Gate: open while the sound is loud enough, closed when it is not.

It opens when the level passes threshold_db, stays open while the level is at or above threshold_db less
hysteresis_db, and for hold_ms from the last moment there. Opening is a straight line in amplitude, closed to fully open
in attack_ms; closing one in dB, open to fully closed in release_ms; each goes on from wherever the gain is. Closed is
range_db quieter; 90 means silence. It starts closed.

With auto_release it remembers how long it was open (processors.release): behind a lone hit it closes in release_ms,
after a long passage in up to six times as much.

Decided here: inverted, it opens and closes at the same moments the other way round, with the same attack
and release, and so starts open; the gain of silence is told as -120 dB; of two lanes that are not linked, the state
told is that of the first.
"""

from collections.abc import Mapping
from typing import Any

import numpy as np

from reins.core.dsp import dynamics, gating
from reins.core.processors.base import Array, Block
from reins.core.processors.detecting import Detecting, DetectorSettings
from reins.core.processors.release import DRAIN_TIMES, SLOW_FILL_MS, slow_drain_ms
from reins.core.settings import usual
from reins.core.settings.describing import choice, number
from reins.core.units import db_to_lin, ms_to_frames, one_pole_k

SILENCE_DB = 90.0


class GateSettings(DetectorSettings):
    """Settings of the gate."""

    threshold_db: float = usual.threshold_db(-40.0, "Opens when the sound is louder than this.")
    hysteresis_db: float = number(
        4.0, 0, 24, label="Hysteresis", unit="dB", group="Level", step=0.5,
        help="Closes only this much below the threshold, so that a level near it does not open and close it in turn.",
    )  # fmt: skip
    range_db: float = usual.range_db(
        90.0, "How much quieter it is when closed; 6 dB only leans, 90 is silence.", high=90
    )
    invert: bool = choice(
        False, label="Invert", group="Level", help="Closes when it would open: the loud parts go, the rest stays.",
    )  # fmt: skip
    attack_ms: float = usual.attack_ms(1.0, "How long it takes to open; slow takes the attack of a hit.", high=100)
    hold_ms: float = usual.hold_ms(40.0, "How long it stays open after the sound has fallen.", high=2000)
    release_ms: float = usual.release_ms(120.0, "How long it takes to close; too short cuts the decay off.", high=4000)
    auto_release: bool = usual.auto_release("Closes quickly behind a lone hit, slowly after a long passage.")

    @property
    def acts_below(self) -> bool:
        """What is too quiet is closed; turned about, what is loud."""
        return not self.invert


class Gate(Detecting):
    """The processor; see the module's docstring for its meaning."""

    type_name = "gate"
    label = "Gate"
    about = "Opens for what is loud enough and closes behind it."
    known_as = "let noise gate bleed room silence close"
    may_be_as_loud = False
    views = ("in_out", "burst", "states")
    Settings = GateSettings
    params_size = gating.GATE_PARAMS

    def __init__(
        self, settings: GateSettings, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}
    ) -> None:
        super().__init__(settings, channels=channels, sample_rate=sample_rate, key_channels=key_channels)
        self._state = np.zeros((self._lanes, gating.GATE_STATE))
        self._state[:, gating.AMP] = 1.0 if settings.invert else -1.0
        self._state[:, gating.GATE_DB] = -settings.range_db
        self.apply(settings)

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int, rows: int = 1) -> dict[str, Any]:
        rate = sample_rate
        silent = settings.range_db == SILENCE_DB
        closed = np.where(silent, 0.0, db_to_lin(-settings.range_db))
        params = cls._detector_params(settings, channels, rate, rows)
        params[..., dynamics.THRESHOLD_DB] = settings.threshold_db
        params[..., gating.CLOSE_DB] = settings.threshold_db - settings.hysteresis_db
        params[..., dynamics.RANGE_DB], params[..., gating.SILENT] = settings.range_db, silent
        params[..., gating.RISE] = (1.0 - closed) / np.maximum(ms_to_frames(settings.attack_ms, rate), 1)
        params[..., gating.FALL_DB] = settings.range_db / np.maximum(ms_to_frames(settings.release_ms, rate), 1)
        params[..., dynamics.HOLD_FRAMES] = ms_to_frames(settings.hold_ms, rate)
        params[..., gating.INVERT] = settings.invert
        params[..., gating.SLOWER] = DRAIN_TIMES - 1.0 if settings.auto_release else 0.0
        params[..., dynamics.FILL_K] = one_pole_k(SLOW_FILL_MS, rate)
        params[..., dynamics.DRAIN_K] = one_pole_k(slow_drain_ms(settings.release_ms), rate)
        return super()._tune(settings, channels, rate, rows) | {"_params": params}

    def _part_lanes(self) -> None:
        for place in (gating.AMP, gating.GATE_DB, gating.OPEN, gating.GATE_HOLD, gating.SUSTAIN):
            self._state[1, place] = self._state[0, place]

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        gain_db = np.empty((self._gain_lanes, block.sound.shape[1]))
        told = np.empty_like(gain_db)
        out = np.empty_like(block.sound)
        heard, source = self._heard(block), self._delay.process(block.sound)
        if block.moved is None:
            gating.gate(heard, source, self._state, self._params, self._scratch, gain_db, told, out)
        else:
            params, begins = self._moving(block.moved)
            mixing = self._mixing(block.moved)
            gating.gate_moving(heard, source, self._state, params, begins, mixing, self._scratch, gain_db, told, out)
        self.gains_db = {"gain_db": self._furthest(gain_db)}
        self.marks = {"state": told[0]}
        return out
