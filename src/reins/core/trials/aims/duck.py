"""Step back: so many dB down while another track sounds, and back when it has ended."""

from typing import Any

import numpy as np

from reins.core.finding.hits import shortest_apart_s
from reins.core.finding.marks import Marks
from reins.core.trials.aims.base import Aim, Asks, Proposal, Work, counted, hops, said
from reins.errors import ConflictError

OVER_NOISE_DB = 6.0
FALLS_DB, FALLS_FRAMES = 10.0, 15  # what is struck falls by so much in so many frames


class StepBack(Aim):
    """The median of what is held while the key is active; see the table of aims."""

    name = "duck"
    label = "Step back"
    about = "It steps back by so many dB while another track sounds, and comes back behind it."
    types: tuple[str, ...] = ("ducker",)
    asks = Asks("by_db", "Back by", 9.0, 1.0, 40.0, "How far it steps back while the other sounds.")
    shows = "phrases"
    wants_key = True

    def propose(self, work: Work) -> Proposal:
        """Heeds and floor by the key's own levels, times by how it comes and goes; how far by search."""
        key = work.key
        assert key is not None
        level = key.frames.level_db()
        if not key.phrases or key.active.level_db is None:
            raise ConflictError("The key is silent: nothing to step back for. Choose another key.")
        sounding = hops(key, key.phrases, level.size)
        active_db = float(np.median(level[sounding])) + 3.0
        quiet = level[~sounding]
        noise_db = float(np.quantile(quiet, 0.95)) + 3.0 if quiet.size else -120.0
        long = not _struck(key)
        gap_s = shortest_apart_s(key.hits) or 1.0
        back_ms = 350.0 if long else min(max((1000 * gap_s - 60.0) / 2.3, 40.0), 400.0)
        settings: dict[str, Any] = {
            "threshold_db": round(work.within("threshold_db", min(active_db - work.asked - 8.0, -1.0)), 1),
            "floor_db": round(work.within("floor_db", max(noise_db + OVER_NOISE_DB, active_db - work.asked - 14.0)), 1),
            "down_ms": 15.0 if long else 3.0, "hold_ms": 120.0 if long else 20.0, "back_ms": round(back_ms),
        }  # fmt: skip
        if settings["floor_db"] > active_db - 3.0:
            settings["floor_db"] = round(work.within("floor_db", active_db - 6.0), 1)

        def got_by(tried: dict[str, Any]) -> float:
            gain = work.run(tried).lowest_db
            size = min(gain.size, sounding.size)
            return -float(np.median(gain[:size][sounding[:size]]))

        found, got = work.search("amount_db", work.asked, got_by, more=1.0, settings=settings)
        reached = abs(got - work.asked) <= 0.5
        what = f"{counted(len(key.phrases), 'phrase')}" if long else f"{counted(len(key.hits), 'hit')}"
        reason = (
            f"The key has {what} at {said(active_db)} over a background of {said(noise_db)}: heeded from "
            f"{said(found['threshold_db'])}, the track steps back by {said(got)}, and is "
            f"back after {found['back_ms']:g} ms."
        )
        figures = {"got_db": round(got, 2), "key_db": round(active_db, 2), "key_noise_db": round(noise_db, 2)}
        return Proposal(found, reason if reached else f"Not by {said(work.asked)}: {reason}", figures, reached)


def _struck(key: Marks) -> bool:
    """Whether a key is struck, not sung or spoken: what begins falls away at once."""
    level = key.frames.level_db()
    per_s = key.frames.per_s
    places = [int(hit.at_s * per_s) for hit in key.hits]
    falls = [level[p : p + 6].max() - level[p + FALLS_FRAMES] for p in places if p + FALLS_FRAMES < level.size]
    return bool(falls and np.median(falls) > FALLS_DB)
