"""Whether a sound is struck, not sung, spoken or bowed: its hits rise far out of what was before them, or rise and come
at even distances. How the sound of them falls counts only where neighbours bleed in: a machine's kick may ring into its
next hit.
"""

from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.finding.hits import Hit
from reins.core.finding.marks import Marks

LEAST_HITS = 3
RISES_DB = 14.0  # out of the 80 ms before a hit
RISES_IN_BAND_DB, FALLS_DB = 28.0, 5.0  # where neighbours bleed in, in one band; what is sung stays up
RISES_EVENLY_DB, EVEN, EVEN_WITHIN = 6.0, 0.65, 0.06  # in one band, where distances are even
BANDS_HZ = ((20.0, 200.0), (200.0, 2000.0), (2000.0, 20000.0))


def struck(key: Marks) -> bool:
    """Whether a key is struck, not sung, spoken or bowed."""
    hits = key.hits
    if len(hits) < LEAST_HITS:
        return False
    frames = key.frames
    places = [int(hit.at_s * frames.per_s) for hit in hits]
    level_db = frames.level_db()
    if _rise_db(level_db, places) >= RISES_DB:
        return True
    by_band = [10.0 * np.log10(np.maximum(frames.between(*band), 1e-12)) for band in BANDS_HZ]
    rises_db = max(_rise_db(level, places) for level in by_band)
    in_band = rises_db >= RISES_IN_BAND_DB and _fall_db(level_db, places) >= FALLS_DB
    return in_band or (evenness(hits) >= EVEN and rises_db >= RISES_EVENLY_DB)


def _rise_db(level_db: npt.NDArray[np.floating[Any]], places: list[int]) -> float:
    """How far hits usually rise out of what was before them."""
    return float(np.median([level_db[a : a + 8].max() - level_db[max(a - 8, 0) : max(a - 2, 1)].max() for a in places]))


def _fall_db(level_db: npt.NDArray[np.floating[Any]], places: list[int]) -> float:
    """How far hits have usually fallen a tenth of a second later."""
    return float(np.median([level_db[a : a + 6].max() - level_db[a + 10 : a + 16].max(initial=-120.0) for a in places]))


def evenness(hits: list[Hit]) -> float:
    """The share of distances between hits that are multiples of half the usual one."""
    gaps = np.array([b.at_s - a.at_s for a, b in pairwise(hits)])
    if not gaps.size:
        return 0.0
    unit = 0.5 * float(np.median(gaps))
    off = gaps / unit - np.rint(gaps / unit)
    return float(np.mean((np.abs(off) <= 2.0 * EVEN_WITHIN) & (gaps > 0.5 * unit)))
