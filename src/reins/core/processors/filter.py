"""Filter: cuts with resonance, tilt and two broad shelves, whose corners may be swept at any speed.

Cuts are Butterworth filters of 12 or 24 dB/oct (dsp.cuts) whose resonance raises the corner by so many dB. The tilt
goes from -tilt_db far below tilt_hz to +tilt_db far above, half of either way one octave from it: the cookbook's high
shelf (dsp.variable) of twice the gain, less that gain, with 1/Q^2 = (23 - A - 1/A) / 4, A = 10^(tilt_db / 20), which
solves |H(2 w)|^2 = A. Shelves are the cookbook's with Q 0.5. Mix blends with the source.
"""

import math
from collections.abc import Mapping
from functools import lru_cache
from types import SimpleNamespace
from typing import Any, Literal

import numpy as np

from reins.core.dsp import variable
from reins.core.dsp.cuts import MovingCut, prewarped
from reins.core.dsp.filters import butterworth_cut, ring_s, sections_response
from reins.core.dsp.gains import blend
from reins.core.dsp.sweeping import columns, filter_swept
from reins.core.processors.base import Array, Block, Processor, ProcessorSettings, Rows
from reins.core.settings import usual
from reins.core.settings.describing import choice, number

SHELF_Q = 0.5
SHAPES = ("tilt", "low_shelf", "high_shelf")
CUTS = ("low_cut", "high_cut")


def _slope(label: str) -> Any:
    return choice(12, label=label, group="Cuts", help="How steeply the cut falls, in dB per octave.")


def _turn_db(label: str, help: str, *, most: float, group: str) -> Any:
    return number(
        0.0, -most, most, label=label, unit="dB", group=group, step=0.1, scale="db", help=help
    )  # fmt: skip


def _corner_hz(default: float, label: str, help: str, *, group: str) -> Any:
    return number(
        default, 20, 20000, label=label, unit="Hz", group=group, step=1, scale="log", help=help
    )  # fmt: skip


class FilterSettings(ProcessorSettings):
    """Settings of the filter."""

    low_cut_hz: float = usual.cut_hz(
        "Low cut", group="Cuts", off_as=usual.LOWEST_HZ, help="Takes away what lies below; 0 is off."
    )
    low_cut_slope: Literal[12, 24] = _slope("Low slope")
    high_cut_hz: float = usual.cut_hz(
        "High cut", group="Cuts", off_as=usual.HIGHEST_HZ, help="Takes away what lies above; 0 is off."
    )
    high_cut_slope: Literal[12, 24] = _slope("High slope")
    resonance_db: float = number(
        0.0, 0, 18, label="Resonance", unit="dB", group="Cuts", step=0.5, scale="db",
        help="How far the corners of the cuts are raised.",
    )  # fmt: skip
    tilt_db: float = _turn_db("Tilt", "Brightens, or darkens, about its frequency.", most=12, group="Tilt")
    tilt_hz: float = _corner_hz(800.0, "Tilt about", "Where the tilt changes nothing.", group="Tilt")
    low_shelf_db: float = _turn_db("Low shelf", "Gain of all that lies below.", most=18, group="Shelves")
    low_shelf_hz: float = _corner_hz(120.0, "Low from", "Half way of the low shelf.", group="Shelves")
    high_shelf_db: float = _turn_db("High shelf", "Gain of all that lies above.", most=18, group="Shelves")
    high_shelf_hz: float = _corner_hz(6000.0, "High from", "Half way of the high shelf.", group="Shelves")
    mix_pct: float = usual.share_pct(
        100.0, "How much of the filtered sound; the rest is the source.", group="Out", label="Mix", moves="gain"
    )


def shape_columns(name: str, hz: Any, db: Any, sample_rate: int, points: int = 1) -> Array:
    """g, k, m0, m1, m2 of a tilt or shelf (points, COLUMNS), for numbers or arrays (points,); see dsp.variable."""
    doubled = 2.0 if name == "tilt" else 1.0
    a = 10.0 ** (doubled * np.asarray(db) / 40.0)
    w = prewarped(np.asarray(hz, np.float64), sample_rate)
    if name == "low_shelf":
        return columns(w / np.sqrt(a), 1.0 / SHELF_Q, 1.0, (a - 1.0) / SHELF_Q, a * a - 1.0, points)
    k = np.sqrt((23.0 - a - 1.0 / a) / 4.0) if name == "tilt" else np.asarray(1.0 / SHELF_Q)
    whole = a if name == "tilt" else 1.0
    return columns(w * np.sqrt(a), k, a * a / whole, k * (1.0 - a) * a / whole, (1.0 - a * a) / whole, points)


@lru_cache(256)
def shape_still(name: str, hz: float, db: float, sample_rate: int) -> Array:
    """Coefficients of one that stands; to be read only."""
    return variable.fixed(*shape_columns(name, hz, db, sample_rate).ravel().tolist())


