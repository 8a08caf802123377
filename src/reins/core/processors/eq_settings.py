"""Settings of the dynamic EQ; see dynamic_eq.py for their meaning."""

from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from reins.core.processors.base import ProcessorSettings
from reins.core.processors.curve import IN_DB, OUT_DB, rising_points
from reins.core.processors.detecting import (
    Acted,
    Channels,
    acted_on,
    average_ms,
    average_pct,
    channels_as,
    linked_pct,
)
from reins.core.processors.sidechain import Key
from reins.core.settings import usual
from reins.core.settings.describing import choice, listed, number
from reins.core.settings.models import Strict
from reins.core.settings.points import Drawn, Point, points

MOST_BANDS = 8
Slope = Literal[6, 12, 18, 24, 30, 36, 42, 48, 54, 60, 66, 72, 78, 84, 90, 96, 102, 108, 114, 120]


def _slope(label: str) -> Any:
    return choice(12, label=label, group="Cuts", help="How steeply the cut falls, in dB per octave.")


def _cut(label: str, off_as: float, help: str) -> Any:
    return usual.cut_hz(label, group="Cuts", off_as=off_as, help=help)


COLUMNS = {
    "on": "on", "shape": "shape", "freq_hz": "freq", "q": "Q", "gain_db": "gain", "motion": "mode",
    "threshold_db": "threshold", "ratio": "ratio", "knee_db": "knee", "range_db": "reach", "attack_ms": "attack",
    "release_ms": "release", "auto_release": "auto", "timing": "times",
}  # fmt: skip
KEYS = {
    "on": "on", "freq_hz": "freq", "motion": "mode", "watch": "watches", "weight_db_oct": "highs", "rms_pct": "average",
    "rms_ms": "over", "soft_range": "soft", "key.source": "follows", "key.gain_db": "key gain",
    "key.low_cut_hz": "low cut", "key.high_cut_hz": "high cut", "points": "curve",
}  # fmt: skip
OF_REST = ("on", "gain_db", "threshold_db", "ratio", "knee_db", "range_db", "attack_ms", "release_ms", "auto_release")
ROWS = (
    {"label": "the rest", "gain": "rest.gain_db", "cells": {name: f"rest.{name}" for name in OF_REST}},
    {"label": "low cut", "cells": {"shape": "low_cut_slope", "freq_hz": "low_cut_hz"}},
    {"label": "high cut", "cells": {"shape": "high_cut_slope", "freq_hz": "high_cut_hz"}},
)


class EqBand(Strict):
    """Settings of one band."""

    on: bool = choice(True, label="On", group="Band", help="Off, the band does nothing.")
    shape: Literal["bell", "low_shelf", "high_shelf"] = choice(
        "bell", label="Shape", group="Band", help="A bell around its frequency, or all below or above it.",
        words={"bell": "bell", "low_shelf": "low shelf", "high_shelf": "high shelf"},
    )  # fmt: skip
    freq_hz: float = number(
        1000.0, 20, 20000, label="Frequency", unit="Hz", group="Band", step=1, scale="log",
        help="Where the band sits: a bell's middle, a shelf's half way.",
    )  # fmt: skip
    q: float = number(
        1.0, 0.1, 20, label="Q", unit="", group="Band", step=0.1, scale="log",
        help="How narrow it is; higher is narrower.",
    )  # fmt: skip
    gain_db: float = usual.gain_db(0.0, "Its gain while it does not move.", group="Band", label="Gain", moves="grid")
    motion: Literal["none", "compress", "expand", "curve", "spare"] = choice(
        "none", label="Mode", group="Band",
        help="Still, compressed or expanded when loud, moved by a curve of its own, or protected from the rest.",
        words={"none": "still", "compress": "compress", "expand": "expand", "curve": "curve", "spare": "protect"},
    )  # fmt: skip
    threshold_db: float = usual.threshold_db(-30.0, "The level of what it watches from which it moves.", group="Motion")
    ratio: float = usual.ratio(
        2.0, "Holding, how many dB in make one dB out; letting up, how many dB come out for one.", group="Motion"
    )
    knee_db: float = usual.knee_db(6.0, "How gently it sets in around the threshold.", group="Motion")
    range_db: float = usual.range_db(12.0, "The most it may ever move.", group="Motion", label="Reach")
    attack_ms: float = usual.attack_ms(10.0, "How long until it has moved.", group="Motion")
    release_ms: float = usual.release_ms(
        120.0, "How long it takes to go back; lows want longer than highs.", group="Motion"
    )
    auto_release: bool = usual.auto_release(group="Motion")
    soft_range: bool = usual.soft_range("Motion")
    timing: Literal["own", "rest", "rest_ratio"] = choice(
        "own", label="Times", group="Motion",
        words={"own": "its own", "rest": "the rest's", "rest_ratio": "and ratio"},
        help="Whether it has attack and release of its own or those of the rest, or the rest's ratio too.",
    )  # fmt: skip
    watch: Literal["band", "whole"] = choice(
        "band", label="Watches", group="Motion", help="Its own region, or the whole sound.",
    )  # fmt: skip
    weight_db_oct: float = number(
        0.0, 0, 6, label="Highs count", unit="dB", group="Motion", step=0.5, moves=False,
        help="By how many dB per octave what it watches is weighted up above 100 Hz; at 3, highs count as they seem.",
    )  # fmt: skip
    rms_pct: float = average_pct("Motion")
    rms_ms: float = average_ms("Motion")
    points: tuple[Drawn, ...] = points(  # fixed, so that a band may be remembered by
        (Point(-60.0, -60.0), Point(-30.0, -30.0), Point(0.0, -12.0)), least=2, most=16, places=IN_DB, values=OUT_DB,
        at="dB", label="Curve", group="Motion",
        help="Level in and level out of what it watches, parted by commas; rounded over the knee.",
    )  # fmt: skip
    key: Key = Key()

    @model_validator(mode="before")
    @classmethod
    def _as_it_was_called(cls, values: Any) -> Any:
        """Files of old have the weighting as a third thing to watch."""
        if isinstance(values, dict) and values.get("watch") == "band_weighted":
            return {"weight_db_oct": 3.0, **values, "watch": "band"}
        return values

    @field_validator("points", mode="before")
    @classmethod
    def _as_they_come(cls, value: Any) -> Any:
        return tuple(value) if isinstance(value, list) else value

    @field_validator("points")
    @classmethod
    def _check_points(cls, value: tuple[Point, ...]) -> tuple[Point, ...]:
        return tuple(rising_points(list(value)))


