"""The tempo that a session's takes have in common, found as they come in."""

import numpy as np
import pytest
import soundfile

from tests.conftest import RATE
from tests.web.conftest import bring_in

SECONDS = 12


def strokes(bpm, every=1, decay_s=0.05, seed=1):
    """A stroke on each so many beats."""
    made, noise = np.zeros(SECONDS * RATE), np.random.default_rng(seed)
    for at in np.arange(0.25, SECONDS - 0.5, every * 60 / bpm):
        first = round(at * RATE)
        rest = np.arange(made.size - first) / RATE
        made[first:] += 0.4 * np.exp(-rest / decay_s) * noise.standard_normal(rest.size)
    return 0.5 * made


def pad():
    return 0.3 * np.sin(2 * np.pi * 220 * np.arange(SECONDS * RATE) / RATE)


@pytest.fixture
def with_takes(client, session_id, tmp_path):
    def bring(**takes):
        for name, made in takes.items():
            soundfile.write(tmp_path / f"{name}.wav", made.clip(-0.99, 0.99), RATE, subtype="PCM_24")
            bring_in(client, session_id, tmp_path / f"{name}.wav")
        return client.get(f"/api/sessions/{session_id}/tempo").json()

    return bring


@pytest.mark.parametrize("bpm", [86, 104, 133])
def test_takes_of_one_piece_have_one(with_takes, bpm):
    told = with_takes(kick=strokes(bpm, 2), snare=strokes(bpm, 2, seed=2), hats=strokes(bpm, 0.5, 0.02), pad=pad())
    assert told["sure"] is True
    assert min(abs(told["found_bpm"] / (bpm * times) - 1) for times in (0.5, 1, 2)) < 0.005


def test_takes_that_go_each_its_own_way_have_none_that_is_sure(with_takes):
    assert with_takes(one=strokes(86), two=strokes(101, seed=2), three=strokes(117, seed=3))["sure"] is False


def test_what_does_not_repeat_has_none(with_takes):
    assert with_takes(pad=pad()) == {"found_bpm": None, "sure": False}


def test_a_session_without_takes_has_none_and_one_that_is_not_there_is_not_found(client, session_id):
    assert client.get(f"/api/sessions/{session_id}/tempo").json() == {"found_bpm": None, "sure": False}
    assert client.get("/api/sessions/nobody/tempo").status_code == 404