class Filter(Processor):
    """The processor; see the module's docstring for its meaning."""

    type_name = "filter"
    label = "Filter"
    about = "Cuts, tilt and shelves, to be swept by hand, beat or key."
    known_as = "colour and place low cut high cut pass tilt sweep hum rumble"
    views = ("spectrum",)
    covers = "corners"
    timed_with = {"low_cut_hz": 120.0, "high_cut_hz": 9000.0, "tilt_db": 3.0}
    carried = ("_low_cut", "_high_cut", "_states")
    Settings = FilterSettings
    _settings: Any

    def __init__(
        self, settings: FilterSettings, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}
    ) -> None:
        self._rate = sample_rate
        self._low_cut, self._high_cut = (MovingCut(k, channels=channels, sample_rate=sample_rate) for k in CUTS)
        self._states = np.zeros((len(SHAPES), channels, 2))
        self.gains_db = {}
        self.apply(settings)

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings; all state is kept."""
        more: dict[str, Any] = {"at_once": not hasattr(self, "_settings"), "frames": over_frames}
        more["resonance_db"] = settings.resonance_db
        self._settings = settings
        self._low_cut.place(settings.low_cut_hz, settings.low_cut_slope // 6, **more)
        self._high_cut.place(settings.high_cut_hz, settings.high_cut_slope // 6, **more)

    def takes(self, rows: Rows) -> bool:
        """All of them."""
        return True

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        settings, moved = self._settings, block.moved
        rows = None if moved is None else moved.rows
        gains = {} if moved is None else moved.gains
        out = block.sound.copy()
        at, to = (settings, settings)
        if rows is not None:
            at, to = (SimpleNamespace(**vars(settings) | which) for which in (rows.at, rows.to))
        for cut, name in ((self._low_cut, "low_cut"), (self._high_cut, "high_cut")):
            self._cut(cut, name, out, rows, at, to)
        for place, name in enumerate(SHAPES):
            self._shape(name, self._states[place], out, rows, at, to)
        mix = gains.get("mix_pct", settings.mix_pct)
        return out if "mix_pct" not in gains and mix == 100.0 else blend(block.sound, out, mix, 0.0)

    def _cut(self, cut: MovingCut, name: str, out: Array, rows: Rows | None, at: Any, to: Any) -> None:
        path, standing = f"{name}_hz", vars(self._settings)[f"{name}_hz"]
        swept = rows is not None and (path in rows.at or ("resonance_db" in rows.at and standing > 0.0))
        if swept and rows is not None:
            still = np.full(rows.begins.size, standing)
            hz = rows.at.get(path, still), rows.to.get(path, still)
            raised = (at.resonance_db, to.resonance_db)
            cut.sweep(out, hz, raised, vars(self._settings)[f"{name}_slope"] // 6, rows)
        elif cut.acting:
            cut.process(out)

    def _shape(self, name: str, state: Array, out: Array, rows: Rows | None, at: Any, to: Any) -> None:
        hz, db = f"{name}_hz", f"{name}_db"
        if rows is not None and (db in rows.at or (hz in rows.at and vars(self._settings)[db])):
            ends = []
            for end in (at, to):
                ends.append(shape_columns(name, vars(end)[hz], vars(end)[db], self._rate, rows.begins.size))
            filter_swept(out, *ends, rows.begins, rows.into, rows.length, state)
        elif vars(self._settings)[db]:
            variable.filter_still(out, self._still(self._settings, name, self._rate), state, False, out)
        else:
            state[:] = 0.0

    @staticmethod
    def _still(settings: Any, name: str, rate: int) -> Array:
        return shape_still(name, vars(settings)[f"{name}_hz"], vars(settings)[f"{name}_db"], rate)

    @classmethod
    def tail_s(cls, settings: Any) -> float:
        """As long as what rings longest does."""
        raised = 10.0 ** (settings.resonance_db / 20.0)
        rings = [
            ring_s(hz, raised * 0.5 / math.sin(math.pi / (slope // 3)))
            for hz, slope in (
                (settings.low_cut_hz, settings.low_cut_slope),
                (settings.high_cut_hz, settings.high_cut_slope),
            )
            if hz > 0.0
        ]
        for name in SHAPES:
            if vars(settings)[f"{name}_db"]:
                rings.append(ring_s(vars(settings)[f"{name}_hz"] / 4.0, SHELF_Q))
        return max(rings, default=0.0)

    @classmethod
    def response_db(cls, settings: Any, frequencies_hz: Array, gains_db: dict[str, float], sample_rate: int) -> Array:
        """How much it changes each frequency; what mix does to the phases is left out of nothing."""
        whole = np.ones(frequencies_hz.shape, complex)
        for kind in CUTS:
            hz, order = vars(settings)[f"{kind}_hz"], vars(settings)[f"{kind}_slope"] // 6
            if hz > 0.0:
                whole *= _cut_response(kind, hz, order, settings.resonance_db, frequencies_hz, sample_rate)
        for name in SHAPES:
            if vars(settings)[f"{name}_db"]:
                whole *= variable.response(cls._still(settings, name, sample_rate), frequencies_hz, sample_rate)
        mix = settings.mix_pct / 100.0
        whole = 1.0 - mix + mix * whole
        return np.asarray(20.0 * np.log10(np.maximum(np.abs(whole), 1e-6)))


def _cut_response(kind: str, hz: float, order: int, resonance_db: float, frequencies_hz: Array, rate: int) -> Any:
    """A Butterworth cut whose sharpest section has its Q raised."""
    answer = sections_response(butterworth_cut(kind, cutoff_hz=hz, order=order, sample_rate=rate), frequencies_hz, rate)
    if resonance_db == 0.0:
        return answer
    k = 2.0 * math.sin(math.pi / (2 * order))
    t = 1j * np.tan(np.pi * np.minimum(frequencies_hz / rate, 0.4999)) / prewarped(np.asarray(hz), rate)
    raised = k / 10.0 ** (resonance_db / 20.0)
    return answer * (t * t + k * t + 1.0) / (t * t + raised * t + 1.0)
