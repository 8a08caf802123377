"""What is heard otherwise for a moment: processors and chains passed by, one overdone, another draft, strips made as
loud as they were. It is laid over the session where that is played or measured; nothing of it is kept.
"""

import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from reins.core.comparing import draft_of
from reins.core.routing import ties
from reins.core.sessions import MOST_DRAFTS, Document, Strip
from reins.errors import InputError, NotFoundError

MOST_MATCHED_DB = 24.0
Place = tuple[str, str]  # a strip and one of its processors, "" for its chain


@dataclass(frozen=True)
class Otherwise:
    """passed: processors, or chains, left out; overdone: processors that take and give twice as much in dB; drafts: the
    one that is heard of a strip; goals_lufs: how loud strips are to be, where their loudness is known; gains_db: by how
    much louder they are heard besides. turn: where it is another, what plays begins anew, even with the same.
    """

    passed: frozenset[Place] = frozenset()
    overdone: frozenset[Place] = frozenset()
    drafts: dict[str, int] = field(default_factory=dict)
    goals_lufs: dict[str, float] = field(default_factory=dict)
    gains_db: dict[str, float] = field(default_factory=dict)
    turn: int = 0

    @property
    def strips(self) -> set[str]:
        """The strips it is about."""
        return {strip_id for strip_id, _ in self.passed | self.overdone} | {
            *self.drafts, *self.goals_lufs, *self.gains_db
        }  # fmt: skip

    def of(self, strip_id: str, strip: Strip) -> Strip:
        """A strip as it is heard, but for its loudness."""
        draft = draft_of(strip, self.drafts[strip_id]) if strip_id in self.drafts else None
        if draft is not None and self.drafts[strip_id] != strip.draft:
            other = {"chain": draft.chain, "reins": draft.reins, "draft": self.drafts[strip_id]}
            strip = strip.model_copy(update=other)
        if self.turn:
            strip = strip.model_copy(update={"draft": MOST_DRAFTS + self.turn})
        if (strip_id, "") in self.passed:
            strip = strip.model_copy(update={"chain_on": False})
        changes = {}
        for place, entry in enumerate(strip.chain):
            if (strip_id, entry.id) in self.passed and entry.on:
                changes[place] = entry.model_copy(update={"on": False})
            elif (strip_id, entry.id) in self.overdone and not entry.settings.is_overdone:
                changes[place] = entry.model_copy(update={"settings": entry.settings.overdone()})
        if changes:
            chain = [changes.get(place, entry) for place, entry in enumerate(strip.chain)]
            strip = strip.model_copy(update={"chain": chain})
        return strip


def read_otherwise(message: dict[str, Any]) -> Otherwise:
    """From plain JSON: passed and overdone lists of [strip, processor or null], drafts, goals_lufs and gains_db objects
    by strip; InputError for what is none.
    """
    try:
        passed, overdone = (
            frozenset((str(strip), str(processor or "")) for strip, processor in message.get(name, []))
            for name in ("passed", "overdone")
        )
        drafts = {str(strip): int(number) for strip, number in message.get("drafts", {}).items()}
        goals, gains = (
            {str(strip): float(value) for strip, value in message.get(name, {}).items()}
            for name in ("goals_lufs", "gains_db")
        )
    except (TypeError, ValueError, AttributeError) as error:
        raise InputError(
            "What is to be heard otherwise could not be read; passed and overdone are lists of [strip, processor], "
            "drafts, goals_lufs and gains_db objects by strip. Nothing was changed."
        ) from error
    if any(not processor for _, processor in overdone):
        raise InputError("A processor is overdone, not a chain: say which.")
    if any(not -100.0 <= lufs <= 12.0 for lufs in goals.values()):
        raise InputError("A loudness to match is out of bounds; allowed: −100 to 12 LUFS.")
    if any(not abs(gain_db) <= MOST_MATCHED_DB for gain_db in gains.values()):
        raise InputError(f"A gain is out of bounds; allowed: −{MOST_MATCHED_DB:g} to {MOST_MATCHED_DB:g} dB.")
    return Otherwise(passed, overdone, drafts, goals, gains)


class Laid:
    """Lays what is heard otherwise over documents; a strip that has not changed stays the same object, so that what
    plays sees that it has not. loudness: of a strip as it is heard, by its signature, None where it is not known.
    """

    def __init__(self, loudness: Callable[[str], float | None]) -> None:
        self._loudness = loudness
        self.otherwise = Otherwise()
        self._made: dict[str, tuple[Strip, Strip, float]] = {}  # what was heard, its like laid over, at which gain
        self._matched: dict[str, float] = {}

    def set(self, otherwise: Otherwise) -> None:
        """Lay this from now on."""
        self.otherwise, self._made = otherwise, {}
        self._matched = {k: gain for k, gain in self._matched.items() if k in otherwise.goals_lufs}

    def over(self, document: Document) -> Document:
        """The document as it is heard."""
        for strip_id in self.otherwise.strips:
            try:
                strip: Any = document.strip(strip_id)
            except NotFoundError:
                continue
            known = self._made.get(strip_id)
            if known is None or known[0] is not strip:
                heard: Any = self.otherwise.of(strip_id, strip)
                placed = document.placed(strip_id, heard)
                gain_db = self._gain_db(placed, strip_id)
                known = strip, heard if gain_db == heard.matched_db else heard.matched(gain_db), gain_db
                self._made[strip_id] = known
            document = document.placed(strip_id, known[1]) if known[1] is not strip else document
        return document

    def _gain_db(self, document: Document, strip_id: str) -> float:
        """What makes a strip as loud as it was; where that is not known yet, what it was last."""
        goal, more_db = self.otherwise.goals_lufs.get(strip_id), self.otherwise.gains_db.get(strip_id, 0.0)
        if goal is None:
            return more_db
        lufs = self._loudness(signature(document, strip_id))
        if lufs is not None:
            self._matched[strip_id] = round(min(max(goal - lufs, -MOST_MATCHED_DB), MOST_MATCHED_DB), 3)
        return self._matched.get(strip_id, 0.0) + more_db


def signature(document: Document, strip_id: str) -> str:
    """A checksum of what the loudness of a strip's result depends on, over the loop or all of it."""
    strip: Any = document.strip(strip_id)
    parts: list[Any] = [strip_id, document.loop.model_dump(), document.sample_rate, *_of_chain(strip)]
    if strip_id in document.tracks and not ties(document, strip_id):
        lies = ("take_id", "start_frame", "trim_db", "inverted")
        parts += [getattr(strip, name) for name in lies] + [document.tempo_bpm, document.beats_per_bar]
    else:
        parts.append(document.model_dump_json())
    return hashlib.sha256(json.dumps(parts).encode()).hexdigest()


def _of_chain(strip: Any) -> list[Any]:
    entries = [[e.type, e.on, e.settings.is_overdone, e.settings.model_dump_json()] for e in strip.chain]
    reins = [rein.model_dump_json() for rein in strip.reins]
    return [entries, reins, strip.chain_on, strip.chain_mix_pct, strip.puts_out]
