"""Back in time: the release that has let go after a note, or before the next hit."""

from itertools import pairwise
from typing import Any

import numpy as np

from reins.core.finding.hits import Hit
from reins.core.kinds import KINDS, TIMES
from reins.core.trials.aims.base import Aim, Asks, Proposal, Ran, Work, counted
from reins.errors import ConflictError

LEFT = 0.1  # of the depth: what may still be held when it is to be back
HELD_S = 0.08  # in which a hit is held deepest
LEAST_DB = 0.5  # of hold, to come back from
RUNS = 8
NAMES = ("release_ms", "back_ms")


class BackInTime(Aim):
    """What is left of the hold when a note is over, usually; see the table of aims."""

    name = "back"
    label = "Back in time"
    about = "The release that has let go after a note, or before the next hit."
    types: tuple[str, ...] = (*KINDS, "deesser", "limiter", "ducker")
    asks = Asks("beats", "Back within", 0.0, 0.0, 8.0, "Beats after the hit; 0 is before the next one.", unit="beats")
    base = {"threshold_db": -30.0, "ratio": 4.0}

    def propose(self, work: Work) -> Proposal:
        """The slowest release that leaves a tenth of the hold at most, halving on its logarithmic scale."""
        marks = work.key or work.marks
        if len(marks.hits) < 2:
            raise ConflictError("Found fewer than two hits: nothing to be back before. Mark them by hand.")
        path = _release_of(work)
        low, high = work.within(path, 1.0), work.within(path, 1e9)
        fixed: dict[str, Any] = {"auto_release": False} if hasattr(work.entry.settings, "auto_release") else {}
        spans = _spans(marks.hits, work.asked * 60.0 / work.trial.beat.tempo_bpm)
        if not spans:
            raise ConflictError("No two hits lie that far apart: ask for a shorter note, or for “before the next”.")
        if _share_left(work, work.run(fixed | {path: low}), spans) is None:
            raise ConflictError(
                "It holds nothing at the hits: there is nothing to come back from. Lower its threshold."
            )
        tried: dict[float, float] = {}
        slow = high
        for _ in range(RUNS):
            value = float(f"{np.sqrt(low * high):.3g}") if tried else slow
            left = _share_left(work, work.run(fixed | {path: value}), spans)
            tried[value] = 1.0 if left is None else left
            if tried[value] <= LEFT and value == slow:
                break
            low, high = (value, high) if tried[value] <= LEFT else (low, value)
        fits = [value for value, left in tried.items() if left <= LEFT]
        value = max(fits) if fits else min(tried)
        when = "the next hit" if not work.asked else f"{work.asked:g} beats"
        apart_ms = 1000.0 * float(np.median([end - at for at, end in spans]))
        reason = (
            f"{counted(len(marks.hits), 'hit')}, {apart_ms:.0f} ms until {when}: a release of {value:g} ms leaves "
            f"{100 * tried[value]:.0f} % of the hold there."
        )
        if not fits:
            reason = f"Not back by {when}, even at its quickest: {reason}"
        figures = {"apart_ms": round(apart_ms), "left_pct": round(100 * tried[value], 1), "release_ms": value}
        return Proposal(fixed | {path: value}, reason, figures, bool(fits))


def _release_of(work: Work) -> str:
    own = TIMES.get(work.entry.type, {}).get("release")
    names = (own[0], *NAMES) if own else NAMES
    return next(name for name in names if hasattr(work.entry.settings, name))


def _spans(hits: list[Hit], note_s: float) -> list[tuple[float, float]]:
    """From each hit, when it is to be back: at the next, or after the note where the next is not sooner."""
    pairs = [(one.at_s, other.at_s) for one, other in pairwise(hits)]
    if not note_s:
        return pairs
    return [(at, at + note_s) for at, following in pairs if following >= at + note_s]


def _share_left(work: Work, did: Ran, spans: list[tuple[float, float]]) -> float | None:
    """How much of its depth is still held at the end of a span, usually; None where hardly anything is held."""
    per_s = work.marks.frames.per_s
    shares = []
    for at, end in spans:
        first, last = int(at * per_s), min(int(end * per_s), did.lowest_db.size) - 1
        depth = -float(did.lowest_db[first : first + max(1, round(HELD_S * per_s))].min(initial=0.0))
        if depth >= LEAST_DB and last > first:
            shares.append(max(0.0, -float(did.highest_db[last])) / depth)
    return float(np.median(shares)) if shares else None
