"""Why here: what is said of a moment is what the processor's own run shows there, for every type that holds or lets."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from reins.core.processors import PROCESSORS
from reins.core.trials.running import Trial
from reins.core.trials.why import why_here
from reins.errors import ConflictError
from tests.conftest import RATE


def asked(take, kind, at_s, on=True, **settings):
    raw = {"id": "p", "type": kind, "on": on, "settings": settings}
    return why_here(Trial(take, [parse_entry(raw, "x")]), "p", round(at_s * RATE))


@pytest.fixture
def bursts(make_take):
    """A second of quiet, a second of tone at -6 dB, a second of quiet."""
    t = np.arange(3 * RATE) / RATE
    level = np.where((t >= 1) & (t < 2), 0.5, 0.01)
    return make_take((level * np.sin(2 * np.pi * 1000 * t))[None])


def test_the_attack_on_its_way_all_of_it_and_the_release_are_told_apart(bursts):
    settings = {"threshold_db": -26, "ratio": 4, "knee_db": 0, "attack_ms": 80, "release_ms": 400, "rms_pct": 100}
    early, settled, late, quiet = (asked(bursts, "compressor", at, **settings) for at in (1.03, 1.9, 2.05, 0.5))

    assert settled["heard_db"] == pytest.approx(-6.0, abs=0.1) and settled["acts_from_db"] == -26
    assert settled["gains_db"]["gain_db"] == pytest.approx(-12.75, abs=0.2)  # its mean is 17 dB over, at 4:1
    assert settled["moved_db"] == pytest.approx(-12.75, abs=0.2)
    assert "20.0 dB over the −26.0 dB from which it acts" in settled["sentence"]
    assert "the attack of 80 ms is still on its way" in early["sentence"] and early["wanted_db"]["gain_db"] < -12
    assert "release of 400 ms have not let go" in late["sentence"] and late["gains_db"]["gain_db"] < -8
    assert "wants nothing" in quiet["sentence"]


def test_a_gate_says_its_state_and_three_speeds_who_is_in_charge(bursts):
    gate = {"threshold_db": -20, "hold_ms": 100, "release_ms": 300, "lookahead_ms": 5}
    told = [asked(bursts, "gate", at, **gate)["sentence"] for at in (0.5, 1.5, 2.05, 2.3)]
    for sentence, state in zip(told, ("it is shut", "it is open", "it is holding", "it is closing"), strict=True):
        assert state in sentence
    assert "in charge" in asked(bursts, "three_speed", 1.5, threshold_db=-30)["sentence"]


@pytest.mark.parametrize("kind", PROCESSORS)
def test_every_type_answers_with_what_its_own_run_shows_or_says_that_it_holds_nothing(make_take, noise, kind):
    take = make_take(np.tile(noise, (1, 3)))
    made = PROCESSORS[kind]
    entry = parse_entry({"id": "p", "type": kind, "settings": made.timed_with}, "x")
    try:
        told = why_here(Trial(take, [entry]), "p", 40000)
    except ConflictError as error:
        assert "the same at every moment" in str(error)
        return
    chain = Chain([entry], channels=2, sample_rate=RATE)
    late = chain.latency_frames
    chain.process(np.pad(take.read(0, 60000), ((0, 0), (0, late))))
    ((_, rows, latency),) = chain.gains()
    for name, db in told["gains_db"].items():
        last = rows[name][: 40001 + latency][-144:]
        assert db == pytest.approx(float(last[np.abs(last).argmax()]), abs=0.02)
    assert told["sentence"].endswith(".") and "nan" not in told["sentence"]


def test_what_cannot_be_asked_is_a_sentence(bursts):
    with pytest.raises(ConflictError, match="no sound at that moment"):
        asked(bursts, "compressor", 9.0)
    with pytest.raises(ConflictError, match="is off"):
        asked(bursts, "compressor", 1.0, on=False)
    with pytest.raises(ConflictError, match="the same at every moment"):
        asked(bursts, "room", 1.0)