class Rest(Strict):
    """Settings of what no moving or spared band covers."""

    on: bool = choice(False, label="The rest", group="Rest", help="Compresses what no moving or protected band covers.")
    gain_db: float = usual.gain_db(0.0, "Gain of the rest while not held.", group="Rest", label="Gain", moves="grid")
    threshold_db: float = usual.threshold_db(-24.0, "The level of the rest from which it is held.", group="Rest")
    ratio: float = usual.ratio(2.0, "How many dB in make one dB out above the threshold.", group="Rest")
    knee_db: float = usual.knee_db(6.0, "How gently the hold sets in.", group="Rest")
    range_db: float = usual.range_db(24.0, "The most that is ever taken; 60: no limit.", group="Rest", label="Reach")
    attack_ms: float = usual.attack_ms(20.0, "How long until it has taken hold.", group="Rest")
    release_ms: float = usual.release_ms(200.0, "How long it takes to let go.", group="Rest")
    auto_release: bool = usual.auto_release("Quick after a lone peak, slow after a long passage.", group="Rest")
    soft_range: bool = usual.soft_range("Rest")
    rms_pct: float = average_pct("Rest")
    rms_ms: float = average_ms("Rest")


class DynamicEqSettings(ProcessorSettings):
    """Settings of the dynamic EQ."""

    topology: Literal["parallel", "serial"] = choice(
        "parallel", label="Bands stand", group="Bands", words={"parallel": "in parallel", "serial": "in series"},
        help="Each band works on the source and all are summed, or each on what the one before it made.",
    )  # fmt: skip
    bands: list[EqBand] = Field(
        default=[], max_length=MOST_BANDS, description="Up to eight bands.",
        json_schema_extra=listed(label="Bands", group="Bands", columns=COLUMNS, keys=KEYS, rows=ROWS),
    )  # fmt: skip
    low_cut_hz: float = _cut("Low cut", usual.LOWEST_HZ, "Takes away what lies below; 0 is off.")
    low_cut_slope: Slope = _slope("Low slope")
    high_cut_hz: float = _cut("High cut", usual.HIGHEST_HZ, "Takes away what lies above; 0 is off.")
    high_cut_slope: Slope = _slope("High slope")
    rest: Rest = Rest()
    channels: Channels = channels_as("Bands")
    link_pct: float = linked_pct("Bands")
    apply_to: Acted = acted_on("Bands")
    match_loudness: bool = choice(
        False, label="Match loudness", group="Out", help="Takes back what gains at rest and cuts do to the loudness.",
    )  # fmt: skip
    match_highs: bool = choice(
        False, label="Match highs", group="Out",
        help="Bells and shelves keep their shape up to 18 kHz instead of being squeezed by half the sample rate.",
    )  # fmt: skip
    mix_pct: float = usual.share_pct(
        100.0, "How much of the shaped sound; the rest is the source.", group="Out", label="Mix", moves="gain"
    )
    output_db: float = usual.gain_db(0.0, "Level of everything that leaves.", group="Out", label="Output")
    oversampling: usual.TimesTheRate = usual.oversampling(group="Out")
