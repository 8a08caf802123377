"""The settings most processors have, each described once: label, unit, scale, step and usual limits.

What differs from one processor to the next is given: default, help, and limits or group where they are its own.
"""

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator

from reins.core.settings.describing import Moves, choice, number

LOWEST_HZ, HIGHEST_HZ = 20.0, 20000.0
LEAST_MS = 0.01  # of a time that moves; 0 counts as this


def _as_number(value: Any) -> Any:
    """A number of times the rate that came as text, as from a list on a page."""
    return int(value) if isinstance(value, str) and value.isdecimal() else value


TimesTheRate = Annotated[Literal["off", 2, 4, 8, 16, "auto"], BeforeValidator(_as_number)]


def threshold_db(default: float, help: str, *, low: float = -90, high: float = 0, group: str = "Level") -> Any:
    """The level from which it acts."""
    return number(default, low, high, label="Threshold", unit="dB", group=group, step=0.5, scale="db", help=help)


def ratio(default: float, help: str, *, high: float = 100, group: str = "Level") -> Any:
    """How steep it is beyond the threshold."""
    return number(default, 1, high, label="Ratio", unit=":1", group=group, step=0.1, scale="log", help=help)


def knee_db(default: float, help: str, *, group: str = "Level") -> Any:
    """The width of the bend around the threshold."""
    return number(default, 0, 24, label="Knee", unit="dB", group=group, step=0.5, help=help)


def range_db(default: float, help: str, *, high: float = 60, label: str = "Range", group: str = "Level") -> Any:
    """The most it may change."""
    return number(default, 0, high, label=label, unit="dB", group=group, step=0.5, help=help)


def attack_ms(default: float, help: str, *, high: float = 500, label: str = "Attack", group: str = "Time") -> Any:
    """How long it takes to act."""
    return number(
        default, 0, high, label=label, unit="ms", group=group, step=0.1, scale="log", least=LEAST_MS, help=help
    )


def hold_ms(default: float, help: str, *, high: float = 500) -> Any:
    """How long it stays before the way back."""
    return number(
        default, 0, high, label="Hold", unit="ms", group="Time", step=1, scale="log", least=LEAST_MS, help=help
    )


def release_ms(default: float, help: str, *, high: float = 5000, label: str = "Release", group: str = "Time") -> Any:
    """How long the way back takes."""
    return number(default, 1, high, label=label, unit="ms", group=group, step=1, scale="log", help=help)


LETS_GO = "Lets go quickly after a lone hit, slowly after a long passage."


def soft_range(group: str = "Level") -> Any:
    """Whether the range has a corner."""
    return choice(
        False, label="Soft reach", group=group, help="Comes to its reach over the last 3 dB, without a corner."
    )


def auto_release(help: str = LETS_GO, *, group: str = "Time") -> Any:
    """Whether the way back takes its time by itself; see processors.release."""
    return choice(False, label="Automatic release", group=group, help=help)


def cut_hz(label: str, *, group: str, off_as: float, help: str) -> Any:
    """Where a cut lies; 0 is off, which counts as off_as while it moves."""
    return number(
        0.0, 0, HIGHEST_HZ, label=label, unit="Hz", group=group, step=1, scale="log", least=LOWEST_HZ, off_as=off_as,
        help=help,
    )  # fmt: skip


def oversampling(*, group: str = "Time") -> Any:
    """At how many times the rate it works; see processors.oversampling."""
    return choice(
        "off", label="Oversampling", group=group, words={"off": "off", "auto": "auto"},
        help="Works at a multiple of the rate, so that very fast moves do not add tones of their own (aliasing); "
        "auto: eight times where attack or release is under 3 ms, sixteen under 1 ms.",
    )  # fmt: skip


def _as_times(value: Any) -> Any:
    return value if value == "auto" else _as_number(value)


TimesRaised = Annotated[Literal["auto", 1, 2, 4, 8, 16], BeforeValidator(_as_times)]


def raised(*, group: str = "Out", whole: bool = False) -> Any:
    """At how many times the rate a waveform is bent (see processors.shaper); whole: and its gain made, by a number."""
    bends = "Bends at a multiple of the rate, so that harmonics do not fold back (aliasing); auto: by the drive."
    also = " With a number a quick gain is made there, too." if whole else ""
    return choice("auto", label="Oversampling", group=group, words={"auto": "auto"}, help=bends + also)


def gain_db(default: float, help: str, *, label: str, group: str, step: float = 0.1, moves: Moves = "gain") -> Any:
    """A level change of up to 24 dB either way."""
    return number(default, -24, 24, label=label, unit="dB", group=group, step=step, scale="db", moves=moves, help=help)


def operating_db() -> Any:
    """How much deeper it works in the sound than that comes."""
    return number(
        0.0, -24, 24, label="Deeper", unit="dB", group="Level", step=0.5, scale="db", moves=False,
        help="Moves the whole setting deeper into the sound, or shallower, without what leaves getting louder.",
    )  # fmt: skip


def share_pct(default: float, help: str, *, label: str, group: str, moves: Moves = "grid", **more: Any) -> Any:
    """A share of the whole."""
    return number(default, 0, 100, label=label, unit="%", group=group, step=1, moves=moves, help=help, **more)
