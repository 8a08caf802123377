"""Silence between: what sounds between phrases is made so much quieter, and no word is cut off."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from reins.core.trials.aims.base import Aim, Array, Asks, Proposal, Ran, Work, counted, hops, said
from reins.errors import ConflictError

Spans = list[tuple[float, float]]
ABOVE_NOISE_DB, BELOW_VOICE_DB = 3.0, 3.0
SHORTEST_PAUSE_S = 0.4
# A pause counts from so long after a phrase until so long before the next, of phrases that are found 20 ms wider than
# they are; a phrase may lose no more of its edges.
AFTER_S, BEFORE_S = 0.13, 0.03
FIRST_S, LAST_S, MOST_LOST_DB = 0.05, 0.15, 1.5
LOOKAHEAD_MS = 20.0
AVERAGE = {"rms_pct": 100.0, "rms_ms": 25.0}
CLOSE_DB, MISS_DB = 1.0, 2.0
TRIES = 14
SILENT_DB = -100.0


@dataclass(frozen=True)
class Got:
    """What was measured: how much less power the pauses have, what the edges of phrases lose, in dB, and the share of
    the pauses in which it stands open.
    """

    quieter_db: float
    first_db: float
    last_db: float
    open_share: float

    def misses(self, asked_db: float) -> float:
        """How far it is from what is asked for, in dB; a word that is cut off counts most."""
        lost = max(self.first_db, self.last_db) - MOST_LOST_DB
        return abs(self.quieter_db - asked_db) + 10.0 * max(lost, 0.0)


class SilenceBetween(Aim):
    """How much less power pauses have; see the table of aims."""

    name = "silence"
    label = "Silence between"
    about = "Pauses between phrases become so much quieter, and no word is cut off."
    types: tuple[str, ...] = ("gate", "expander")
    asks = Asks("by_db", "Quieter by", 20.0, 3.0, 80.0, "How much quieter what sounds between phrases becomes.")
    shows = "phrases"

    def propose(self, work: Work) -> Proposal:
        """A threshold between the noise of the pauses and the quietest words; how far it goes, how long it waits and
        how fast it closes by search, on the power that is left.
        """
        phrases, level = work.marks.phrases, work.marks.frames.level_db()
        pauses = pauses_of(phrases, work.marks.frames.s(level.size))
        if not phrases or not pauses:
            raise ConflictError(
                "Found no pauses: it sounds all the time, so there is no silence to make. Choose another take."
            )
        quiet = hops(work.marks, pauses, level.size)
        if level[quiet].max() < SILENT_DB:
            return Proposal(
                {}, "The pauses are silent already: nothing needs to be made quieter.", {"pauses": len(pauses)}
            )
        spoken = hops(work.marks, phrases, level.size)
        noise_db = float(np.quantile(level[quiet], 0.98)) + 3.0  # a peak lies over its mean
        voice_db = float(np.quantile(level[spoken], 0.25)) + 3.0
        source = work.source_power()
        tried: list[tuple[dict[str, Any], Got]] = []
        # By peaks; where clicks and the like open it in the pauses, by the average, which hardly hears those.
        for more in ({}, AVERAGE):
            settings = self._settings(work, noise_db, voice_db) | more
            for _ in range(TRIES):
                got = _got(work.run(settings), source, work, pauses)
                tried.append((settings, got))
                following = _better(work, settings, got, voice_db)
                if following is None or following in (one for one, _ in tried):
                    break
                settings = following
            if min(got.misses(work.asked) for _, got in tried) <= CLOSE_DB:
                break
        found, got = min(tried, key=lambda one: one[1].misses(work.asked))
        cut_off = max(got.first_db, got.last_db) > MOST_LOST_DB
        reached = abs(got.quieter_db - work.asked) <= MISS_DB and not cut_off
        reason = (
            f"{counted(len(phrases), 'phrase')}, {counted(len(pauses), 'pause')}: the pauses have "
            f"{said(got.quieter_db)} less power at {said(found['threshold_db'])}; phrases lose "
            f"{said(max(got.first_db, 0.0))} of their first 50 ms and {said(max(got.last_db, 0.0))} of their last 150"
        )
        if not reached:
            why = "what sounds in the pauses is as loud as quiet words"
            reason = f"Not by {said(work.asked)}, {why}: {reason}"
        figures = {
            "phrases": len(phrases), "pauses": len(pauses), "noise_db": round(noise_db, 2),
            "voice_db": round(voice_db, 2), "got_db": round(got.quieter_db, 2), "first_lost_db": round(got.first_db, 2),
            "last_lost_db": round(got.last_db, 2),
        }  # fmt: skip
        return Proposal(found, f"{reason}.", figures, reached)

    def _settings(self, work: Work, noise_db: float, voice_db: float) -> dict[str, Any]:
        """Those to begin with."""
        threshold = max(noise_db + ABOVE_NOISE_DB, min(voice_db - BELOW_VOICE_DB, noise_db + 8.0))
        settings: dict[str, Any] = {
            "threshold_db": round(work.within("threshold_db", threshold), 1), "attack_ms": 2.0, "hold_ms": 100.0,
            "release_ms": 50.0, "lookahead_ms": LOOKAHEAD_MS, "auto_release": False, "rms_pct": 0.0,
            "range_db": round(work.within("range_db", work.asked), 1),
        }  # fmt: skip
        if work.entry.type == "gate":
            return settings | {"hysteresis_db": 4.0}
        return settings | {"ratio": 12.0, "direction": "down", "knee_db": 3.0, "release_ms": 20.0}


def _better(work: Work, settings: dict[str, Any], got: Got, voice_db: float) -> dict[str, Any] | None:
    """What to try next: first that no word is cut off, then that what opens in pauses does not, then the depth; None
    where it is as asked for.
    """
    if got.first_db > MOST_LOST_DB or (got.last_db > MOST_LOST_DB and settings["hold_ms"] >= 250.0):
        return settings | {"threshold_db": round(work.within("threshold_db", settings["threshold_db"] - 3.0), 1)}
    if got.last_db > MOST_LOST_DB:
        return settings | {"hold_ms": settings["hold_ms"] + 50.0}
    short_db = work.asked - got.quieter_db
    if abs(short_db) <= CLOSE_DB:
        return None
    if short_db > 3.0 and got.open_share > 0.02 and settings["threshold_db"] < voice_db - BELOW_VOICE_DB:
        return settings | {"threshold_db": round(work.within("threshold_db", settings["threshold_db"] + 3.0), 1)}
    if short_db > 0.0 and settings["hold_ms"] > 40.0 and got.last_db < 0.7 * MOST_LOST_DB:
        return settings | {"hold_ms": max(settings["hold_ms"] - 30.0, 40.0)}
    deeper = min(short_db, 10.0)
    return settings | {"range_db": round(work.within("range_db", settings["range_db"] + deeper), 1)}


def _got(did: Ran, source: Array, work: Work, pauses: Spans) -> Got:
    """What the pauses have less, and what the edges of phrases have lost."""
    size = min(did.power.size, source.size)
    before, after = source[:size], did.power[:size]

    def lost_db(spans: Spans) -> float:
        inside = hops(work.marks, spans, size)
        was, is_now = float(before[inside].sum()), float(after[inside].sum())
        return 10.0 * float(np.log10(max(was, 1e-15) / max(is_now, 1e-15))) if was > 0.0 else 0.0

    phrases = work.marks.phrases
    first = [lost_db([(a, min(a + FIRST_S, b))]) for a, b in phrases]
    last = [lost_db([(max(b - LAST_S, a), b)]) for a, b in phrases]
    quiet = hops(work.marks, pauses, size)
    is_open = float(np.mean(did.highest_db[:size][quiet[: did.highest_db.size]] > -3.0)) if quiet.any() else 0.0
    return Got(lost_db(pauses), float(np.quantile(first, 0.9)), float(np.quantile(last, 0.9)), is_open)


def pauses_of(phrases: Spans, end_s: float) -> Spans:
    """What lies between phrases, and before and after them, their edges left out."""
    edges = [0.0, *(edge for span in phrases for edge in span), end_s]
    between = [(a, b) for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a >= SHORTEST_PAUSE_S]
    return [(a + (AFTER_S if a else 0.0), b - (BEFORE_S if b < end_s else 0.0)) for a, b in between]
