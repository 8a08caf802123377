"""Grooves with known tempo and hits, made from the demo's drums; for finding them again."""

import numpy as np
import scipy.signal

from reins.demo import drums
from reins.demo.score import RATE, decay


def groove(bpm, *, swing=0.0, seed=0, bars=6, noise_db=None, level_db=0.0):
    """(sound (1, frames), seconds of kicks and snares, seconds of the first downbeat): kick on one and three, snare on
    two and four, hats on eighths, the second of each late by a share `swing` of a third of a beat.
    """
    rng, beat_s = np.random.default_rng(seed), 60.0 / bpm
    start_s = rng.uniform(0.05, 0.4)
    frames = round((bars * 4 * beat_s + 1.0) * RATE)
    sound, hits = np.zeros((1, frames)), []
    band = scipy.signal.butter(2, [5500, 11000], "bandpass", fs=RATE, output="sos")

    def put(part, at_s, gain):
        first = round(at_s * RATE)
        count = min(part.size, frames - first)
        sound[0, first : first + count] += gain * part[:count]

    for bar in range(bars):
        for eighth in range(8):
            late = 0.5 + swing / 6.0 if eighth % 2 else 0.0
            at_s = start_s + (bar * 4 + eighth // 2 + late) * beat_s
            hat = scipy.signal.sosfilt(band, rng.standard_normal(4800)) * decay(0.1, 0.09)
            put(hat, at_s + rng.normal(0, 0.002), 0.3 if eighth % 2 == 0 else 0.18)
            if eighth in (0, 4) or (eighth == 5 and bar % 2):
                hits.append(at_s)
                put(drums._kick_sound(), at_s, rng.uniform(0.6, 1.0))
            if eighth in (2, 6):
                hits.append(at_s)
                put(drums._snare_sound(201), at_s, rng.uniform(0.6, 1.0))
    if noise_db is not None:
        sound += 10 ** (noise_db / 20) * rng.standard_normal(sound.shape)
    return 0.5 * 10 ** (level_db / 20) * sound, hits, start_s
