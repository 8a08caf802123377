"""Curve: a free transfer curve, through 2 to 16 points of level in and out; it holds down, lifts the quiet, gates and
limits at once.

Points are joined by straight lines in dB, rounded over knee_db, or smoothly (dsp.curving); beyond the ends the curve
goes on by slope_below and slope_above. The gain is never above 60 dB and silence stays silent. The level is smoothed,
not the gain: it rises with the attack and falls with the release, which cover 63.2 % of a step at shape 0; a shape
below 0 is quick first, above 0 it begins slowly. Where the curve goes straight on below, levels further than 24 dB
under its first point count as that. With both times at 0 it bends the waveform, at a raised rate where that is asked
for (processors.bending).
"""

from itertools import pairwise
from typing import Any, Literal

import numpy as np
from pydantic import field_validator

from reins.core.dsp import by_level, curving, dynamics
from reins.core.dsp.decibels import FLOOR_AMPLITUDE
from reins.core.processors.base import FROM_THE_START, NOTHING, Array, Moved
from reins.core.processors.detecting import DetectorSettings, FollowingCurve
from reins.core.processors.sidechain import Key
from reins.core.settings import usual
from reins.core.settings.describing import choice, number
from reins.core.settings.models import PartError
from reins.core.settings.points import Drawn, Point, checked_points, points
from reins.core.units import one_pole_k

UNDER_DB = 24.0
IN_DB, OUT_DB = (-120.0, 24.0), (-140.0, 60.0)


def rising_points(value: list[Point]) -> list[Point]:
    """Points of a curve, or PartError: levels in that rise, both within limits."""
    checked = checked_points(value, places=IN_DB, values=OUT_DB)
    if any(later.at <= earlier.at for earlier, later in pairwise(checked)):
        raise PartError("two points stand at one level in; allowed: levels in that rise.")
    return checked


def _slope(label: str, where: str) -> Any:
    return number(
        1.0, 0, 10, label=label, unit="", group="Curve", step=0.1, moves=False,
        help=f"How many dB out a dB in makes {where}; 1 keeps the gain.",
    )  # fmt: skip


def _shape(label: str) -> Any:
    return number(
        0.0, -1, 1, label=label, unit="", group="Time", step=0.05, moves=False,
        help="From quick first and then slow to slow first and then quick.",
    )  # fmt: skip


class CurveSettings(DetectorSettings):
    """Settings of the curve."""

    points: list[Drawn] = points(
        [Point(-60.0, -60.0), Point(-20.0, -20.0), Point(0.0, -8.0)], least=2, most=16, places=IN_DB, values=OUT_DB,
        at="dB", label="Points", group="Curve", help="Level in and level out, parted by commas; levels in rise.",
    )  # fmt: skip
    join: Literal["straight", "smooth"] = choice(
        "straight", label="Joined", group="Curve", help="By straight lines, rounded over the knee, or smoothly."
    )
    knee_db: float = number(
        4.0, 0, 24, label="Knee", unit="dB", group="Curve", step=0.5, moves=False,
        help="Over how many dB corners are rounded.",
    )  # fmt: skip
    slope_below: float = _slope("Slope below", "under the first point")
    slope_above: float = _slope("Slope above", "over the last point")
    attack_ms: float = usual.attack_ms(10.0, "How quickly the level it follows rises.")
    attack_shape: float = _shape("Attack bends")
    release_ms: float = number(
        120.0, 0, 5000, label="Release", unit="ms", group="Time", step=1, scale="log", least=usual.LEAST_MS,
        help="How slowly the level it follows falls; with an attack of 0 as well, 0 bends the waveform.",
    )  # fmt: skip
    release_shape: float = _shape("Release bends")
    makeup_db: float = usual.gain_db(0.0, "Level given back after the curve.", group="Out", label="Makeup")

    def lying_higher(self, by_db: float) -> dict[str, Any]:
        """The points, levels in and out alike; those that would lie outside what is allowed fall away."""
        moved = [Point(p.at + by_db, p.value + by_db, p.bend) for p in self.points]
        kept = [p for p in moved if IN_DB[0] <= p.at <= IN_DB[1] and OUT_DB[0] <= p.value <= OUT_DB[1]]
        return {"points": kept} if len(kept) >= 2 else {}

    @field_validator("points")
    @classmethod
    def _check_points(cls, value: list[Point]) -> list[Point]:
        return rising_points(value)


