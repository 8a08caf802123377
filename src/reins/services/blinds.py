"""Blind tests of a session: set up with both sides equally loud, run by the live player, kept with the session."""

import random
import threading
from collections import OrderedDict
from dataclasses import dataclass, field, replace
from typing import Any

from reins.core.changes import KeepJudgement
from reins.core.otherwise import Otherwise, signature
from reins.core.processors import PROCESSORS
from reins.core.sessionparts import Judgement
from reins.core.sessions import Document, new_id
from reins.core.trials.blind import Blind, Kind, Side, told, told_by_itself
from reins.errors import ConflictError, NotFoundError
from reins.services.editing import change_session, document_of
from reins.services.equal import Equal, heard_by, ways_of
from reins.services.house import House

MOST = 50
CLOSE_LU, APART_LU, TRIES = 0.01, 0.1, 4  # tried for; the most there may be; how often
MOST_MARKS = 10_000


@dataclass
class Under:
    """A test under way: what both sides are, and, where it goes over by itself, when it did."""

    session_id: str
    strip_id: str
    blind: Blind
    names: dict[Side, str]
    ways: dict[Side, Otherwise]
    matched_lu: float
    every_s: float = 0.0
    went_over_s: list[float] = field(default_factory=list)  # of the stream
    marks_s: list[float] = field(default_factory=list)


class Blinds:
    """The tests under way, by id; what lies behind them leaves this object only when they are over."""

    def __init__(self, house: House, equal: Equal) -> None:
        self._house, self._equal = house, equal
        self._lock = threading.Lock()
        self._under: OrderedDict[str, Under] = OrderedDict()

    def begin(
        self, session_id: str, strip_id: str, *, kind: Kind, a: str, b: str, processor_id: str | None, every_s: float
    ) -> dict[str, Any]:
        """{"id", "matched_lu"}: a test of two ways a strip can be heard (services.equal), both as loud as the quieter.
        ConflictError where they are the same or cannot be matched.
        """
        document = document_of(self._house, session_id)
        known = ways_of(document, strip_id, processor_id)
        for name in (a, b):
            if name not in known:
                raise ConflictError(f"“{name[:40]}” cannot be heard here; allowed: {', '.join(known)}.")
        asked: dict[Side, str] = {"a": a, "b": b}
        sides = {side: heard_by(document, strip_id, known[name]) for side, name in asked.items()}
        if signature(sides["a"], strip_id) == signature(sides["b"], strip_id):
            raise ConflictError("Both are the same: change one, or choose another.")
        gains, apart = self._matched(sides, strip_id)
        ways = {side: replace(known[name], gains_db={strip_id: gains[side]}) for side, name in asked.items()}
        names = {side: _words(name, document, strip_id, processor_id) for side, name in asked.items()}
        under = Under(session_id, strip_id, Blind(kind, random.SystemRandom()), names, ways, apart, every_s)
        test_id = new_id()
        with self._lock:
            self._under[test_id] = under
            while len(self._under) > MOST:
                self._under.popitem(last=False)
        return {"id": test_id, "matched_lu": round(apart, 3)}

    def _matched(self, sides: dict[Side, Document], strip_id: str) -> tuple[dict[Side, float], float]:
        """The gain of each side in dB, none above 0, and how far apart both are then, in LU."""
        lufs = {side: self._equal.measure(document, strip_id) for side, document in sides.items()}
        a, b = lufs["a"], lufs["b"]
        if a is None or b is None:
            raise ConflictError("There is nothing loud enough here to compare by; BS.1770 wants 0.4 s over −70 LUFS.")
        goal = min(a, b)
        louder: Side = "a" if a > b else "b"
        gain_db, apart = 0.0, abs(a - b)
        for _ in range(TRIES):  # what is quieter than a gate of BS.1770 is not counted: turned down, that is more
            if apart < CLOSE_LU:
                break
            reached = self._equal.measure(sides[louder], strip_id, gain_db=gain_db)
            if reached is None:
                raise ConflictError(
                    "There is nothing loud enough here to compare by; BS.1770 wants 0.4 s over −70 LUFS."
                )
            gain_db += goal - reached
            apart = abs(goal - (self._equal.measure(sides[louder], strip_id, gain_db=gain_db) or goal))
        if apart > APART_LU:
            raise ConflictError(f"Both cannot be made equally loud: {apart:.2f} LU apart; allowed: {APART_LU:g}.")
        return {louder: gain_db, "b" if louder == "a" else "a": 0.0}, apart

    def under(self, test_id: str) -> Under:
        """A test under way, or NotFoundError."""
        with self._lock:
            if test_id not in self._under:
                raise NotFoundError("blind test", test_id)
            return self._under[test_id]

    def answer(self, test_id: str, what: str) -> dict[str, Any]:
        """Take an answer: {"rounds"}, and nothing else that could tell."""
        return {"rounds": self.under(test_id).blind.answer(what)}

    def leave(self, test_id: str) -> None:
        """Give a test up; nothing is told or kept."""
        self.under(test_id)
        with self._lock:
            self._under.pop(test_id, None)

    def end(self, test_id: str) -> dict[str, Any]:
        """Tell what came of a test, and keep it with the session as a step."""
        under = self.under(test_id)
        if under.blind.kind == "by_itself":
            result = told_by_itself(under.went_over_s, under.marks_s)
        else:
            result = told(under.blind, under.names)
        result |= {"a": under.names["a"], "b": under.names["b"], "matched_lu": round(under.matched_lu, 3)}
        strip = document_of(self._house, under.session_id).strip(under.strip_id)
        judgement = Judgement(
            strip=strip.name, kind=under.blind.kind, a=under.names["a"], b=under.names["b"], said=result["said"],
            rounds=result["rounds"], probability=result.get("probability"), matched_lu=result["matched_lu"],
        )  # fmt: skip
        change_session(self._house, under.session_id, KeepJudgement(kind="keep_judgement", judgement=judgement))
        self.leave(test_id)
        return result


