"""The tempo that takes of one piece have in common; and that takes of several have none."""

import numpy as np
import pytest

from reins.core.finding.marks import Marks
from reins.core.trials.common_tempo import common_tempo
from tests.conftest import RATE, sound_of

SECONDS = 8


def strokes(bpm, every=1, decay_s=0.05, seed=1):
    """A stroke on each so many beats."""
    made, noise = np.zeros(SECONDS * RATE), np.random.default_rng(seed)
    for at in np.arange(0.25, SECONDS - 0.5, every * 60 / bpm):
        first = round(at * RATE)
        rest = np.arange(made.size - first) / RATE
        made[first:] += 0.2 * np.exp(-rest / decay_s) * noise.standard_normal(rest.size)
    return made


def pad():
    return 0.3 * np.sin(2 * np.pi * 220 * np.arange(SECONDS * RATE) / RATE)


def together(*takes):
    return common_tempo([Marks.of(sound_of(made[None])) for made in takes])


@pytest.mark.parametrize("bpm", [86, 133])
def test_takes_of_one_piece_have_one(bpm):
    told = together(strokes(bpm, 2), strokes(bpm, 1, seed=2), pad())
    assert told.sure
    assert min(abs(told.found_bpm / (bpm * times) - 1) for times in (0.5, 1, 2)) < 0.005


def test_takes_that_go_each_its_own_way_have_none_that_is_sure():
    assert not together(strokes(86), strokes(101, seed=2), strokes(117, seed=3)).sure


def test_what_does_not_repeat_has_none():
    told = together(pad())
    assert told.found_bpm is None and not told.sure
