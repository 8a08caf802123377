"""Hold the hits: so many dB off the loud ones, let go before the next."""

from typing import Any

import numpy as np

from reins.core.finding.hits import Hit, shortest_apart_s
from reins.core.kinds import KINDS, TIMES
from reins.core.processors import PROCESSORS
from reins.core.trials.aims.base import Aim, Asks, Proposal, Ran, Work, counted, said
from reins.errors import ConflictError

HELD_S = 0.08  # in which a hit is held deepest
LEFT = 0.15  # of the depth: what may still be held when the next hit comes
QUICKEST_MS, SLOWEST_MS = 15.0, 400.0
AT_90_PCT = 2.3  # release times until nine tenths are let go
KEEPS_CRACK_MS = 12.0


class HoldTheHits(Aim):
    """Usual depth over the loudest half of the hits found; see the table of aims."""

    name = "hits"
    label = "Hold the hits"
    about = "Loud hits are held by so many dB, and let go before the next one."
    types: tuple[str, ...] = KINDS
    asks = Asks("by_db", "Hold by", 4.0, 0.5, 24.0, "How far the louder half of the hits is held, usually.")
    base = {"ratio": 4.0, "attack_ms": KEEPS_CRACK_MS, "knee_db": 4.0}

    def propose(self, work: Work) -> Proposal:
        """Threshold or drive by search; release by how far hits lie apart, checked on what is left at the next."""
        hits = work.marks.hits
        if len(hits) < 2:
            how_many = "one hit" if hits else "no hits"
            raise ConflictError(
                f"Found {how_many}: this wants at least two. Mark them by hand, or aim at the level instead."
            )
        half = louder_half(hits)
        peak_db = float(np.median([hit.peak_db for hit in half]))
        name, more = ("input_db", 1.0) if PROCESSORS[work.entry.type].line_drives else ("threshold_db", -1.0)
        gap_s = shortest_apart_s(hits) or 1.0
        settings: dict[str, Any] = {}
        release = TIMES[work.entry.type].get("release")
        if release:
            wanted = (1000.0 * gap_s - 30.0) / AT_90_PCT
            settings[release[0]] = round(work.within(release[0], min(max(wanted, QUICKEST_MS), SLOWEST_MS)))
            settings |= {name: value for name, value in work.near.items() if name == release[0]}
        start = peak_db - 1.5 * work.asked if more < 0.0 else work.asked
        for _ in range(3):
            found, got = work.search(
                name, start, lambda tried: depth_db(work, work.run(tried), half), more=more, settings=settings
            )
            left_db = _left_db(work, work.run(found), hits)
            if not release or left_db <= LEFT * max(got, 0.5) or settings[release[0]] <= QUICKEST_MS:
                break
            settings[release[0]] = round(work.within(release[0], max(QUICKEST_MS, 0.6 * settings[release[0]])))
            start = found[name]
        if more > 0.0:  # what is driven in is taken out again
            found["output_db"] = work.within("output_db", -found[name])
        reached = abs(got - work.asked) <= 0.5
        peaks_db, first_db = _lost_db(work, work.run(found), hits)
        over = f"; {1000 * gap_s:.0f} ms to the next at the closest, with {said(left_db)} still held there"
        how = "drive" if more > 0.0 else "threshold"
        reason = (
            f"{counted(len(hits), 'hit')}, the louder half at {said(peak_db)}: a {how} of {said(found[name])} holds "
            f"them by {said(got)}{over}. Of all hits, peaks lose {said(peaks_db)} and the first 80 ms {said(first_db)}."
        )
        if not reached:
            reason = (
                f"Not by {said(work.asked)}: {reason[0].lower() if not reason[0].isdigit() else reason[0]}{reason[1:]}"
            )
        figures = {
            "hits": len(hits), "got_db": round(got, 2), "peak_db": round(peak_db, 2), "apart_ms": round(1000 * gap_s),
            "left_db": round(left_db, 2), "peaks_lost_db": round(peaks_db, 2), "first_lost_db": round(first_db, 2),
        }  # fmt: skip
        return Proposal(found, reason, figures, reached)


def louder_half(hits: list[Hit]) -> list[Hit]:
    """The hits at the median of all or louder."""
    middle = float(np.median([hit.peak_db for hit in hits]))
    return [hit for hit in hits if hit.peak_db >= middle]


def depth_db(work: Work, did: Ran, hits: list[Hit]) -> float:
    """How far hits are held, usually."""
    gain = did.lowest_db
    per_s = work.marks.frames.per_s
    depths = [-float(gain[int(hit.at_s * per_s) :][: round(HELD_S * per_s)].min(initial=0.0)) for hit in hits]
    return float(np.median(depths))


def _left_db(work: Work, did: Ran, hits: list[Hit]) -> float:
    """What is still held when a hit comes, usually."""
    gain = did.highest_db
    per_s = work.marks.frames.per_s
    return float(np.median([-gain[max(int(hit.at_s * per_s) - 1, 0)] for hit in hits[1:]]))


def _lost_db(work: Work, did: Ran, hits: list[Hit]) -> tuple[float, float]:
    """What peaks and the power of the first 80 ms of hits have lost, usually."""
    came, per_s = work.source(), work.marks.frames.per_s
    at = [int(hit.at_s * per_s) for hit in hits]
    parts = [slice(max(a - 1, 0), a + round(HELD_S * per_s)) for a in at if a < did.power.size]
    peaks = [20.0 * np.log10(max(came.peak[p].max(), 1e-6) / max(did.peak[p].max(), 1e-6)) for p in parts]
    first = [10.0 * np.log10(max(came.power[p].sum(), 1e-12) / max(did.power[p].sum(), 1e-12)) for p in parts]
    return float(np.median(peaks)), float(np.median(first))
