"""Blind tests: rounds drawn anew, and what the answers are worth.

Which: X is one of two; so many right of so many have the probability of doing as well by guessing, of the binomial
distribution with one half (as in D. Clark, "High-resolution subjective testing using a double-blind comparator",
Journal of the Audio Engineering Society 30, 1982; from memory). Prefer: which of two in an order drawn anew each round;
as far from half and half, either way. By itself: it goes over at moments nobody can foresee, and is told against what
the listener marked.
"""

import math
import random
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from reins.errors import ConflictError

Kind = Literal["which", "prefer", "by_itself"]
Side = Literal["a", "b"]
#: What can be heard, and answered, in each kind.
HEARD: dict[str, tuple[str, ...]] = {"which": ("a", "b", "x"), "prefer": ("first", "second"), "by_itself": ()}
ANSWERS: dict[str, tuple[str, ...]] = {"which": ("a", "b"), "prefer": ("first", "second"), "by_itself": ()}
MOST_ROUNDS = 200
SOONEST, LATEST = 0.5, 1.5  # times the interval that was asked for, evenly: when it goes over by itself
MARKED_WITHIN_S = 2.5  # after it went over, a mark is for that
SURE = 0.05


def at_least(right: int, rounds: int) -> float:
    """The probability of at least so many right of so many by guessing between two."""
    return float(sum(math.comb(rounds, k) for k in range(right, rounds + 1)) / 2**rounds)


def as_uneven(one: int, rounds: int) -> float:
    """The probability that guesses are at least as far from half and half, either way."""
    further = max(one, rounds - one)
    return 1.0 if 2 * further == rounds else min(1.0, 2.0 * at_least(further, rounds))


@dataclass
class Blind:
    """A test under way. `draw` makes what nobody can foresee."""

    kind: Kind
    draw: random.Random
    rounds: list[tuple[Side, Side]] = field(default_factory=list)  # what it was, or came first; what was answered
    hidden: Side = "a"

    def __post_init__(self) -> None:
        self._next()

    def _next(self) -> None:
        self.hidden = "a" if self.draw.random() < 0.5 else "b"

    def heard(self, what: str) -> Side:
        """Which of the two is meant; ConflictError for what this kind has not."""
        if what not in HEARD[self.kind]:
            raise ConflictError(f"“{what[:20]}” is not heard in this test; allowed: {', '.join(HEARD[self.kind])}.")
        return self._meant(what)

    def _meant(self, what: str) -> Side:
        other: Side = "b" if self.hidden == "a" else "a"
        return {"a": "a", "b": "b", "x": self.hidden, "first": self.hidden, "second": other}[what]  # type: ignore[return-value]

    def answer(self, what: str) -> int:
        """Take an answer and draw the next round; how many there are now."""
        if what not in ANSWERS[self.kind]:
            raise ConflictError(f"“{what[:20]}” is no answer; allowed: {', '.join(ANSWERS[self.kind]) or 'none here'}.")
        if len(self.rounds) >= MOST_ROUNDS:
            raise ConflictError(f"{MOST_ROUNDS} rounds are enough: end the test.")
        self.rounds.append((self.hidden, self._meant(what)))
        self._next()
        return len(self.rounds)

    def interval(self, every: float) -> float:
        """When it goes over next, for one who asked for so long."""
        return every * self.draw.uniform(SOONEST, LATEST)


def told(blind: Blind, names: dict[Side, str]) -> dict[str, Any]:
    """What rounds come to: rounds, right or preferred, probability, and a sentence; names: what the two are."""
    count = len(blind.rounds)
    if not count:
        raise ConflictError("No round was answered: there is nothing to tell.")
    if blind.kind == "which":
        right = sum(was == answered for was, answered in blind.rounds)
        chance = at_least(right, count)
        heard = "so the difference was heard" if chance <= SURE else "too often to say that it was heard"
        said = f"{right} of {count} right; by guessing one does as well in {_percent(chance)} of all tests, {heard}."
        return {"rounds": count, "right": right, "probability": chance, "said": said}
    chosen = {side: sum(answered == side for _, answered in blind.rounds) for side in ("a", "b")}
    more: Side = "a" if chosen["a"] >= chosen["b"] else "b"
    chance = as_uneven(chosen["a"], count)
    sure = "hardly by chance" if chance <= SURE else "which chance does too often to call it a preference"
    said = (
        f"“{names[more]}” preferred in {chosen[more]} of {count}; as uneven or more in {_percent(chance)} of all tests "
        f"by chance alone: {sure}."
    )
    return {"rounds": count, "preferred": chosen, "probability": chance, "said": said}


def told_by_itself(went_over_s: Sequence[float], marks_s: Sequence[float]) -> dict[str, Any]:
    """What a listener marked against when it went over, in seconds of the same clock: marked in time, missed, and marks
    for nothing.
    """
    left = sorted(marks_s)
    found = 0
    for at in went_over_s:
        mark = next((mark for mark in left if at <= mark <= at + MARKED_WITHIN_S), None)
        if mark is not None:
            left.remove(mark)
            found += 1
    count = len(went_over_s)
    if not count:
        raise ConflictError("It never went over: there is nothing to tell.")
    nothing = f"; {len(left)} marked where nothing happened" if left else ""
    said = f"It went over {count} times; {found} marked within {MARKED_WITHIN_S:g} s, {count - found} missed{nothing}."
    return {"rounds": count, "found": found, "missed": count - found, "for_nothing": len(left), "said": said}


def _percent(chance: float) -> str:
    percent = 100.0 * chance
    return f"{percent:.0f} %" if percent >= 10.0 else f"{percent:.2g} %"
