"""Open on the hits: a gate that opens for every hit and for nothing else."""

from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from reins.core.dsp.filters import butterworth_cut, run_sections
from reins.core.finding.hits import Hit, shortest_apart_s
from reins.core.laid import is_take
from reins.core.struck import StruckSound, map_of
from reins.core.trials.aims.base import Aim, Array, Proposal, Ran, Way, Work, counted, said
from reins.errors import ConflictError

ABOVE_DB = 1.5  # over the loudest sound that is no hit
BELOW_DB = 6.0  # under the softest hit, where nothing else sounds
CUTS: tuple[tuple[float, float], ...] = (
    (0, 0),
    (80, 0),
    (150, 0),
    (250, 0),
    (400, 0),
    (0, 5000),
    (0, 2000),
    (0, 300),
    (150, 5000),
    (800, 0),
    (1500, 0),
    (2500, 0),
)
LEAD_S, PEAK_S = 0.05, 0.03  # before an onset, and after it, in which it is loudest
OPEN_DB, SHUT_DB = -3.0, -12.0
LOOKAHEAD_MS = 2.0
AHEAD_MS = 2.0
OWN_HITS = f"hits:{AHEAD_MS:g}"  # a key's name
MANY = 0.5  # others for each hit
LEANS_DB = 8.0  # a range at which what is shut is still heard