class Curve(FollowingCurve):
    """The processor; see the module's docstring for its meaning."""

    type_name = "curve"
    label = "Curve"
    about = "A curve of one's own: hold the loud, lift the quiet and close below, in one."
    known_as = "hold lift transfer curve upward waveshaper expander gate"
    line = None
    bends_at_once = True
    timed_also = {
        f"at once, {times} times the rate": {"attack_ms": 0.0, "release_ms": 0.0, "oversampling": times}
        for times in (4, 16)
    }
    params_size = curving.CURVE_PARAMS
    Settings = CurveSettings

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int, rows: int = 1) -> dict[str, Any]:
        drawn = np.array([[point.at, point.value] for point in settings.points])
        out = curving.joined_db(
            drawn, smooth=settings.join == "smooth", knee_db=settings.knee_db,
            below=settings.slope_below, above=settings.slope_above,
        )  # fmt: skip
        table = curving.gain_table(out, times=2.0 if getattr(settings, "is_overdone", False) else 1.0)
        made = super()._tune(settings, channels, sample_rate, rows)
        at_once = cls._at_once(settings, channels, table, made["_params"][0]) if rows == 1 else None
        return made | {"_table": table, "gain_at_once": at_once}

    @classmethod
    def _at_once(cls, settings: Any, channels: int, table: Array, params: Array) -> by_level.Gain | None:
        """The gain by level, where nothing else is between a sample and its own gain: no time, average, lookahead, key,
        part of a link, or channels made otherwise.
        """
        plain = {"attack_ms": 0.0, "release_ms": 0.0, "rms_pct": 0.0, "lookahead_ms": 0.0, "key": Key()}
        if channels == 2:
            plain |= {"channels": "stereo", "apply_to": "both", "link_by": "max"}
        given = vars(settings)
        if any(given[name] != value for name, value in plain.items()):
            return None
        if channels == 2 and given["link_pct"] not in (0.0, 100.0):
            return None
        floor_db, places = max(params[curving.FLOOR_DB], 20.0 * np.log10(FLOOR_AMPLITUDE)), curving.levels()

        def in_db(amplitudes: Array) -> Array:
            return np.interp(np.maximum(20.0 * np.log10(amplitudes), floor_db), places, table)

        def added(amplitudes: Array) -> Array:
            dry, wet = params[dynamics.FIRST_DRY], params[dynamics.FIRST_WET]
            return np.asarray(params[dynamics.OUTPUT] * (dry + wet * 10.0 ** (in_db(amplitudes) / 20.0)) - 1.0)

        tied = channels == 2 and given["link_pct"] == 100.0
        return by_level.Gain(by_level.table_of(in_db), by_level.table_of(added), tied)

    @classmethod
    def _set_curve(cls, settings: Any, params: Array, sample_rate: int) -> None:
        params[..., dynamics.ATTACK_K] = one_pole_k(settings.attack_ms, sample_rate)
        params[..., dynamics.RELEASE_K] = one_pole_k(settings.release_ms, sample_rate)
        params[..., curving.ATTACK_SHAPE] = settings.attack_shape
        params[..., curving.RELEASE_SHAPE] = settings.release_shape
        straight_on = settings.slope_below == 1.0
        params[..., curving.FLOOR_DB] = max(settings.points[0].at - UNDER_DB, -130.0) if straight_on else -130.0

    @classmethod
    def acts_from_db(cls, settings: Any) -> float:
        """Where its last piece begins."""
        return float(settings.points[-2].at)

    _table: Array
    gain_at_once: by_level.Gain | None  # what it comes to where it is only that; see processors.bending

    def _follow(self, heard: Array, source: Array, moved: Moved | None, gain_db: Array, out: Array) -> None:
        params, begins = (self._params, FROM_THE_START) if moved is None else self._moving(moved)
        mixing = NOTHING if moved is None else self._mixing(moved)
        curving.follow_table(
            heard, source, self._state, params, begins, mixing, self._table, self._scratch, gain_db, out
        )