class ByItself:
    """A test that goes over by itself while it plays: when it does, and what is marked, on a clock of what was given
    that goes on from one stream to the next.
    """

    def __init__(self, under: Under, sample_rate: int) -> None:
        self.under, self.side = under, under.blind.hidden
        self._rate, self._given, self._began = sample_rate, 0, 0
        self._next = self._after()

    def _after(self) -> int:
        return self._given + round(self.under.blind.interval(self.under.every_s) * self._rate)

    def due(self) -> bool:
        """Whether it goes over now; then `side` is the other."""
        if self._given < self._next:
            return False
        self.under.went_over_s.append(self._given / self._rate)
        self.side = "b" if self.side == "a" else "a"
        self._next = self._after()
        return True

    def gave(self, frames: int) -> None:
        """So much more was given."""
        self._given += frames

    def begins(self) -> None:
        """A stream begins."""
        self._began = self._given

    def marked(self, frames: int) -> None:
        """The listener marks a moment of the stream."""
        if len(self.under.marks_s) < MOST_MARKS:
            self.under.marks_s.append((self._began + max(frames, 0)) / self._rate)


def untold(stream: int, frame: int) -> dict[str, Any]:
    """Meters that tell nothing."""
    nothing: dict[str, Any] = {
        name: {} for name in ("strips", "gains", "points", "bands", "moved", "spectra", "louder_lu")
    }
    return {
        "type": "meters",
        "stream": stream,
        "frame": frame,
        "in_charge": 0,
        "curve": None,
        "master": None,
        **nothing,
    }


def _words(name: str, document: Document, strip_id: str, processor_id: str | None) -> str:
    """What a way is called: the draft in use by its number, a processor by its label."""
    strip: Any = document.strip(strip_id)
    if name.startswith("draft ") or name == "result":
        number = strip.draft if name == "result" else int(name.removeprefix("draft "))
        own = strip.draft_name if name == "result" else strip.drafts[str(number)].name
        return f"draft {number}" + (f" “{own}”" if own else "")
    if name == "without chain":
        return "source"
    label = next(PROCESSORS[entry.type].label.lower() for entry in strip.chain if entry.id == processor_id)
    return f"without the {label}" if name == "without" else f"the {label} overdone"
