"""A long take in excerpts, one after the other, with what was found in it: so that a first answer need not hear all."""

from dataclasses import replace
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from reins.core.finding.frames import Frames
from reins.core.finding.hits import Hit
from reins.core.finding.marks import Marks, Spans
from reins.core.sound import Sound

LONG_S = 60.0  # takes longer than that are excerpted
WINDOW_S, WINDOWS, LEAD_S = 1.6, 10, 0.2
ENDS = 4  # of the windows, those about ends of phrases
Array = npt.NDArray[np.float64]


class Excerpt:
    """Parts of a sound joined: (begin, end) in frames of it, in order and apart."""

    def __init__(self, sound: Sound, parts: list[tuple[int, int]]) -> None:
        self.sound, self.parts = sound, parts
        self._begins = np.concatenate([[0], np.cumsum([end - begin for begin, end in parts])])
        self.facts = replace(sound.facts, frames=int(self._begins[-1]), sha256="")

    def read(self, start: int, frames: int) -> Array:
        """Samples (channels, frames); silence outside."""
        out = np.zeros((self.facts.channels, frames))
        for at, (begin, end) in zip(self._begins, self.parts, strict=False):
            first, last = max(start, int(at)), min(start + frames, int(at) + end - begin)
            if first < last:
                out[:, first - start : last - start] = self.sound.read(begin + first - int(at), last - first)
        return out

    def peak_columns(self, start: int, frames: int, columns: int) -> Array:
        """Largest magnitude in each of `columns` equal parts."""
        edges = np.linspace(start, start + frames, columns + 1).astype(int)
        heard = np.abs(self.read(start, frames)).max(axis=0)
        return np.array([heard[a - start : max(b, a + 1) - start].max(initial=0.0) for a, b in pairwise(edges)])

    def spectrum(self) -> Array | None:
        """That of the whole."""
        return self.sound.spectrum()

    def place_s(self, at_s: float) -> float | None:
        """Where a moment of the sound lies in the excerpt; None where it is left out."""
        frame = at_s * self.facts.sample_rate
        for at, (begin, end) in zip(self._begins, self.parts, strict=False):
            if begin <= frame < end:
                return float((at + frame - begin) / self.facts.sample_rate)
        return None


def parts_of(marks: Marks, shows: str, window_s: float = WINDOW_S) -> list[tuple[int, int]]:
    """Parts about marks of a kind, evenly chosen, in frames; all of a take that is not long."""
    rate, hop, frames = marks.frames.sample_rate, marks.frames.hop, marks.sound.facts.frames
    found = _moments(marks, shows)
    if frames <= LONG_S * rate or not found:
        return [(0, frames)]
    joined: list[list[int]] = []
    for at_s in found:
        begin = max(0, round((at_s - LEAD_S) * rate)) // hop * hop
        end = min(begin + round(window_s * rate) // hop * hop, frames // hop * hop)
        if joined and begin <= joined[-1][1]:
            joined[-1][1] = max(end, joined[-1][1])
        elif end > begin:
            joined.append([begin, end])
    return [(begin, end) for begin, end in joined]


def _moments(marks: Marks, shows: str) -> list[float]:
    """Where excerpts lie, in seconds: at hits and sibilants; all along phrases, and where those end."""
    if shows == "hits":
        return _some([hit.at_s for hit in marks.hits], WINDOWS)
    if shows == "sibilants":
        return _some([begin for begin, _ in marks.sibilants], WINDOWS)
    along = [at for begin, end in marks.phrases for at in np.arange(begin + LEAD_S, end, WINDOW_S).tolist()]
    return sorted([*_some(along, WINDOWS - ENDS), *_some([end - LEAD_S for _, end in marks.phrases], ENDS)])


def _some(moments: list[float], count: int) -> list[float]:
    """So many of them, evenly chosen."""
    return (
        [moments[k] for k in sorted(set(np.linspace(0, len(moments) - 1, count).astype(int).tolist()))]
        if moments
        else []
    )


def excerpted(marks: Marks, parts: list[tuple[int, int]]) -> Marks:
    """What was found in a sound, of its parts alone."""
    excerpt, hop = Excerpt(marks.sound, parts), marks.frames.hop
    rows = np.concatenate([np.arange(begin // hop, end // hop) for begin, end in parts])
    frames = Frames(
        marks.frames.power[rows[rows < len(marks.frames.power)]], marks.frames.hz, hop, marks.frames.sample_rate
    )
    made = Marks(excerpt, frames)
    vars(made)["_onsets"] = tuple(_placed(excerpt, hits) for hits in (marks.hits, marks.others))
    for name in ("phrases", "sibilants"):
        vars(made)[name] = _cut(excerpt, getattr(marks, name))
    vars(made)["active"] = marks.active
    return made


def _placed(excerpt: Excerpt, hits: list[Hit]) -> list[Hit]:
    return [replace(hit, at_s=at) for hit in hits if (at := excerpt.place_s(hit.at_s)) is not None]


def _cut(excerpt: Excerpt, spans: Spans) -> Spans:
    """Spans as far as they lie in the excerpt."""
    rate, cut = excerpt.facts.sample_rate, []
    for begin_s, end_s in spans:
        for begin, end in excerpt.parts:
            first, last = max(begin_s, begin / rate), min(end_s, (end - 1) / rate)
            at = excerpt.place_s(first)
            if last - first > 0.04 and at is not None:
                cut.append((at, at + last - first))
    return cut
