"""Sibilants: where a voice hisses (s, sh, z): most of its power lies above 3.5 kHz, for as long as a consonant lasts.

The share of high frequencies as a feature of fricatives: common practice; after the band energies of A. M. A. Ali, J.
Van der Spiegel and P. Mueller, "Acoustic-phonetic features for the automatic classification of fricatives", J. Acoust.
Soc. Am. 109(5), 2001.
"""

import numpy as np

from reins.core.finding.frames import FRAMES_PER_S, Frames, spans_of

FROM_HZ, TO_HZ = 2500.0, 16000.0
SHARE = 0.7
UNDER_LOUD_DB, LEAST_DB = 38.0, -80.0
SHORTEST_S, LONGEST_S, JOIN_S = 0.045, 0.4, 0.02


def find_sibilants(frames: Frames) -> list[tuple[float, float]]:
    """(begin, end) in seconds of each."""
    high, whole = frames.between(FROM_HZ, TO_HZ), frames.power.sum(axis=1)
    level = frames.level_db()
    loud = float(np.quantile(level, 0.95))
    if level.max() < LEAST_DB:
        return []
    hisses = (high >= SHARE * whole) & (level > max(level.max() - UNDER_LOUD_DB, min(loud - UNDER_LOUD_DB, 0.0)))
    lasting = (SHORTEST_S * FRAMES_PER_S, LONGEST_S * FRAMES_PER_S)
    return [(frames.s(a), frames.s(b)) for a, b in spans_of(hisses, JOIN_S) if lasting[0] <= b - a <= lasting[1]]
