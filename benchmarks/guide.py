"""Draws the pictures of the guide from what the processors really do to takes of the demo session. `make guide`."""

from pathlib import Path

import numpy as np
import scipy.signal

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from reins.core.processors import PROCESSORS
from reins.core.starting_points import find_starting_point
from reins.demo import drums, strings, voices
from reins.demo.score import RATE

FOLDER = Path(__file__).parents[1] / "src" / "reins" / "guide" / "pictures"
WIDE, HIGH, LEFT, TOP, BOTTOM = 720, 260, 44, 30, 24
INK, MUTED, LINE, SHEET, SOURCE = "#20282B", "#6B665A", "#D9D1BF", "#FAF7EF", "#CBD5DA"
COLOURS = ("#A5382A", "#2C7A58", "#B97A0B")
DASHES = ("none", "7 3", "2 3")


class Picture:
    """An SVG with an axis in dB and one in whatever x is."""

    def __init__(self, title, x_range, db_range):
        self.x_range, self.db_range = x_range, db_range
        self.parts = [text(LEFT, 18, title, INK, size=14, weight=600)]

    def x(self, value):
        low, high = self.x_range
        return LEFT + (value - low) / (high - low) * (WIDE - LEFT - 24)

    def y(self, db):
        low, high = self.db_range
        return TOP + (high - np.clip(db, low, high)) / (high - low) * (HIGH - TOP - BOTTOM)

    def grid(self, ticks, unit, every_db):
        for db in np.arange(self.db_range[1], self.db_range[0] - 1e-9, -every_db):
            self.parts.append(line([(LEFT, self.y(db)), (WIDE - 24, self.y(db))], LINE, 1))
            self.parts.append(text(LEFT - 6, self.y(db) + 4, f"{db:.0f}".replace("-", "−"), MUTED, anchor="end"))
        for tick in ticks:
            self.parts.append(text(self.x(tick), HIGH - 6, f"{tick:g}{unit}".replace("-", "−"), MUTED, anchor="middle"))
        return self

    def area(self, xs, dbs, colour):
        points = [(self.x(xs[0]), self.y(-999))]
        points += [(self.x(x), self.y(db)) for x, db in zip(xs, dbs, strict=True)]
        points.append((self.x(xs[-1]), self.y(-999)))
        self.parts.append(f'<polygon fill="{colour}" points="{pairs(points)}"/>')
        return self

    def curve(self, xs, dbs, colour, dash="none", wide=1.5):
        points = [(self.x(x), self.y(db)) for x, db in zip(xs, dbs, strict=True)]
        self.parts.append(line(points, colour, wide, dash))
        return self

    def legend(self, *rows):
        x = WIDE - 24
        for word, colour, dash in reversed(rows):
            x -= 8 + 6.6 * len(word)
            self.parts.append(text(x, 18, word, INK))
            self.parts.append(line([(x - 26, 14), (x - 6, 14)], colour, 3, dash))
            x -= 34
        return self

    def save(self, name):
        head = f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDE} {HIGH}" font-family="sans-serif">'
        back = f'<rect width="{WIDE}" height="{HIGH}" fill="{SHEET}"/>'
        (FOLDER / f"{name}.svg").write_text("\n".join([head, back, *self.parts, "</svg>", ""]), encoding="utf-8")


def pairs(points):
    return " ".join(f"{x:.1f},{y:.1f}" for x, y in points)


def line(points, colour, wide, dash="none"):
    style = f'fill="none" stroke="{colour}" stroke-width="{wide}" stroke-dasharray="{dash}"'
    return f'<polyline {style} points="{pairs(points)}"/>'


def text(x, y, words, colour, *, size=12, weight=400, anchor="start"):
    style = f'fill="{colour}" font-size="{size}" font-weight="{weight}" text-anchor="{anchor}"'
    return f'<text x="{x:.1f}" y="{y:.1f}" {style}>{words}</text>'


def held(take, kind, **settings):
    """(result, gain in dB), lined up with a take (channels, frames)."""
    entries = [parse_entry({"type": kind, "settings": settings}, "guide")]
    chain = Chain(entries, channels=take.shape[0], sample_rate=RATE)
    late = chain.latency_frames
    result = chain.process(np.pad(take, ((0, 0), (0, late))))[:, late:]
    return result, chain.gains()[0][1]["gain_db"][late:]


