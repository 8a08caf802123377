"""Draws the guide's picture of the room: the backward integral of what it answers to a click, by octave."""

import numpy as np
import scipy.signal

from benchmarks.guide import COLOURS, INK, Picture
from reins.core.processors import PROCESSORS
from reins.core.processors.base import alone
from reins.demo.score import RATE

SECONDS = 2.0


def draw():
    """It."""
    kind = PROCESSORS["room"]
    click = np.zeros((1, round(SECONDS * RATE)))
    click[0, 0] = 1.0
    settings = kind.Settings(decay_s=1.8, highs_pct=40.0, predelay_ms=60.0, mix_pct=100.0)
    sound = kind(settings, channels=1, sample_rate=RATE).process(alone(click, RATE))
    picture = Picture("What is left: decay 1.8 s, highs 40 %, predelay 60 ms", (0, SECONDS), (-72, 0)).grid(
        (0, 0.5, 1, 1.5, 2), " s", 12
    )
    rows = ((1000, "1 kHz", INK, "none"), (8000, "8 kHz", COLOURS[0], "7 3"))
    at = np.linspace(0, SECONDS, 300)[:-1]
    for hz, _, colour, dash in rows:
        band = scipy.signal.butter(3, [hz / 2**0.5, hz * 2**0.5], "bandpass", fs=RATE, output="sos")
        left = np.cumsum((scipy.signal.sosfilt(band, sound) ** 2).sum(axis=0)[::-1])[::-1]
        level = 10 * np.log10(np.maximum(left / left[0], 1e-7))[(at * RATE).astype(int)]
        shown = level > -72
        picture.curve(at[shown], level[shown], colour, dash)
    picture.legend(*(row[1:] for row in rows)).save("room-decay")
