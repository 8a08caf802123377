"""Draws the guide's pictures of spectral work: a whistle held, a guitar that gives way, a curve over a voice."""

import numpy as np
import scipy.signal

from benchmarks.guide import COLOURS, HIGH, INK, MUTED, SOURCE, Picture, held, levels, text
from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from reins.core.starting_points import find_starting_point
from reins.core.trials.pictures import CURVE_DB, curve
from reins.demo import voices
from reins.demo.score import RATE

HZ = np.geomspace(300, 12000, 300)


def _spectrum(sound):
    """Level in dB of 24ths of octaves at HZ."""
    hz, power = scipy.signal.welch(sound.mean(axis=0), RATE, nperseg=16384, scaling="spectrum")
    edges = HZ[:, None] * 2.0 ** (np.array([-0.5, 0.5]) / 24)
    sums = [power[(hz >= low) & (hz <= high)].max(initial=0.0) for low, high in edges]
    return 10 * np.log10(np.maximum(sums, 1e-12))


def _octaves(hz):
    return np.log2(np.asarray(hz) / 1000.0)


def fine_bands(singer):
    """A whistle of 2.2 and one of 5.1 kHz laid under the singer, and taken out again."""
    at = np.arange(singer.shape[1]) / RATE
    whistle = 10 ** (-34 / 20) * np.sin(2 * np.pi * 2200 * at) + 10 ** (-40 / 20) * np.sin(2 * np.pi * 5100 * at)
    ill = singer + whistle
    settings = {"threshold_points": [[1000, -20], [1800, -48], [8000, -54]], "hold_ratio": 100, "knee_db": 0}
    result, _ = held(ill, "fine_bands", **settings, attack_ms=150, release_ms=400, window=8192, smoothing_oct=0.0)
    part = slice(20 * RATE, 34 * RATE)
    title = "A voice with two whistles, held over a drawn threshold"
    picture = Picture(title, (_octaves(300), _octaves(12000)), (-90, -20)).grid([], "", 10)
    for hz in (500, 1000, 2000, 5000, 10000):
        picture.parts.append(text(picture.x(_octaves(hz)), HIGH - 6, f"{hz / 1000:g} kHz", MUTED, anchor="middle"))
    picture.area(_octaves(HZ), _spectrum(ill[:, part]), SOURCE)
    drawn = np.interp(np.log(HZ), np.log([1000, 1800, 8000]), [-20, -48, -54])
    picture.curve(_octaves(HZ), _spectrum(result[:, part]), INK).curve(_octaves(HZ), drawn, COLOURS[0], "6 4")
    picture.legend(("source", SOURCE, "none"), ("result", INK, "none"), ("threshold", COLOURS[0], "6 4"))
    picture.save("fine-bands-whistles")


def make_room(guitar, singer):
    """The guitar between 2 and 4 kHz, before and after, and the singer there."""
    point = find_starting_point("make_room", "Guitars under a voice")
    entry = parse_entry({"type": "make_room", "settings": point.settings | {"key": {"source": "k"}}}, "guide")
    chain = Chain([entry], channels=1, sample_rate=RATE, key_channels={"k": 1})
    late = chain.latency_frames
    pad = ((0, 0), (0, late))
    result = chain.process(np.pad(guitar, pad), {"k": np.pad(singer, pad)})[:, late:]
    band = scipy.signal.butter(4, [2000, 4000], "bandpass", fs=RATE, output="sos")
    inside = [scipy.signal.sosfiltfilt(band, sound, axis=1) for sound in (guitar, result, singer)]
    picture = Picture("Guitar from 2 to 4 kHz, giving way to the singer", (30, 40), (-60, -6)).grid(
        range(30, 41, 2), " s", 12
    )
    seconds, sung = levels(inside[2], 30, 40, 250)
    picture.area(*levels(inside[0], 30, 40, 250), SOURCE).curve(seconds, sung, COLOURS[2], "4 3")
    picture.curve(*levels(inside[1], 30, 40, 250), INK)
    picture.legend(("guitar", SOURCE, "none"), ("result", INK, "none"), ("singer", COLOURS[2], "4 3"))
    picture.save("make-room-guitar")


def one_curve(singer):
    """Loud held, quiet up, as a curve and along the take."""
    point = find_starting_point("curve", "Voice, loud held, quiet up")
    entry = parse_entry({"type": "curve", "settings": point.settings}, "guide")
    out = np.array(curve(entry)["out_db"])
    picture = Picture("In → out: loud held, quiet up", (-70, 0), (-70, 0)).grid(range(-70, 1, 10), " dB", 10)
    picture.curve([-70, 0], [-70, 0], SOURCE, "none", 1).curve(CURVE_DB, out, INK, "none", 2).save("curve-voice")
    result, _ = held(singer, "curve", **point.settings)
    picture = Picture("The singer's lines, nearer to each other", (8, 30), (-60, 0)).grid(range(8, 31, 4), " s", 12)
    picture.area(*levels(singer, 8, 30), SOURCE).curve(*levels(result, 8, 30), INK)
    picture.legend(("source", SOURCE, "none"), ("result", INK, "none")).save("curve-lines")


def draw(guitar, singer):
    """All of them."""
    fine_bands(singer)
    make_room(guitar, singer)
    one_curve(singer)


if __name__ == "__main__":
    from reins.demo import strings

    draw(strings.make_guitar(0), voices.make_singer())