def levels(samples, first_s, last_s, columns=600):
    """(seconds, peak level in dB) over a part."""
    part = np.abs(samples[:, round(first_s * RATE) : round(last_s * RATE)]).max(axis=0)
    edges = np.linspace(0, part.size, columns + 1).astype(int)[:-1]
    return np.linspace(first_s, last_s, columns), 20 * np.log10(np.maximum(np.maximum.reduceat(part, edges), 1e-6))


def gains(gain_db, first_s, last_s, columns=600):
    """(seconds, lowest gain in dB) over a part."""
    part = gain_db[round(first_s * RATE) : round(last_s * RATE)]
    edges = np.linspace(0, part.size, columns + 1).astype(int)[:-1]
    return np.linspace(first_s, last_s, columns), np.minimum.reduceat(part, edges)


def compressor(snare, singer, bass):
    settings = {"threshold_db": -24.0, "ratio": 4.0, "attack_ms": 5.0, "release_ms": 120.0}
    result, gain = held(snare, "compressor", **settings)
    picture = Picture("Snare, threshold −24 dB, 4 : 1", (9, 13), (-60, 12)).grid(range(9, 14), " s", 12)
    picture.area(*levels(snare, 9, 13), SOURCE).curve(*levels(result, 9, 13), INK)
    seconds, held_db = gains(gain, 9, 13)
    picture.curve([9, 13], [-24, -24], COLOURS[0], "6 4").curve(seconds, held_db + 12, COLOURS[0])
    picture.legend(("source", SOURCE, "none"), ("result", INK, "none"), ("held", COLOURS[0], "none")).save("held")

    hit = 10.0 + (np.argmax(np.abs(snare[0, 10 * RATE : 11 * RATE]) > 0.2)) / RATE
    picture = Picture("One hit, three attacks", (hit - 0.01, hit + 0.09), (-15, 0))
    picture.grid([], "", 3)
    rows = []
    for attack_ms, colour, dash in zip((0.1, 5.0, 30.0), COLOURS, DASHES, strict=True):
        _, gain = held(snare, "compressor", **settings | {"attack_ms": attack_ms})
        picture.curve(*gains(gain, hit - 0.01, hit + 0.09), colour, dash, 2)
        rows.append((f"{attack_ms:g} ms", colour, dash))
    picture.legend(*rows).save("attack")

    picture = Picture("Bass, gain with three releases", (8, 12), (-18, 0)).grid(range(8, 13), " s", 6)
    rows = []
    choices = {"40 ms": {"release_ms": 40.0}, "400 ms": {"release_ms": 400.0}, "automatic": {"auto_release": True}}
    for (word, release), colour, dash in zip(choices.items(), COLOURS, DASHES, strict=True):
        _, gain = held(bass, "compressor", **settings | {"threshold_db": -30.0} | release)
        picture.curve(*gains(gain, 8, 12), colour, dash, 1.5)
        rows.append((word, colour, dash))
    picture.legend(*rows).save("release")

    picture = Picture("In → out, threshold −24 dB, 4 : 1, three knees", (-36, -12), (-33, -18))
    picture.grid(range(-36, -11, 6), " dB", 3)
    level = np.linspace(-36, -12, 200)
    rows = []
    for knee_db, colour, dash in zip((0.0, 6.0, 18.0), COLOURS, DASHES, strict=True):
        entry = parse_entry({"type": "compressor", "settings": settings | {"knee_db": knee_db}}, "guide")
        picture.curve(level, PROCESSORS["compressor"].curve_db(entry.settings, level), colour, dash, 2)
        rows.append((f"{knee_db:g} dB", colour, dash))
    picture.legend(*rows).save("knee")

    even, _ = held(singer, "compressor", threshold_db=-30.0, ratio=3.0, attack_ms=8.0, release_ms=200.0, makeup_db=6.0)
    picture = Picture("Singer, before and after, makeup 6 dB", (8, 20), (-60, 0)).grid(range(8, 21, 2), " s", 12)
    picture.area(*levels(singer, 8, 20), SOURCE).curve(*levels(even, 8, 20), INK)
    picture.legend(("source", SOURCE, "none"), ("result", INK, "none")).save("makeup")


