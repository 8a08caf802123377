"""Draws the guide's pictures of movement, level and filter, from what reins really do to takes of the demo session."""

import numpy as np

from benchmarks.guide import COLOURS, INK, SOURCE, Picture, levels, over_frequency, response
from reins.core.chainfile import parse_entry, parse_reins
from reins.core.engine.chain import Chain
from reins.core.time import Beat, Stream, When
from reins.demo.facts import TEMPO_BPM
from reins.demo.score import BEAT_S, RATE


def moved(take, kind, settings, by, path, to, **keys):
    """The result of a processor of which a rein moves one setting."""
    entries = [parse_entry({"type": kind, "id": "p", "settings": settings}, "guide")]
    move = {"what": f"p.{path}"} | ({} if by["kind"] == "line" else {"to": to})
    channels = {name: key.shape[0] for name, key in keys.items()}
    chain = Chain(
        entries, channels=take.shape[0], sample_rate=RATE, key_channels=channels,
        reins=parse_reins([{"id": "r", "moves": [move], "by": by}]),
    )  # fmt: skip
    return chain.process(take, keys, When(Stream(0), 0, take.shape[1], RATE, Beat(TEMPO_BPM)))


def movement(harmonium, kick, singer):
    first, last = 8 * BEAT_S, 12 * BEAT_S
    ticks = [round(first + k * BEAT_S, 2) for k in range(5)]
    by = {"kind": "beat", "points": [[0, 1, 0], [0.15, 1, -0.35], [0.9, 0, 0], [1, 0, 0]]}
    ducked = moved(harmonium, "level", {}, by, "gain_db", -15.0)
    picture = Picture("A curve over one beat lowers the harmonium by 15 dB", (first, last), (-60, 0)).grid(
        ticks, " s", 12
    )
    picture.area(*levels(harmonium, first, last), SOURCE).curve(*levels(ducked, first, last), INK)
    picture.legend(("harmonium", SOURCE, "none"), ("result", INK, "none")).save("movement-beat")

    by = {"kind": "key", "key": {"source": "kick"}, "floor_db": -40, "ceiling_db": -12, "release_ms": 180}
    followed = moved(harmonium, "level", {}, by, "gain_db", -15.0, kick=kick)
    picture = Picture("The kick between floor and ceiling lowers it", (first, last), (-60, 0)).grid(ticks, " s", 12)
    picture.area(*levels(harmonium, first, last), SOURCE).curve(*levels(kick, first, last), COLOURS[2], "3 3")
    for level in (-40, -12):
        picture.curve([first, last], [level, level], COLOURS[2], "none", 1)
    picture.curve(*levels(followed, first, last), INK)
    picture.legend(("kick", COLOURS[2], "3 3"), ("result", INK, "none")).save("movement-key")

    points = [[12, 0], [16, 0], [20, -9, 0.3], [26, -9], [28, 0]]
    ridden = moved(singer, "level", {}, {"kind": "line", "points": points}, "gain_db", None)
    picture = Picture("A line drawn over the take rides the singer", (10, 30), (-60, 6)).grid(
        (10, 15, 20, 25, 30), " s", 12
    )
    picture.area(*levels(singer, 10, 30), SOURCE).curve(*levels(ridden, 10, 30), INK)
    seconds = np.linspace(10, 30, 200)
    picture.curve(seconds, np.interp(seconds, [p[0] for p in points], [p[1] for p in points]), COLOURS[0], "7 3")
    picture.legend(("singer", SOURCE, "none"), ("result", INK, "none"), ("the line", COLOURS[0], "7 3"))
    picture.save("movement-line")


def level(harmonium):
    wide = np.concatenate([harmonium, np.roll(harmonium, 900, axis=1)])
    picture = Picture("The sides of a wide sound, sides at 200, 100 and 25 %", (4, 8), (-60, 0)).grid(
        range(4, 9), " s", 12
    )
    for pct, colour, dash in zip((200.0, 100.0, 25.0), COLOURS, ("7 3", "none", "2 3"), strict=True):
        entry = parse_entry({"type": "level", "settings": {"sides_pct": pct}}, "guide")
        made = Chain([entry], channels=2, sample_rate=RATE).process(wide)
        picture.curve(*levels(0.5 * (made[:1] - made[1:]), 4, 8), colour, dash)
    picture.legend(
        *((f"{pct} %", c, d) for pct, c, d in zip((200, 100, 25), COLOURS, ("7 3", "none", "2 3"), strict=True))
    )
    picture.save("level-sides")


def filter_curves():
    picture = over_frequency("Cuts with resonance, and a tilt", (-24, 18), 6)
    response(picture, "filter", {"high_cut_hz": 2000.0, "high_cut_slope": 24}, {}, INK)
    response(picture, "filter", {"high_cut_hz": 2000.0, "high_cut_slope": 24, "resonance_db": 12.0}, {}, COLOURS[0])
    response(picture, "filter", {"tilt_db": 6.0, "tilt_hz": 800.0}, {}, COLOURS[1], "7 3")
    picture.legend(("cut", INK, "none"), ("with 12 dB", COLOURS[0], "none"), ("tilt 6 dB", COLOURS[1], "7 3"))
    picture.save("filter-curves")


def draw(harmonium, kick, singer):
    """All of them."""
    movement(harmonium, kick, singer)
    level(harmonium)
    filter_curves()
