"""Silence between: what sounds between phrases is made so much quieter."""

from typing import Any

import numpy as np

from reins.core.trials.aims.base import Aim, Asks, Proposal, Work, counted, hops, said
from reins.errors import ConflictError

ABOVE_NOISE_DB, BELOW_VOICE_DB = 4.0, 3.0
SHORTEST_PAUSE_S, EDGE_S = 0.5, 0.3  # pauses that count, and how far from a phrase they do
LOOKAHEAD_MS = 10.0


class SilenceBetween(Aim):
    """How much quieter pauses become; see the table of aims."""

    name = "silence"
    label = "Silence between"
    about = "Pauses between phrases become so much quieter, and no word is cut off."
    types: tuple[str, ...] = ("gate", "expander")
    asks = Asks("by_db", "Quieter by", 20.0, 3.0, 80.0, "How much quieter what sounds between phrases becomes.")
    shows = "phrases"

    def propose(self, work: Work) -> Proposal:
        """A threshold between the noise of the pauses and the quietest words; how far it goes by search."""
        phrases, level = work.marks.phrases, work.marks.frames.level_db()
        pauses = pauses_of(phrases, work.marks.frames.s(level.size))
        if not phrases or not pauses:
            raise ConflictError(
                "Found no pauses: it sounds all the time, so there is no silence to make. Choose another take."
            )
        quiet = hops(work.marks, pauses, level.size)
        spoken = hops(work.marks, phrases, level.size)
        noise_db = float(np.quantile(level[quiet], 0.99)) + 3.0  # a peak lies over its mean
        voice_db = float(np.quantile(level[spoken], 0.25)) + 3.0
        if level[quiet].max() < -100.0:
            return Proposal(
                {}, "The pauses are silent already: nothing needs to be made quieter.", {"pauses": len(pauses)}
            )
        threshold = max(noise_db + ABOVE_NOISE_DB, min(voice_db - BELOW_VOICE_DB, noise_db + 10.0))
        settings: dict[str, Any] = {
            "threshold_db": round(work.within("threshold_db", threshold), 1), "attack_ms": 3.0, "hold_ms": 180.0,
            "release_ms": 250.0, "lookahead_ms": LOOKAHEAD_MS,
        }  # fmt: skip
        if work.entry.type == "gate":
            settings["hysteresis_db"] = 4.0
        else:
            settings |= {"ratio": 6.0, "direction": "down"}

        def got_by(tried: dict[str, Any]) -> float:
            gain = work.run(tried).lowest_db[: quiet.size]
            return -float(np.median(gain[quiet[: gain.size]]))

        found, got = work.search("range_db", work.asked, got_by, more=1.0, settings=settings)
        highest = work.run(found).highest_db
        per_s = work.marks.frames.per_s
        late = sum(highest[int(begin * per_s) + 1 :][:6].max(initial=-120.0) < -3.0 for begin, _ in phrases)
        reached = abs(got - work.asked) <= 0.5 and not late
        reason = (
            f"{counted(len(phrases), 'phrase')}, {counted(len(pauses), 'pause')}; noise to {said(noise_db)}, words "
            f"from {said(voice_db)}: at {said(found['threshold_db'])} the pauses become {said(got)} quieter"
        )
        reason += f", and {late} phrases begin before it is open" if late else ""
        figures = {
            "phrases": len(phrases), "pauses": len(pauses), "noise_db": round(noise_db, 2),
            "voice_db": round(voice_db, 2), "got_db": round(got, 2), "cut_off": int(late),
        }  # fmt: skip
        return Proposal(found, f"{reason}.", figures, reached)


def pauses_of(phrases: list[tuple[float, float]], end_s: float) -> list[tuple[float, float]]:
    """What lies between phrases, and before and after them, their edges left out."""
    edges = [0.0, *(edge for span in phrases for edge in span), end_s]
    between = [(a, b) for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a >= SHORTEST_PAUSE_S]
    return [(a + (EDGE_S if a else 0.0), b - 0.05) for a, b in between if b - a > EDGE_S + 0.1]