def limiter(kick, snare, bass):
    mix = (kick + snare + bass) * 10 ** (12 / 20)
    result, gain = held(mix, "limiter", ceiling_db=-1.0)
    picture = Picture("Kick, snare and bass 12 dB too loud, ceiling −1 dB", (9, 11), (-24, 18))
    picture.grid((9, 9.5, 10, 10.5, 11), " s", 6).area(*levels(mix, 9, 11), SOURCE).curve(*levels(result, 9, 11), INK)
    picture.curve([9, 11], [-1, -1], COLOURS[0], "6 4")
    picture.legend(("source", SOURCE, "none"), ("result", INK, "none"), ("ceiling", COLOURS[0], "6 4")).save("ceiling")

    where = 9.0 + np.argmin(gain[9 * RATE : 10 * RATE]) / RATE
    part = (where - 0.02, where + 0.08)
    picture = Picture("Around the deepest moment, gain with three lookaheads", part, (-12, 0)).grid([], "", 3)
    rows = []
    for lookahead_ms, colour, dash in zip((0.5, 3.0, 10.0), COLOURS, DASHES, strict=True):
        _, gain = held(mix, "limiter", ceiling_db=-1.0, lookahead_ms=lookahead_ms)
        picture.curve(*gains(gain, *part), colour, dash, 2)
        rows.append((f"{lookahead_ms:g} ms", colour, dash))
    picture.legend(*rows).save("lookahead")


def gate(snare, announcer):
    settings = point("gate", "Snare, only its own hits")
    result, _ = held(snare, "gate", **settings)
    picture = Picture("Snare microphone, gated", (9, 12), (-60, 0)).grid(range(9, 13), " s", 12)
    picture.area(*levels(snare, 9, 12), SOURCE).curve(*levels(result, 9, 12), INK)
    picture.legend(("source", SOURCE, "none"), ("result", INK, "none")).save("gate-snare")

    picture = Picture("After one hit: hold and release", (9.35, 9.75), (-48, 0)).grid((9.4, 9.5, 9.6, 9.7), " s", 12)
    rows = []
    for (hold_ms, release_ms), colour, dash in zip(((0, 40), (60, 50), (120, 200)), COLOURS, DASHES, strict=True):
        _, gain = held(snare, "gate", **settings | {"hold_ms": hold_ms, "release_ms": release_ms})
        picture.curve(*gains(gain, 9.35, 9.75), colour, dash, 2)
        rows.append((f"{hold_ms} / {release_ms} ms", colour, dash))
    picture.legend(*rows).save("gate-times")

    result, _ = held(announcer, "gate", **point("gate", "Speech, a quiet room between phrases"))
    picture = Picture("Announcer, the room gone between phrases", (0, 20), (-96, 0)).grid(range(0, 21, 5), " s", 24)
    picture.area(*levels(announcer, 0, 20), SOURCE).curve(*levels(result, 0, 20), INK)
    picture.legend(("source", SOURCE, "none"), ("result", INK, "none")).save("gate-speech")


def expander(kick):
    flat, _ = held(kick, "compressor", threshold_db=-18.0, ratio=4.0, attack_ms=0.5, release_ms=80.0)
    raised, _ = held(flat, "expander", **point("expander", "Kick, attack raised"))
    picture = Picture("A flattened kick, given its punch back", (9, 11), (-48, 0)).grid(
        (9, 9.5, 10, 10.5, 11), " s", 12
    )
    picture.area(*levels(flat, 9, 11), SOURCE).curve(*levels(raised, 9, 11), INK)
    picture.legend(("flattened", SOURCE, "none"), ("raised", INK, "none")).save("expander-kick")

    picture = Picture("In → out, threshold −30 dB, 2 : 1", (-60, 0), (-60, 0)).grid(range(-60, 1, 12), " dB", 12)
    level = np.linspace(-60, 0, 240)
    choices = {"down": ("down", 60.0), "down, range 12 dB": ("down", 12.0), "up, range 12 dB": ("up", 12.0)}
    rows = []
    for (word, (direction, range_db)), colour, dash in zip(choices.items(), COLOURS, DASHES, strict=True):
        settings = {"direction": direction, "threshold_db": -30.0, "ratio": 2.0, "range_db": range_db}
        entry = parse_entry({"type": "expander", "settings": settings}, "guide")
        picture.curve(level, PROCESSORS["expander"].curve_db(entry.settings, level), colour, dash, 2)
        rows.append((word, colour, dash))
    picture.legend(*rows).save("expander-curve")


