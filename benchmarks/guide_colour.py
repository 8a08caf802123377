"""Draws the guide's pictures of colour, from what it really does to a tone and to a take of the demo session."""

import itertools

import numpy as np
import scipy.signal

from benchmarks.guide import COLOURS, INK, SOURCE, Picture, over_frequency
from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from reins.core.processors import PROCESSORS
from reins.core.starting_points import find_starting_point
from reins.demo.score import RATE

KINDS = ("soft", "hard", "odd", "even")
INKS = (INK, *COLOURS)


def harmonics():
    picture = Picture("Harmonics of a tone at −12 dB, drive 18 dB", (0.5, 10.5), (-90, 0)).grid(range(1, 11), "", 18)
    for place, (kind, colour) in enumerate(zip(KINDS, INKS, strict=True)):
        settings = PROCESSORS["colour"].Settings(kind=kind, drive_db=18.0)
        for number, db in enumerate(PROCESSORS["colour"].harmonics_db(settings)["db"][:10], start=1):
            x = number + 0.16 * (place - 1.5)
            picture.curve([x, x], [-90, max(db, -90.0)], colour, "none", 6)
    picture.legend(*((kind, colour, "none") for kind, colour in zip(KINDS, INKS, strict=True)))
    picture.save("colour-harmonics")


def by_frequency(take):
    at, power = scipy.signal.welch(take[0], RATE, nperseg=8192)
    edges = np.geomspace(100, 18000, 60)
    means = [power[(at >= low) & (at < high)].mean() for low, high in itertools.pairwise(edges)]
    return np.sqrt(edges[:-1] * edges[1:]), 10 * np.log10(np.maximum(means, 1e-12))


def voice(singer):
    point = find_starting_point("colour", "Voice, grit below 5 kHz")
    entry = parse_entry({"type": "colour", "settings": point.settings}, "guide")
    made = Chain([entry], channels=1, sample_rate=RATE).process(singer)
    picture = over_frequency("The singer, before and after: “Voice, grit below 5 kHz”", (-110, -30), 20)
    (hz, before), (_, after) = by_frequency(singer), by_frequency(made)
    inner = np.isfinite(before)
    at = np.log10(hz[inner])
    picture.curve(at, before[inner], SOURCE, "none", 3).curve(at, after[inner], INK)
    picture.legend(("source", SOURCE, "none"), ("result", INK, "none")).save("colour-voice")


def draw(singer):
    """All of them."""
    harmonics()
    voice(singer)
