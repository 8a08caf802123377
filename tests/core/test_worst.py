"""The worst places: planted depths, lengths and chatter are found where they were put; louder or quieter now."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.dsp.loudness import LoudnessMeter
from reins.core.engine.watching import Louder
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from reins.core.trials.worst import worst_places
from tests.conftest import RATE, sound_of


def places(sound, kind, **settings):
    entry = parse_entry({"id": "p", "type": kind, "settings": settings}, "x")
    span = measure_span(Trial(sound_of(sound), [entry]), "p", 0, sound.shape[1])
    kinds = ("deepest", "longest", "restless", "loudest")
    return {what: [p for p in worst_places(span, RATE) if p.kind == what] for what in kinds}


def tone(level_db, seconds):
    t = np.arange(round(seconds * RATE)) / RATE
    return 10 ** (level_db / 20) * np.sin(2 * np.pi * 330 * t)


def test_depths_and_lengths_are_found_where_they_were_put():
    parts = [(-40, 1), (-10, 0.3), (-40, 1.7), (-16, 1.5), (-40, 1.5), (-4, 0.1), (-40, 1)]
    sound = np.concatenate([tone(*part) for part in parts])[None]
    found = places(sound, "compressor", threshold_db=-24, ratio=100, attack_ms=1, release_ms=40, knee_db=0)

    deepest = found["deepest"]
    assert [int(p.at_s) for p in deepest[:2]] == [6, 1] and 3.0 < deepest[2].at_s < 4.6
    assert [p.figure for p in deepest[:3]] == pytest.approx([-20, -14, -8], abs=0.8)
    longest = found["longest"][0]
    assert longest.at_s == pytest.approx(3.0, abs=0.05) and longest.figure == pytest.approx(1.6, abs=0.15)
    assert "held 20" in deepest[0].said or "held 19" in deepest[0].said


def test_the_loudest_moments_are_found_in_their_order():
    parts = [(-40, 1), (-10, 0.3), (-40, 1.7), (-16, 0.5), (-40, 1.5), (-4, 0.1), (-40, 1)]
    sound = np.concatenate([tone(*part) for part in parts])[None]

    found = places(sound, "compressor", threshold_db=0, knee_db=0)["loudest"]

    assert [int(p.at_s) for p in found[:3]] == [5, 1, 3]
    assert [p.figure for p in found[:3]] == pytest.approx([-4, -10, -16], abs=0.2)
    assert found[0].said == "comes out at −4.0 dBFS"


def test_pumping_and_chatter_are_found_and_a_still_hold_is_neither():
    rng = np.random.default_rng(4)
    still = tone(-10, 4.0)
    pumping = np.concatenate([part for _ in range(8) for part in (tone(-6, 0.125), tone(-40, 0.125))])
    sound = np.concatenate([still, pumping, still])[None] + 1e-5 * rng.standard_normal((1, 10 * RATE))
    found = places(sound, "compressor", threshold_db=-24, ratio=100, attack_ms=1, release_ms=20)["restless"]
    assert len(found) >= 1 and 3.5 < found[0].at_s < 5.5 and found[0].figure > 80
    assert all(p.figure < 0.3 * found[0].figure for p in found if not 3.0 <= p.at_s <= 6.0)

    gate = places(sound, "gate", threshold_db=-24, hold_ms=0, release_ms=5, hysteresis_db=0)["restless"]
    assert 3.0 < gate[0].at_s < 6.0 and gate[0].figure == pytest.approx(4.0, abs=1.1) and "openings" in gate[0].said
    held = places(still[None], "compressor", threshold_db=-24, release_ms=300)["restless"]
    assert all(p.at_s < 0.1 for p in held)  # where it begins, and nowhere else


@pytest.mark.parametrize("gain_db", [-6.0, 3.0])
def test_louder_or_quieter_than_what_comes_is_told_in_lu(gain_db):
    rng, louder = np.random.default_rng(1), Louder(RATE)
    told = None
    for _ in range(100):
        block = 0.1 * rng.standard_normal((2, 1024))
        told = louder.feed(block, block * 10 ** (gain_db / 20))
    assert told == pytest.approx(gain_db, abs=0.01)
    assert louder.feed(np.zeros((2, 4 * RATE)), np.zeros((2, 4 * RATE))) is None
    meter = LoudnessMeter(sample_rate=RATE)
    meter.feed(np.zeros((1, RATE)))
    assert meter.latest_lufs(4) is None