class OpenOnTheHits(Aim):
    """Which hits it opens on, and on what else; see the table of aims."""

    name = "open"
    label = "Open on the hits"
    about = (
        "It opens on every hit and on nothing else; soft hits that lie under what bleeds in are given up, and counted."
    )
    types: tuple[str, ...] = ("gate",)

    def propose(self, work: Work) -> Proposal:
        """Key cuts by the widest margin between hits and all else; the threshold just over the loudest of that."""
        hits, others = work.marks.hits, work.marks.others
        if len(hits) < 2:
            raise ConflictError(
                f"Found {'one hit' if hits else 'no hits'}: this wants at least two. Mark them by hand, or set the "
                "threshold on the take."
            )
        cuts, levels, bleed_db = self._clearest(work, hits, others)
        softest = float(levels.min())
        bleeds = bleed_db > -90.0
        threshold = bleed_db + ABOVE_DB if bleeds else softest - BELOW_DB
        threshold = round(work.within("threshold_db", min(threshold, float(levels.max()) - 1.0)), 1)
        lost = [hit for hit, level in zip(hits, levels, strict=True) if level < threshold]
        gap_ms = 1000.0 * (shortest_apart_s(hits) or 1.0)
        settings: dict[str, Any] = {
            "threshold_db": threshold, "hysteresis_db": 6.0, "range_db": 60.0, "attack_ms": 0.5,
            "hold_ms": round(work.within("hold_ms", min(100.0, 0.3 * gap_ms))),
            "release_ms": round(work.within("release_ms", min(180.0, 0.4 * gap_ms))), "lookahead_ms": LOOKAHEAD_MS,
            "key.low_cut_hz": cuts[0], "key.high_cut_hz": cuts[1],
        }  # fmt: skip
        tries: list[dict[str, Any]] = [
            {},
            {"hysteresis_db": 2.0},
            {"hysteresis_db": 2.0, "hold_ms": settings["hold_ms"] // 3},
            {"hysteresis_db": 2.0, "threshold_db": work.within("threshold_db", threshold - 2.0 * ABOVE_DB)},
        ]
        results: list[tuple[int, int, dict[str, Any]]] = []
        for more in tries:  # what rings on must not hold it open until something else sounds; a lost hit is worse
            did = work.run(settings | more)
            wrong = int(sum(_opened(work, did, others)))
            sounding = zip(_sounding(work, did, hits), hits, strict=True)
            missed = sum(not sounds and hit not in lost for sounds, hit in sounding)
            results.append((missed, wrong, settings | more))
            if not missed and not wrong:
                break
        _, wrong, settings = min(results, key=lambda one: one[:2])
        opened = int(sum(_sounding(work, work.run(settings), hits)))
        given_up, margin = len(hits) - opened, softest - bleed_db
        apart = "with nothing between them"
        if bleeds:
            apart = (
                f"{said(margin)} over all else" if margin > 0.0 else f"the softest {said(-margin)} under what bleeds in"
            )
        how = f", heard {_cut_words(cuts)}" if any(cuts) else ""
        at = said(settings["threshold_db"])
        reason = f"{counted(len(hits), 'hit')}{how}, {apart}: at {at} it opens on {opened} of them"
        reason += f" and on {wrong} of {len(others)} other sounds" if others else ""
        reason += f"; {counted(given_up, 'soft one')} {'is' if given_up == 1 else 'are'} given up" if given_up else ""
        doubtful = len(others) > MANY * len(hits)  # softer and of another colour, as neighbours are; or brushes
        reason += "; so many others may be played, too: mark those that are" if doubtful else ""
        figures: dict[str, Any] = {
            "hits": len(hits), "opened": opened, "given_up": given_up, "others": len(others),
            "opened_on_others": wrong, "margin_db": round(margin, 2) if bleeds else None,
        }  # fmt: skip
        opens = _sounding(work, work.run(settings), hits)
        soft = [hit for hit, sounds in zip(hits, opens, strict=True) if not sounds]
        ways = _ways(work, settings, soft, softest, Counts(len(hits), opened, wrong)) if soft else ()
        figures["soft_s"] = [round(hit.at_s, 3) for hit in soft]
        return Proposal(settings, f"{reason}.", figures, not given_up and not wrong and not doubtful, ways=ways)

    @staticmethod
    def _clearest(work: Work, hits: list[Hit], others: list[Hit]) -> tuple[tuple[float, float], Array, float]:
        """Of the key's cuts, those by which hits stand out most: (cuts, the level of each hit, the loudest other)."""
        best: tuple[float, tuple[float, float], Array, float] | None = None
        heard, beside = _about(work, hits), _about(work, others)
        for cuts in CUTS if others else CUTS[:1]:
            levels = _heard_db(work, heard, cuts)
            other = float(_heard_db(work, beside, cuts).max(initial=-120.0))
            # A cut that takes of the hits themselves is worth less.
            margin = float(np.quantile(levels, 0.05)) - other - 0.25 * max(0.0, -float(np.median(levels)) - 20.0)
            if best is None or margin > best[0] + 1.0:
                best = margin, cuts, levels, other
        assert best is not None
        return best[1:]


@dataclass(frozen=True)
class Counts:
    """Of a gate: how many hits there are, on how many of them it opens, and on how much else."""

    hits: int
    opened: int
    others: int


def _ways(work: Work, settings: dict[str, Any], soft: list[Hit], softest_db: float, found: Counts) -> tuple[Way, ...]:
    """The ways out where soft hits lie under what bleeds in: lose them, let that in, close less, follow the marks."""
    hits, others, per_s = work.marks.hits, work.marks.others, work.marks.frames.per_s
    lost, are, come = counted(len(soft), "soft hit"), *(("is", "comes") if len(soft) == 1 else ("are", "come"))
    lose = f"It opens on {found.opened} of {found.hits} hits and on {found.others} other sounds; {lost} {are} lost."
    lower = settings | {"threshold_db": round(work.within("threshold_db", softest_db - ABOVE_DB), 1)}
    did = work.run(lower)
    let_in = Counts(found.hits, int(sum(_sounding(work, did, hits))), int(sum(_opened(work, did, others))))
    let = f"It opens on {let_in.opened} of {let_in.hits} hits, and on {let_in.others} other sounds."
    leaning = settings | {"range_db": LEANS_DB}
    did = work.run(leaning)
    deepest_db = max(-float(did.highest_db[int(hit.at_s * per_s) :][:3].max(initial=-120.0)) for hit in soft)
    lean = f"It closes by {LEANS_DB:.0f} dB alone: {lost} {come} through, at most {said(deepest_db)} lower."
    by_marks = (_by_marks(work, settings),) if is_take(work.trial.sound) else ()
    return (
        Way("lose", f"Lose {lost}", settings, lose, vars(found)),
        Way("let", f"Let {counted(let_in.others, 'other sound')} in", lower, let, vars(let_in)),
        Way("lean", f"Lean, {LEANS_DB:.0f} dB", leaning, lean, vars(found) | {"soft_lower_db": round(deepest_db, 2)}),
        *by_marks,
    )


def _by_marks(work: Work, settings: dict[str, Any]) -> Way:
    """The way that follows the marks instead of the level: it opens wherever a hit is marked."""
    hits, facts = work.marks.hits, work.trial.sound.facts
    struck = StruckSound(map_of(hits, facts), facts, ahead_ms=AHEAD_MS)
    weakest_db = min(hit.peak_db for hit in hits)
    follow = settings | {
        "key.source": OWN_HITS, "threshold_db": round(work.within("threshold_db", weakest_db - BELOW_DB), 1),
        "lookahead_ms": 0.0, "key.low_cut_hz": 0.0, "key.high_cut_hz": 0.0,
    }  # fmt: skip
    did = replace(work, trial=replace(work.trial, keys={OWN_HITS: struck}), known={}).run(follow)
    work.runs += 1
    opened, others = int(sum(_sounding(work, did, hits))), int(sum(_opened(work, did, work.marks.others)))
    said_ = (
        f"It follows the marks, not the level: it opens on {opened} of {len(hits)} hits and on {others} other sounds"
    )
    return Way("marks", "Follow the marks", follow, f"{said_}.", vars(Counts(len(hits), opened, others)))


def _cut_words(cuts: tuple[float, float]) -> str:
    low, high = cuts
    words = ([f"above {low:g} Hz"] if low else []) + ([f"below {high:g} Hz"] if high else [])
    return " and ".join(words)


def _about(work: Work, hits: list[Hit]) -> Array:
    """(hits, frames) of the louder channel about each."""
    rate = work.marks.frames.sample_rate
    lead, frames = round(LEAD_S * rate), round((LEAD_S + PEAK_S) * rate)
    heard = [work.trial.sound.read(round(hit.at_s * rate) - lead, frames) for hit in hits]
    rows = [part[int(np.abs(part).max(axis=1).argmax())] for part in heard]
    return np.stack(rows) if rows else np.zeros((0, frames))


def _heard_db(work: Work, about: Array, cuts: tuple[float, float]) -> Array:
    """The peak of each hit as a detector with these cuts hears it (12 dB an octave, as the key's)."""
    rate, heard = work.marks.frames.sample_rate, np.ascontiguousarray(about).copy()
    kinds: tuple[Literal["low_cut", "high_cut"], ...] = ("low_cut", "high_cut")
    for hz, kind in zip(cuts, kinds, strict=True):
        if hz and len(heard):
            sections = butterworth_cut(kind, cutoff_hz=hz, order=2, sample_rate=rate)
            run_sections(sections, np.zeros((len(sections), heard.shape[0], 2)), heard)
    peaks = np.abs(heard[:, round(LEAD_S * rate) :]).max(axis=1)
    return np.asarray(20.0 * np.log10(np.maximum(peaks, 1e-6)))


def _sounding(work: Work, did: Ran, hits: list[Hit]) -> list[bool]:
    """Whether it is open at each of the hits."""
    highest = did.highest_db
    per_s = work.marks.frames.per_s
    return [bool(highest[int(hit.at_s * per_s) :][:3].max(initial=-120.0) > OPEN_DB) for hit in hits]


def _opened(work: Work, did: Ran, hits: list[Hit]) -> list[bool]:
    """At which of these it opens that was shut."""
    deepest = did.lowest_db
    per_s = work.marks.frames.per_s
    before = [deepest[max(int(hit.at_s * per_s) - 6, 0) :][:6].min(initial=0.0) for hit in hits]
    return [was < SHUT_DB and sounds for was, sounds in zip(before, _sounding(work, did, hits), strict=True)]
