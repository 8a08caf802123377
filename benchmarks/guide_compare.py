"""Draws the guide's comparison of compressors: the same snare, voice and bass, held equally deep by each kind, and a
table of what that does.

    python -m benchmarks.guide_compare
"""

import numpy as np

from benchmarks.guide import COLOURS, INK, MUTED, Picture, gains, held
from reins.core.kinds import KINDS, as_kind
from reins.core.processors import PROCESSORS
from reins.demo import drums, strings, voices
from reins.demo.score import RATE

DEPTH_DB = 8.0  # of the deepest hundredth of the time, of each
LOOKS = (("clean", INK, "none"), ("FET", COLOURS[0], "none"), ("optical", COLOURS[1], "none"),
         ("variable-mu", COLOURS[2], "7 3"), ("three-speed", MUTED, "2 3"))  # fmt: skip


def as_deep(take, kind, settings):
    """Settings of a kind with which the deepest hundredth of the time is held by DEPTH_DB, found by trying."""
    name, deeper = ("input_db", 1) if PROCESSORS[kind].line_drives else ("threshold_db", -1)
    low, high = (-24.0, 24.0) if deeper > 0 else (-60.0, 0.0)
    for _ in range(9):
        middle = 0.5 * (low + high)
        _, gain = held(take, kind, **settings | {name: middle})
        too_deep = np.percentile(gain, 1) < -DEPTH_DB
        low, high = (low, middle) if too_deep == (deeper > 0) else (middle, high)
    return settings | {name: middle}


def crest_db(sound):
    return 20 * np.log10(np.abs(sound).max() / np.sqrt(np.mean(sound[np.abs(sound) > 1e-4] ** 2)))


def compare(source, take, start, first_s, last_s):
    """Draw one source; prints a row for each kind."""
    picture = Picture(f"{source}: gain", (first_s, last_s), (-10, 0)).grid(np.linspace(first_s, last_s, 5), " s", 2)
    given = PROCESSORS["compressor"].Settings(**start)
    for kind, (word, colour, dash) in zip(KINDS, LOOKS, strict=True):
        settings = given if kind == "compressor" else as_kind("compressor", given, kind)
        plain = settings.model_dump(exclude_defaults=True)
        made, gain = held(take, kind, **as_deep(take, kind, plain))
        picture.curve(*gains(gain, first_s, last_s), colour, dash, 1.5)
        half = np.median(gain[gain < -0.5]) if (gain < -0.5).any() else 0.0
        print(
            f"| {source} | {word} | {100 * np.mean(gain < -0.5):.0f} % | {half:.1f} | "
            f"{crest_db(take):.1f} → {crest_db(made):.1f} |".replace("-", "−").replace("variable−mu", "variable-mu")
            .replace("three−speed", "three-speed")
        )  # fmt: skip
    picture.legend(*LOOKS).save(f"compare-{source.lower()}")


def draw():
    """All of them."""
    kick, hats = drums.make_kick(), drums.make_hats()
    snare = drums.make_snare(kick, hats)
    usual = {"threshold_db": -24.0, "ratio": 4.0}
    compare("Snare", snare[:, : 20 * RATE], usual | {"attack_ms": 2.0, "release_ms": 90.0}, 12.0, 14.0)
    compare("Voice", voices.make_singer()[:, : 30 * RATE], usual | {"attack_ms": 6.0, "release_ms": 150.0}, 21.0, 25.0)
    compare("Bass", strings.make_bass()[:, : 20 * RATE], usual | {"attack_ms": 12.0, "release_ms": 200.0}, 12.0, 16.0)


if __name__ == "__main__":
    draw()
