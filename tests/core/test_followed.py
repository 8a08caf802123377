"""Floor and ceiling of a rein are laid by its key: at rest between its hits, all the way there at the loud ones."""

import re

import numpy as np
import pytest

from reins.core.moves.models import ByKey
from reins.core.trials.followed import floor_and_ceiling, followed
from tests.conftest import RATE, sound_of

HITS_S = np.arange(0.5, 7.5, 0.5)


def strokes(level_db, room_db=-120.0):
    t = np.arange(8 * RATE) / RATE
    made = 10 ** (room_db / 20) * np.sin(2 * np.pi * 200 * t)
    for at in HITS_S:
        made += 0.5 * np.exp(-np.maximum(t - at, 0) / 0.05) * (t >= at) * np.sin(2 * np.pi * 80 * t)
    return sound_of(10 ** (level_db / 20) * made[None])


@pytest.mark.parametrize("level_db", [0, -20, -40])
@pytest.mark.parametrize("room_db", [-120, -26])
def test_it_rests_between_hits_and_is_there_at_them_whatever_the_level(level_db, room_db):
    key, silent = strokes(level_db, room_db), sound_of(np.zeros((1, 8 * RATE)))
    by = ByKey.model_validate({"key": {"source": "k"}})

    laid, said = floor_and_ceiling(by, silent, {"k": key})

    edges = np.arange(0, 8 * RATE + 1, RATE // 100)
    _, value = followed(by.model_copy(update=laid), silent, {"k": key}, edges)
    at_hits = [value[round(at * 100) : round(at * 100) + 6].max() for at in HITS_S]
    before = [value[round(at * 100) - 4 : round(at * 100) - 1].max() for at in HITS_S[1:]]
    assert np.median(at_hits) > 0.9 and np.median(before) < 0.1
    there, rest = (int(one) for one in re.findall(r"(\d+) %", said))
    assert there == pytest.approx(100 * np.mean(value >= 0.9), abs=1)
    assert rest == pytest.approx(100 * np.mean(value <= 0.02), abs=1)


@pytest.mark.parametrize("level_db", [0, -20])
def test_short_strokes_out_of_a_hiss_are_what_it_goes_by(level_db):
    """They are loud for less than a twentieth of the time: the hiss must not pass for loud."""
    t = np.arange(8 * RATE) / RATE
    made = 0.003 * np.random.default_rng(1).standard_normal(t.size)
    for at in HITS_S[::2]:
        made += 0.4 * np.exp(-np.maximum(t - at, 0) / 0.006) * (t >= at) * np.sin(2 * np.pi * 150 * t)
    key, silent = sound_of(10 ** (level_db / 20) * made[None]), sound_of(np.zeros((1, 8 * RATE)))
    by = ByKey.model_validate({"key": {"source": "k"}, "attack_ms": 1.0})

    laid, _ = floor_and_ceiling(by, silent, {"k": key})

    _, value = followed(by.model_copy(update=laid), silent, {"k": key}, np.arange(0, 8 * RATE + 1, RATE // 100))
    assert np.median([value[round(at * 100) : round(at * 100) + 6].max() for at in HITS_S[::2]]) > 0.9
    assert np.median(value) < 0.1 and laid["ceiling_db"] > 20 * np.log10(0.1) + level_db


def test_a_silent_key_lays_nothing():
    silent = sound_of(np.zeros((1, RATE)))
    assert floor_and_ceiling(ByKey(), silent, {}) == ({}, "")
