"""Draws the guide's pictures of compressors by kind, from what they really do."""

import numpy as np

from benchmarks.guide import COLOURS, INK, Picture
from reins.core.chainfile import parse_entry
from reins.core.processors import PROCESSORS
from reins.core.processors.base import alone
from reins.demo.score import RATE


def way_back(kind, lit_s, level_db, seconds, **settings):
    """(seconds since the end, gain in dB) behind a steady level of so long."""
    frames = round(lit_s * RATE)
    entry = parse_entry({"type": kind, "settings": {"colour_on": False, **settings}}, "guide")
    processor = PROCESSORS[kind](entry.settings, channels=1, sample_rate=RATE)
    sound = np.concatenate([np.full(frames, 10 ** (level_db / 20)), np.zeros(round(seconds * RATE))])[None]
    processor.process(alone(sound, RATE))
    at = np.linspace(0, seconds, 300)
    return at, processor.gains_db["gain_db"][frames - 1 + (at * (RATE - 1)).astype(int)]


def fet():
    picture = Picture("Release 150 ms: behind a hit of 20 ms, and a note of 2 s", (0, 2), (-15, 0)).grid(
        (0, 0.5, 1, 1.5, 2), " s", 3
    )
    rows = ((0.02, "hit", INK, "none"), (2.0, "note", COLOURS[0], "7 3"))
    for lit_s, _, colour, dash in rows:
        picture.curve(*way_back("fet", lit_s, -6.0, 2.0, release_ms=150.0, attack_us=100.0), colour, dash)
    picture.legend(*(row[1:] for row in rows)).save("fet-release")

    picture = Picture("Level out for each level in, by ratio, and crushed", (-48, 0), (-48, 0)).grid(
        (-48, -36, -24, -12, 0), " dB", 12
    )
    level = np.linspace(-48, 0, 200)
    looks = (("4:1", {"ratio": 4.0}, INK, "none"), ("20:1", {"ratio": 20.0}, COLOURS[1], "7 3"),
             ("crushed", {"crush_pct": 100.0}, COLOURS[0], "2 3"))  # fmt: skip
    for _, settings, colour, dash in looks:
        kind = PROCESSORS["fet"]
        picture.curve(level, kind.curve_db(kind.Settings(**settings), level), colour, dash)
    picture.legend(*((word, colour, dash) for word, _, colour, dash in looks)).save("fet-curve")


def optical():
    picture = Picture("Behind half a second of light, and six", (0, 3), (-15, 0)).grid(
        (0, 0.5, 1, 1.5, 2, 2.5, 3), " s", 3
    )
    rows = ((0.5, "0.5 s", INK, "none"), (6.0, "6 s", COLOURS[0], "7 3"))
    for lit_s, _, colour, dash in rows:
        picture.curve(*way_back("optical", lit_s, -9.0, 3.0, threshold_db=-30.0), colour, dash)
    picture.legend(*(row[1:] for row in rows)).save("optical-release")


def variable_mu():
    picture = Picture("Level out for each level in, by bias", (-48, 0), (-48, 0)).grid(
        (-48, -36, -24, -12, 0), " dB", 12
    )
    level, kind = np.linspace(-48, 0, 200), PROCESSORS["variable_mu"]
    looks = (("none", 0.0, INK, "none"), ("50 %", 50.0, COLOURS[1], "7 3"), ("100 %", 100.0, COLOURS[0], "2 3"))
    for _, bias_pct, colour, dash in looks:
        picture.curve(level, kind.curve_db(kind.Settings(threshold_db=-36.0, bias_pct=bias_pct), level), colour, dash)
    picture.legend(*((word, colour, dash) for word, _, colour, dash in looks)).save("variable-mu-curve")

    picture = Picture("Release 300 ms: behind 12 s, by stages", (0, 6), (-15, 0)).grid((0, 1, 2, 3, 4, 5, 6), " s", 3)
    rows = (("none", "one", INK, "none"), ("two", "two", COLOURS[1], "7 3"), ("three", "three", COLOURS[0], "2 3"))
    for programme, _, colour, dash in rows:
        way = way_back("variable_mu", 12.0, -6.0, 6.0, threshold_db=-30.0, release_ms=300.0, programme=programme)
        picture.curve(*way, colour, dash)
    picture.legend(*(row[1:] for row in rows)).save("variable-mu-release")


def three_speed():
    picture = Picture("Way back behind a peak of 4 ms, by glide", (0, 2), (-15, 0)).grid((0, 0.5, 1, 1.5, 2), " s", 3)
    rows = ((0.0, "none", INK, "none"), (50.0, "50 %", COLOURS[1], "7 3"), (100.0, "100 %", COLOURS[0], "2 3"))
    for glide_pct, _, colour, dash in rows:
        settings = {"threshold_db": -24.0, "hits_release_ms": 200.0, "body_release_ms": 1000.0, "glide_pct": glide_pct}
        picture.curve(*way_back("three_speed", 0.004, -2.0, 2.0, **settings), colour, dash)
    picture.legend(*(row[1:] for row in rows)).save("three-speed-glide")


def draw():
    """All of them."""
    fet()
    optical()
    variable_mu()
    three_speed()
