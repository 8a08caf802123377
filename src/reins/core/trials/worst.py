"""The worst places of a take: where a processor moves furthest, where it does so longest, where it changes its mind
most, and where what comes out is loudest; from its own run, folded.
"""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.measure.folding import BIN_FRAMES, HELD_DB
from reins.core.measure.span import Span

Array = npt.NDArray[np.float64]
MOST = 12  # of each kind
APART_S = 1.0  # two places are that far from each other at least
ABOUT_S = 1.0  # over which a gain's way up and down is counted
LEAST_DB_PER_S = 3.0  # of that way, to be called a place
LEAST_OPENINGS_PER_S = 3.0
LEAST_PEAK = 1e-3
LEAST_S = 0.25  # of one long hold
BRIDGED_S = 0.02  # within a hold


@dataclass(frozen=True)
class Place:
    """Where, and how bad: figure in dB, seconds, or dB a second."""

    kind: str  # deepest, longest, restless, loudest
    at_s: float
    end_s: float
    figure: float
    said: str


def worst_places(span: Span, rate: int) -> list[Place]:
    """The worst of each kind, the worst first."""
    gain = np.where(-span.deepest_db > span.highest_db, span.deepest_db, span.highest_db).astype(np.float64)
    per_s = rate / BIN_FRAMES
    begin_s = span.start / rate
    places = [*_deepest(gain, per_s), *_longest(gain, per_s), *_restless(span, gain, per_s), *_loudest(span, per_s)]
    return [Place(p.kind, round(p.at_s + begin_s, 3), round(p.end_s + begin_s, 3), p.figure, p.said) for p in places]


def _picked(score: Array, apart: float, least: float) -> list[int]:
    """Places of the highest scores, each so far from those before it."""
    left = score.copy()
    found: list[int] = []
    while len(found) < MOST and left.size and left.max() >= least:
        at = int(left.argmax())
        found.append(at)
        left[max(0, at - round(apart)) : at + round(apart) + 1] = -np.inf
    return found


def _deepest(gain: Array, per_s: float) -> list[Place]:
    made = []
    for at in _picked(np.abs(gain), APART_S * per_s, HELD_DB):
        what = "held" if gain[at] < 0.0 else "let"
        said = f"{what} {abs(gain[at]):.1f} dB"
        made.append(Place("deepest", at / per_s, at / per_s, round(float(gain[at]), 2), said))
    return made


def _loudest(span: Span, per_s: float) -> list[Place]:
    peaks = np.asarray(span.peaks, np.float64)
    return [
        Place("loudest", at / per_s, at / per_s, round(db, 2), f"comes out at {db:.1f} dBFS".replace("-", "\u2212"))
        for at in _picked(peaks, APART_S * per_s, LEAST_PEAK)
        for db in [float(20.0 * np.log10(peaks[at]))]
    ]


def _longest(gain: Array, per_s: float) -> list[Place]:
    moving = np.flatnonzero(np.abs(gain) >= HELD_DB)
    if not moving.size:
        return []
    breaks = np.flatnonzero(np.diff(moving) > max(1.0, BRIDGED_S * per_s))
    begins, ends = moving[np.r_[0, breaks + 1]], moving[np.r_[breaks, moving.size - 1]] + 1
    lengths = (ends - begins) / per_s
    order = np.argsort(-lengths, kind="stable")[:MOST]
    return [
        Place(
            "longest", begins[k] / per_s, ends[k] / per_s, round(float(lengths[k]), 3),
            f"for {lengths[k]:.2f} s without a break",
        )
        for k in order
        if lengths[k] >= LEAST_S
    ]  # fmt: skip


def _restless(span: Span, gain: Array, per_s: float) -> list[Place]:
    """By the way the gain goes, up and down, in a second: pumping; of a gate, how often it opens: chatter."""
    width = max(1, round(ABOUT_S * per_s))
    if span.states is not None:
        opens = np.r_[0.0, (np.diff((span.states > 0).astype(np.int8)) > 0).astype(np.float64)]
        score, least, unit = opens, LEAST_OPENINGS_PER_S, "openings a second"
    else:
        score, least, unit = np.abs(np.diff(gain, prepend=gain[:1])), LEAST_DB_PER_S, "dB a second, up and down"
    total = np.concatenate([[0.0], np.cumsum(score)])
    if total.size <= width:
        return []
    over = (total[width:] - total[:-width]) * per_s / width
    return [
        Place("restless", at / per_s, (at + width) / per_s, round(float(over[at]), 2), f"{over[at]:.0f} {unit}")
        for at in _picked(over, APART_S * per_s, least)
    ]
