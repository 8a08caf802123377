"""Blind tests: the odds against scipy's, rounds that cannot be foreseen, what marks are worth."""

import itertools
import random

import pytest
from scipy import stats

from reins.core.trials.blind import Blind, as_uneven, at_least, told, told_by_itself
from reins.errors import ConflictError

NAMES = {"a": "draft 1", "b": "source"}


@pytest.mark.parametrize("rounds", [1, 2, 7, 12, 40, 200])
def test_the_odds_are_those_of_the_binomial_test(rounds):
    for right in range(0, rounds + 1, max(1, rounds // 7)):
        one_sided = stats.binomtest(right, rounds, 0.5, alternative="greater").pvalue
        assert at_least(right, rounds) == pytest.approx(one_sided, rel=1e-9)
        assert as_uneven(right, rounds) == pytest.approx(stats.binomtest(right, rounds, 0.5).pvalue, rel=1e-9)


def test_nine_of_ten_right_as_tables_have_it():
    blind = Blind("which", random.Random(1))
    for turn in range(10):
        x = blind.heard("x")
        other = "b" if x == "a" else "a"
        assert blind.answer(x if turn else other) == turn + 1
    made = told(blind, NAMES)

    assert (made["rounds"], made["right"]) == (10, 9)
    assert made["probability"] == pytest.approx(11 / 1024)  # handbook tables: 0.0107
    assert made["said"].startswith("9 of 10 right") and "1.1 %" in made["said"]


def test_what_is_hidden_is_drawn_anew_and_either_comes_about_as_often():
    blind, seen = Blind("which", random.Random(3)), []
    for _ in range(200):
        assert (blind.heard("a"), blind.heard("b")) == ("a", "b")
        seen.append(blind.heard("x"))
        blind.answer("a")
    assert 75 < seen.count("a") < 125
    changes = sum(one != other for one, other in itertools.pairwise(seen))
    assert 70 < changes < 130
    with pytest.raises(ConflictError, match="enough"):
        blind.answer("a")


def test_preferring_is_told_by_what_it_was_not_by_what_came_first():
    blind = Blind("prefer", random.Random(5))
    for _ in range(8):
        assert {blind.heard("first"), blind.heard("second")} == {"a", "b"}
        blind.answer("first" if blind.heard("first") == "b" else "second")
    made = told(blind, NAMES)
    assert made["preferred"] == {"a": 0, "b": 8} and made["probability"] == pytest.approx(2 / 256)
    assert "“source” preferred in 8 of 8" in made["said"]


def test_marks_count_once_and_only_after_it_went_over():
    made = told_by_itself([4.0, 9.0, 15.0], [3.0, 4.5, 4.6, 17.6])
    assert (made["found"], made["missed"], made["for_nothing"]) == (1, 2, 3)
    with pytest.raises(ConflictError, match="never"):
        told_by_itself([], [1.0])


def test_what_is_not_heard_or_answered_in_a_kind_is_refused():
    blind = Blind("which", random.Random(1))
    for wrong in ("first", "tuba", ""):
        with pytest.raises(ConflictError, match="allowed"):
            blind.heard(wrong)
        with pytest.raises(ConflictError, match="allowed"):
            blind.answer(wrong)
    with pytest.raises(ConflictError, match="No round"):
        told(blind, NAMES)
    by_itself = Blind("by_itself", random.Random(2))
    waits = [by_itself.interval(4.0) for _ in range(100)]
    assert min(waits) >= 2.0 and max(waits) <= 6.0 and max(waits) - min(waits) > 3.0
