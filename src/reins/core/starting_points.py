"""Starting points by source: settings from common practice, each with one sentence on what it does and why."""

from dataclasses import dataclass, field
from typing import Any

from reins.errors import NotFoundError


@dataclass(frozen=True)
class StartingPoint:
    """Named settings of a processor type; what is not named takes its default."""

    type: str
    source: str
    name: str
    sentence: str
    settings: dict[str, Any] = field(default_factory=dict)


def _compressor(source: str, name: str, sentence: str, **settings: Any) -> StartingPoint:
    return StartingPoint("compressor", source, name, sentence, settings)


STARTING_POINTS = (
    _compressor(
        "voice", "Voice, even lines",
        "A gentle ratio on the average brings quiet and loud lines together; the slow automatic release does not pump.",
        threshold_db=-24, ratio=3, knee_db=9, attack_ms=8, release_ms=90, auto_release=True, rms_pct=70, rms_ms=25,
        key={"low_cut_hz": 100},
    ),
    _compressor(
        "speech", "Speech, close and steady",
        "Firm and quick, so that every word is understood; the low cut keeps pops from driving it.",
        threshold_db=-28, ratio=4, knee_db=6, attack_ms=4, release_ms=120, rms_pct=60, rms_ms=20,
        key={"low_cut_hz": 120},
    ),
    _compressor(
        "snare", "Snare, keep the crack",
        "The slow attack lets the crack through and holds the body behind it.",
        threshold_db=-22, ratio=4, knee_db=4, attack_ms=14, release_ms=110,
    ),
    _compressor(
        "kick", "Kick, even hits",
        "Quick enough to even out hits of different strength, with a release that is over before the next one.",
        threshold_db=-16, ratio=5, knee_db=2, attack_ms=6, release_ms=90,
    ),
    _compressor(
        "drum bus", "Drum bus, glue",
        "A little hold on the whole kit with a slow attack; the low cut keeps the kick from moving all else.",
        threshold_db=-18, ratio=2, knee_db=8, attack_ms=30, release_ms=120, auto_release=True, key={"low_cut_hz": 90},
    ),
    _compressor(
        "bass", "Bass, even notes",
        "Average detection follows the note, and a release long enough not to distort the low end.",
        threshold_db=-22, ratio=4, knee_db=6, attack_ms=15, release_ms=220, rms_pct=80, rms_ms=40,
    ),
    _compressor(
        "acoustic guitar", "Acoustic guitar, strummed",
        "Holds the strokes lightly and leaves the pick its attack.",
        threshold_db=-22, ratio=2.5, knee_db=8, attack_ms=18, release_ms=140, rms_pct=40,
    ),
    _compressor(
        "electric guitar", "Electric guitar, in its place",
        "A moderate hold that keeps chords from jumping over the voice.",
        threshold_db=-20, ratio=3, knee_db=6, attack_ms=12, release_ms=130, rms_pct=50,
    ),
    _compressor(
        "piano", "Piano, without pulsing",
        "Soft and slow: a short release would be heard as breathing.",
        threshold_db=-24, ratio=2, knee_db=12, attack_ms=25, release_ms=400, auto_release=True, rms_pct=60, rms_ms=40,
    ),
    _compressor(
        "whole mix", "Whole mix, a light hand",
        "One or two dB at a low ratio; lows do not drive it, and it lets go by itself.",
        threshold_db=-16, ratio=1.5, knee_db=10, attack_ms=30, release_ms=150, auto_release=True, rms_pct=50,
        key={"low_cut_hz": 80},
    ),
    StartingPoint(
        "limiter", "whole mix", "Whole mix, safe to hand over",
        "Leaves 1 dB to full scale with true peaks held, so that no converter clips.",
        {"ceiling_db": -1, "lookahead_ms": 4, "release_ms": 100, "auto_release": True},
    ),
    StartingPoint(
        "limiter", "drum bus", "Drum bus, catch the peaks",
        "Short and quick: only the tips of the hits are taken.",
        {"ceiling_db": -3, "lookahead_ms": 1.5, "release_ms": 40},
    ),
)  # fmt: skip


def starting_points(kind: str) -> list[StartingPoint]:
    """The starting points of a processor type."""
    return [point for point in STARTING_POINTS if point.type == kind]


def find_starting_point(kind: str, name: str) -> StartingPoint:
    """A starting point by name, or NotFoundError."""
    for point in starting_points(kind):
        if point.name == name:
            return point
    raise NotFoundError("starting point", name)