def ducker(kick, bass):
    settings = point("ducker", "Bass under kick")
    entries = [parse_entry({"type": "ducker", "settings": settings | {"key": {"source": "kick"}}}, "guide")]
    chain = Chain(entries, channels=1, sample_rate=RATE, key_channels={"kick": 1})
    result = chain.process(bass, {"kick": kick})
    picture = Picture("Bass yields to the kick", (9, 11), (-48, 12)).grid((9, 9.5, 10, 10.5, 11), " s", 12)
    picture.area(*levels(bass, 9, 11), SOURCE).curve(*levels(kick, 9, 11), COLOURS[2], "3 3")
    picture.curve(*levels(result, 9, 11), INK)
    seconds, held_db = gains(chain.gains()[0][1]["gain_db"], 9, 11)
    picture.curve(seconds, held_db + 12, COLOURS[0])
    picture.legend(
        ("bass", SOURCE, "none"), ("result", INK, "none"), ("kick", COLOURS[2], "3 3"), ("held", COLOURS[0], "none")
    ).save("ducker-bass")


FREQUENCIES = np.geomspace(30, 18000, 300)
TICKS_HZ = (50, 100, 200, 500, 1000, 2000, 5000, 10000)


def over_frequency(title, db_range, every_db):
    """A picture with frequency across, on a log scale."""
    picture = Picture(title, (np.log10(FREQUENCIES[0]), np.log10(FREQUENCIES[-1])), db_range).grid([], "", every_db)
    for hz in TICKS_HZ:
        word = f"{hz / 1000:g}k" if hz >= 1000 else str(hz)
        picture.parts.append(text(picture.x(np.log10(hz)), HIGH - 6, word, MUTED, anchor="middle"))
    return picture


def response(picture, kind, settings, gains_db, *style):
    entry = parse_entry({"type": kind, "settings": settings}, "guide")
    changed = PROCESSORS[kind].response_db(entry.settings, FREQUENCIES, gains_db, RATE)
    picture.curve(np.log10(FREQUENCIES), changed, *style)


def told(take, kind, settings):
    """(result, gains in dB by name), lined up with a take."""
    chain = Chain(
        [parse_entry({"type": kind, "settings": settings}, "guide")], channels=take.shape[0], sample_rate=RATE
    )
    late = chain.latency_frames
    result = chain.process(np.pad(take, ((0, 0), (0, late))))[:, late:]
    return result, {name: gain[late:] for name, gain in chain.gains()[0][1].items()}


def deesser(singer):
    settings = point("deesser", "Voice, loud esses")
    band = scipy.signal.butter(4, voices.ESS_BAND_HZ, "bandpass", fs=RATE, output="sos")
    result, gain = held(singer, "deesser", **settings)
    before, after = (scipy.signal.sosfiltfilt(band, x) for x in (singer, result))
    picture = Picture("Singer, 6 to 9 kHz alone: esses before and after", (21, 25), (-60, 12)).grid(
        range(21, 26), " s", 12
    )
    picture.area(*levels(before, 21, 25), SOURCE).curve(*levels(after, 21, 25), INK)
    seconds, held_db = gains(gain, 21, 25)
    picture.curve(seconds, held_db + 12, COLOURS[0])
    picture.legend(("source", SOURCE, "none"), ("result", INK, "none"), ("held", COLOURS[0], "none"))
    picture.save("deesser-singer")
    picture = over_frequency("While 10 dB are held", (-12, 3), 3)
    response(picture, "deesser", settings, {"gain_db": -10.0}, COLOURS[0], "none", 2)
    response(picture, "deesser", settings | {"act_on": "whole"}, {"gain_db": -10.0}, COLOURS[1], "7 3", 2)
    picture.legend(("the band", COLOURS[0], "none"), ("everything", COLOURS[1], "7 3")).save("deesser-reach")


