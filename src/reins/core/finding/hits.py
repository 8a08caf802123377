"""Hits: where something is struck or plucked, how loud each is, and which are those of the source itself.

Onsets are peaks of the spectral flux of logarithmic third octaves (J. P. Bello et al., "A tutorial on onset detection
in music signals", IEEE Trans. Speech and Audio Processing 13(5), 2005; S. Dixon, "Onset detection revisited", DAFx
2006), each band compared with the loudest of its neighbours two frames before, so that what slides is no onset (S.
Boeck and G. Widmer, "Maximum filter vibrato suppression for onset detection", DAFx 2013). Levels count relative to the
loudest, so that a quiet recording is found in alike.

A microphone hears its neighbours: an onset is a hit where it is loud, or where it has the colour of the loud ones.
"""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from reins.core.finding.beginning import beginning
from reins.core.finding.frames import Frames
from reins.core.sound import Sound

Array = npt.NDArray[np.float64]
RANGE = 1000.0  # of amplitudes under the loudest that count: 60 dB
LAG = 2  # frames
ROWS = 8192  # frames worked on at a time
BEFORE, AFTER, BESIDE = 10, 7, 3  # frames of the mean a peak must exceed, and of those it must be the highest of
OVER_MEAN = 0.10  # of the largest flux
LEAST_APART_S = 0.04
LOUD_DB, SOFTEST_DB, ALIKE = 12.0, 36.0, 0.85  # below the loud ones; how alike in colour a soft one must be
LEAST_DB = -75.0
# Of the largest flux a weak onset has so much; it rises by so much, and lies so much under the loud ones at most.
WEAK, SHARP_DB, NOT_UNDER_DB = 0.05, 6.0, 18.0


@dataclass(frozen=True)
class Hit:
    """When it begins, and its peak in dB."""

    at_s: float
    peak_db: float


def flux(frames: Frames) -> Array:
    """How much louder the bands have become (frames,), from 0 to 1."""
    power = frames.power
    loudest = max(
        (float(np.sqrt(power[k : k + ROWS]).sum(axis=1).max()) for k in range(0, len(power), ROWS)), default=0.0
    )
    rise = np.zeros(len(power))
    if loudest <= 10.0 ** (LEAST_DB / 20.0):
        return rise
    for first in range(0, len(power), ROWS):  # in pieces, so that an hour needs no more memory than a minute
        level = np.log1p(RANGE * np.sqrt(power[max(first - LAG, 0) : first + ROWS]) / loudest)
        wide = np.pad(level, ((0, 0), (1, 1)), mode="edge")
        around = np.maximum(np.maximum(wide[:, :-2], wide[:, 1:-1]), wide[:, 2:])
        before = np.vstack([np.zeros((LAG, level.shape[1])), around])[: len(level)]
        own = slice(len(level) - min(ROWS, len(power) - first), None)
        rise[first : first + ROWS] = np.maximum(level - before, 0.0)[own].sum(axis=1)
    return np.asarray(rise / max(rise.max(), 1e-9))


def peaks(curve: Array, over: float = OVER_MEAN) -> list[int]:
    """Frames at which a curve has a peak that stands out of what is about it by `over` (Dixon 2006)."""
    total = np.concatenate([[0.0], np.cumsum(curve)])
    found: list[int] = []
    for at in np.flatnonzero(curve > over).tolist():
        first, last = max(at - BEFORE, 0), min(at + AFTER + 1, curve.size)
        mean = (total[last] - total[first]) / (last - first)
        beside = curve[max(at - BESIDE, 0) : at + BESIDE + 1]
        if curve[at] >= mean + over and curve[at] == beside.max():
            if found and at - found[-1] <= BESIDE:
                continue
            found.append(at)
    return found


def find_hits(sound: Sound, frames: Frames) -> tuple[list[Hit], list[Hit]]:
    """The hits of a take, in order, and what else begins in it, of neighbours; none where nothing stands out."""
    curve = flux(frames)
    clear = set(peaks(curve))
    begins = {at: beginning(sound, frames.s(at)) for at in sorted(clear.union(peaks(curve, WEAK)))}
    loud_db = float(np.quantile([begins[at].peak_db for at in clear], 0.9)) if clear else 0.0
    found = _apart([
        Hit(one.at_s, one.peak_db) for at, one in begins.items()
        if at in clear or (one.rise_db >= SHARP_DB and one.peak_db >= loud_db - NOT_UNDER_DB)
    ])  # fmt: skip
    if not found:
        return [], []
    places = [min(round(hit.at_s * sound.facts.sample_rate / frames.hop), len(frames.power) - 1) for hit in found]
    own = _own(found, places, frames)
    hits, others = (
        [hit for hit, is_own in zip(found, own, strict=True) if is_own == wanted] for wanted in (True, False)
    )
    return hits, others


def refined(sound: Sound, about_s: float) -> Hit:
    """The hit about a moment, to the millisecond (finding.beginning)."""
    begin = beginning(sound, about_s)
    return Hit(begin.at_s, begin.peak_db)


def _apart(hits: list[Hit]) -> list[Hit]:
    """Of hits closer than LEAST_APART_S, the louder."""
    kept: list[Hit] = []
    for hit in sorted(hits, key=lambda hit: hit.at_s):
        if kept and hit.at_s - kept[-1].at_s < LEAST_APART_S:
            if hit.peak_db > kept[-1].peak_db:
                kept[-1] = hit
            continue
        kept.append(hit)
    return kept


def _own(hits: list[Hit], places: list[int], frames: Frames) -> list[bool]:
    """Whether each is of the source itself, not of a neighbour."""
    level = np.array([hit.peak_db for hit in hits])
    loud = float(np.quantile(level, 0.9))
    colours = []
    for place in places:
        now = frames.power[place : place + 4].max(axis=0)
        before = frames.power[max(place - 4, 0) : max(place - 1, 1)].min(axis=0)
        new = np.sqrt(np.maximum(now - before, 0.0))
        colours.append(new / max(float(np.linalg.norm(new)), 1e-12))
    colour = np.median([c for c, db in zip(colours, level, strict=True) if db >= loud - 6.0], axis=0)
    colour = colour / max(float(np.linalg.norm(colour)), 1e-12)
    alike = np.array([float(c @ colour) for c in colours])
    return list((level >= loud - LOUD_DB) | ((level >= loud - SOFTEST_DB) & (alike >= ALIKE)))


def shortest_apart_s(hits: list[Hit]) -> float | None:
    """The tenth percentile of how far hits lie apart; None for fewer than two."""
    gaps = [b.at_s - a.at_s for a, b in pairwise(hits)]
    return float(np.quantile(gaps, 0.1)) if gaps else None
