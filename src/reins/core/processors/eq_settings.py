"""Settings of the dynamic EQ; see dynamic_eq.py for their meaning."""

from typing import Any, Literal

from pydantic import Field

from reins.core.processors.base import Key, ProcessorSettings, Strict, choice, listed, number

MOST_BANDS = 8
Slope = Literal[6, 12, 18, 24, 36, 48, 72, 96, 120]


def _slope(label: str) -> Any:
    return choice(12, label=label, group="Cuts", help="How steeply the cut falls, in dB per octave.")


def _cut(label: str, help: str) -> Any:
    return number(0.0, 0, 20000, label=label, unit="Hz", group="Cuts", step=1, scale="log", help=help)


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
    gain_db: float = number(
        0.0, -24, 24, label="Gain", unit="dB", group="Band", step=0.1, scale="db",
        help="Its gain while it does not move.",
    )  # fmt: skip
    motion: Literal["none", "compress", "expand", "spare"] = choice(
        "none", label="Moves", group="Band", help="Still, held when loud, let up when loud, or spared by the rest.",
        words={"none": "still", "compress": "holds", "expand": "lets up", "spare": "spared"},
    )  # fmt: skip
    threshold_db: float = number(
        -30.0, -90, 0, label="Threshold", unit="dB", group="Motion", step=0.5, scale="db",
        help="The level of what it watches from which it moves.",
    )  # fmt: skip
    ratio: float = number(
        2.0, 1, 100, label="Ratio", unit=":1", group="Motion", step=0.1, scale="log",
        help="Holding, how many dB in make one dB out; letting up, how many dB come out for one.",
    )  # fmt: skip
    knee_db: float = number(
        6.0, 0, 24, label="Knee", unit="dB", group="Motion", step=0.5,
        help="How gently it sets in around the threshold.",
    )  # fmt: skip
    range_db: float = number(
        12.0, 0, 60, label="Reach", unit="dB", group="Motion", step=0.5, help="The most it may ever move.",
    )  # fmt: skip
    attack_ms: float = number(
        10.0, 0, 500, label="Attack", unit="ms", group="Motion", step=0.1, scale="log",
        help="How long until it has moved.",
    )  # fmt: skip
    release_ms: float = number(
        120.0, 1, 5000, label="Release", unit="ms", group="Motion", step=1, scale="log",
        help="How long it takes to go back; lows want longer than highs.",
    )  # fmt: skip
    timing: Literal["own", "rest"] = choice(
        "own", label="Times", group="Motion", words={"own": "its own", "rest": "the rest's"},
        help="Whether it has attack and release of its own or those of the rest.",
    )  # fmt: skip
    watch: Literal["band", "band_weighted", "whole"] = choice(
        "band", label="Watches", group="Motion", words={"band": "band", "band_weighted": "weighted", "whole": "whole"},
        help="Its own region, the same with highs weighted up, or the whole sound.",
    )  # fmt: skip
    key: Key = Key()


class Rest(Strict):
    """Settings of what no moving or spared band covers."""

    on: bool = choice(False, label="The rest", group="Rest", help="Holds what no moving or spared band covers.")
    gain_db: float = number(
        0.0, -24, 24, label="Gain", unit="dB", group="Rest", step=0.1, scale="db",
        help="Gain of the rest while not held.",
    )  # fmt: skip
    threshold_db: float = number(
        -24.0, -90, 0, label="Threshold", unit="dB", group="Rest", step=0.5, scale="db",
        help="The level of the rest from which it is held.",
    )  # fmt: skip
    ratio: float = number(
        2.0, 1, 100, label="Ratio", unit=":1", group="Rest", step=0.1, scale="log",
        help="How many dB in make one dB out above the threshold.",
    )  # fmt: skip
    knee_db: float = number(
        6.0, 0, 24, label="Knee", unit="dB", group="Rest", step=0.5, help="How gently the hold sets in.",
    )  # fmt: skip
    range_db: float = number(
        24.0, 0, 60, label="Reach", unit="dB", group="Rest", step=0.5,
        help="The most that is ever taken; 60: no limit.",
    )  # fmt: skip
    attack_ms: float = number(
        20.0, 0, 500, label="Attack", unit="ms", group="Rest", step=0.1, scale="log",
        help="How long until it has taken hold.",
    )  # fmt: skip
    release_ms: float = number(
        200.0, 1, 5000, label="Release", unit="ms", group="Rest", step=1, scale="log",
        help="How long it takes to let go.",
    )  # fmt: skip
    auto_release: bool = choice(
        False, label="Automatic release", group="Rest", help="Quick after a lone peak, slow after a long passage.",
    )  # fmt: skip


class DynamicEqSettings(ProcessorSettings):
    """Settings of the dynamic EQ."""

    topology: Literal["parallel", "serial"] = choice(
        "parallel", label="Bands stand", group="Out", words={"parallel": "in parallel", "serial": "in series"},
        help="Each band works on the source and all are summed, or each on what the one before it made.",
    )  # fmt: skip
    bands: list[EqBand] = Field(
        default=[], max_length=MOST_BANDS, description="Up to eight bands.",
        json_schema_extra=listed(label="Bands", group="Bands"),
    )  # fmt: skip
    low_cut_hz: float = _cut("Low cut", "Takes away what lies below; 0 is off.")
    low_cut_slope: Slope = _slope("Low slope")
    high_cut_hz: float = _cut("High cut", "Takes away what lies above; 0 is off.")
    high_cut_slope: Slope = _slope("High slope")
    rest: Rest = Rest()
    match_loudness: bool = choice(
        False, label="Match loudness", group="Out", help="Takes back what gains at rest and cuts do to the loudness.",
    )  # fmt: skip
    mix_pct: float = number(
        100.0, 0, 100, label="Mix", unit="%", group="Out", step=1,
        help="How much of the shaped sound; the rest is the source.",
    )  # fmt: skip
    output_db: float = number(
        0.0, -24, 24, label="Output", unit="dB", group="Out", step=0.1, scale="db",
        help="Level of everything that leaves.",
    )  # fmt: skip