def dynamic_eq(bass):
    settings = point("dynamic_eq", "Bass, one loud note")
    result, gain = told(bass, "dynamic_eq", settings)
    picture = Picture("Bass, level and what is held of low F", (7, 15), (-36, 12)).grid(range(7, 16), " s", 12)
    picture.area(*levels(bass, 7, 15), SOURCE).curve(*levels(result, 7, 15), INK)
    seconds, held_db = gains(gain["band1.gain_db"], 7, 15)
    picture.curve(seconds, held_db + 12, COLOURS[0])
    picture.legend(("source", SOURCE, "none"), ("result", INK, "none"), ("held", COLOURS[0], "none"))
    picture.save("dynamic-eq-boom")
    band = {"bands": [{"freq_hz": 230.0, "q": 0.9, "gain_db": 3.0, "motion": "compress", "range_db": 12.0}]}
    picture = over_frequency("A bell at +3 dB that may take 12 dB", (-12, 6), 3)
    rows = []
    for moved, colour, dash in zip((0.0, -6.0, -12.0), (INK, COLOURS[0], COLOURS[0]), DASHES, strict=True):
        response(picture, "dynamic_eq", band, {"band1.gain_db": moved}, colour, dash, 2)
        rows.append((f"{moved:g} dB".replace("-", "−"), colour, dash))
    picture.legend(*rows).save("dynamic-eq-moves")


def multiband(room):
    settings = point("multiband", "Drum bus, three bands")
    _, gain = told(room, "multiband", settings)
    picture = Picture("Drum room, what each band held", (9, 13), (-9, 0)).grid(range(9, 14), " s", 3)
    rows = []
    words = ("lows", "middle", "highs")
    for (name, word), colour, dash in zip(zip(gain, words, strict=True), COLOURS, DASHES, strict=True):
        picture.curve(*gains(gain[name], 9, 13), colour, dash, 1.5)
        rows.append((word, colour, dash))
    picture.legend(*rows).save("multiband-bands")
    picture = over_frequency("Crossovers at 130 Hz and 3.5 kHz", (-36, 6), 6)
    for index, (colour, dash) in enumerate(zip(COLOURS, DASHES, strict=True)):
        alone = {"crossovers_hz": [130.0, 3500.0], "bands": [{"mute": other != index} for other in range(3)]}
        response(picture, "multiband", alone, {}, colour, dash, 2)
    response(picture, "multiband", {"crossovers_hz": [130.0, 3500.0]}, {}, INK, "none", 2)
    picture.legend(*zip(words, COLOURS, DASHES, strict=True), ("sum", INK, "none")).save("multiband-crossovers")


def point(kind, name):
    return find_starting_point(kind, name).settings


def main():
    # These draw with what stands here.
    from benchmarks import (
        guide_aim,
        guide_circuits,
        guide_colour,
        guide_compare,
        guide_moves,
        guide_room,
        guide_spectral,
    )

    FOLDER.mkdir(parents=True, exist_ok=True)
    kick, hats = drums.make_kick(), drums.make_hats()
    snare, bass = drums.make_snare(kick, hats), strings.make_bass()
    singer = voices.make_singer()
    compressor(snare, singer, bass)
    limiter(kick, snare, bass)
    gate(snare, voices.make_announcer())
    expander(kick)
    ducker(kick, bass)
    deesser(singer)
    dynamic_eq(bass)
    multiband(drums.make_room(kick, snare, hats))
    guide_moves.draw(strings.make_harmonium(), kick, singer)
    guide_colour.draw(singer)
    guide_room.draw()
    guide_compare.draw()
    guide_circuits.draw()
    guide_aim.draw()
    guide_spectral.draw(strings.make_guitar(0), singer)


if __name__ == "__main__":
    main()
