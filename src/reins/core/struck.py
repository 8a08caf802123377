"""The hits of a take as a key: what follows them follows what was found and corrected, not the level of the sound.

Each hit is a burst as strong as the hit's peak and as long as every other, silent in between, so that all that listens
to a key follows it as it stands. Within a burst the signs of the samples are as good as chance while their magnitude
stands still: a detector of peaks and one of power read the hit's strength, and filters of a key let through their share
of all frequencies. Where hits lie is known beforehand; so a burst may begin before its hit.
"""

from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.finding.hits import Hit
from reins.core.sound import TakeFacts

Array = npt.NDArray[np.float64]
BURST_S = 0.03  # shorter than hits lie apart (finding.hits.LEAST_APART_S)
MOST_AHEAD_MS = 50.0
MOST_HITS = 20_000
LOWEST_DB, HIGHEST_DB = -120.0, 24.0
Map = list[tuple[int, float]]  # (frame counted from the take's beginning, peak in dB), in order


def map_of(hits: Sequence[Hit], facts: TakeFacts, *, start_frame: int = 0, gain_db: float = 0.0) -> Map:
    """The map of hits of a take that is laid at a frame and made louder: as it is kept with the take."""
    found: dict[int, float] = {}
    for hit in hits:
        frame = round(hit.at_s * facts.sample_rate) - start_frame
        if frame >= 0:
            found[frame] = round(float(np.clip(hit.peak_db - gain_db, LOWEST_DB, HIGHEST_DB)), 2)
    return sorted(found.items())[:MOST_HITS]


@lru_cache(8)
def _signs(frames: int) -> Array:
    """Signs with a flat spectrum that are the same for good: a maximal-length sequence of 13 bits, x^13 + x^12 + x^11 +
    x^8 + 1 (S. W. Golomb, "Shift Register Sequences", 1967; this polynomial from memory, its length is tested).
    """
    register, out = 1, np.empty(frames)
    for frame in range(frames):
        out[frame] = 2.0 * (register & 1) - 1.0
        fed = (register ^ register >> 1 ^ register >> 2 ^ register >> 5) & 1
        register = register >> 1 | fed << 12
    return out


class StruckSound:
    """A map of hits as a mono sound, the bursts `ahead_ms` before their hits; frame 0 is the session's."""

    def __init__(
        self, hits: Map, facts: TakeFacts, *, start_frame: int = 0, gain_db: float = 0.0, ahead_ms: float = 0.0
    ) -> None:
        self.facts = replace(facts, channels=1)
        earlier = round(ahead_ms * facts.sample_rate / 1000.0)
        self._begins = np.array([frame for frame, _ in hits], np.int64) + start_frame - earlier
        self._peaks = 10.0 ** ((np.array([peak for _, peak in hits], np.float64) + gain_db) / 20.0)
        self._burst = _signs(max(1, round(BURST_S * facts.sample_rate)))

    def read(self, start: int, frames: int) -> Array:
        """Samples (1, frames); of two hits nearer than a burst the later one counts from where it begins."""
        out = np.zeros((1, frames))
        first, end = np.searchsorted(self._begins, (start - self._burst.size + 1, start + frames))
        for begin, peak in zip(self._begins[first:end].tolist(), self._peaks[first:end].tolist(), strict=True):
            low, high = max(begin, start), min(begin + self._burst.size, start + frames)
            out[0, low - start : high - start] = peak * self._burst[low - begin : high - begin]
        return out

    def peak_columns(self, start: int, frames: int, columns: int) -> Array:
        """Largest magnitude in each of `columns` equal parts of start .. start + frames."""
        edges = start + np.linspace(0, frames, columns + 1).astype(np.int64)
        highest = np.zeros(columns)
        for begin, peak in zip(self._begins.tolist(), self._peaks.tolist(), strict=True):
            low, high = np.searchsorted(edges, (begin, begin + self._burst.size))
            low, high = max(int(low) - 1, 0), min(int(high), columns)
            highest[low:high] = np.maximum(highest[low:high], peak)
        return highest

    def spectrum(self) -> None:
        """None: it weighs nothing."""


def struck_of(track: Any, sample_rate: int, ahead: str = "") -> StruckSound:
    """A track's map of hits as the track lays it out, `ahead` as routing.parse_tie has it."""
    facts = TakeFacts(1, sample_rate, track.start_frame + max((frame for frame, _ in track.hits), default=0) + 1)
    return StruckSound(
        track.hits, facts, start_frame=track.start_frame, gain_db=track.trim_db, ahead_ms=float(ahead or 0)
    )
