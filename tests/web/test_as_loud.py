"""What is to come out as loud as it comes does so, whatever is changed of it; it belongs to one processor."""

import numpy as np
import pytest
import soundfile

from reins.core.chainfile import parse_entry
from reins.core.dsp.loudness import LoudnessMeter
from reins.core.processors import PROCESSORS
from reins.core.trials.running import Trial
from reins.errors import SettingsError
from reins.services.editing import document_of
from tests.conftest import RATE
from tests.core.test_ducking import speech
from tests.web.conftest import bring_in
from tests.web.test_web import change


@pytest.fixture
def spoken(client, house, session_id, tmp_path):
    """A strip of speech with a compressor, and how much louder its chain makes it now."""
    soundfile.write(tmp_path / "talk.wav", speech()[0].T, RATE, subtype="FLOAT")
    track = bring_in(client, session_id, tmp_path / "talk.wav")["result"]["track_id"]
    place = {"strip_id": track, "processor_id": "p"}
    change(client, session_id, kind="add_processor", type="compressor", **place)
    change(client, session_id, kind="set_processor", settings={"threshold_db": -35, "ratio": 6}, **place)

    def louder():
        document = document_of(house, session_id)
        sound = house.take(document.tracks[track].take_id)
        made = Trial(sound, document.tracks[track].chain, {}, document.beat)
        lufs = []
        for trial in (Trial(sound, []), made):
            meter = LoudnessMeter(sample_rate=RATE)
            for block, _ in trial.run(0, sound.facts.frames, block_frames=RATE):
                meter.feed(block)
            lufs.append(meter.integrated_lufs())
        return lufs[1] - lufs[0]

    def entry():
        return document_of(house, session_id).tracks[track].chain[0]

    return place, louder, entry


def test_it_follows_settings_kind_and_starting_point_within_three_tenths(client, session_id, spoken):
    place, louder, entry = spoken
    assert louder() < -1
    told = change(client, session_id, kind="set_processor", as_loud=True, **place).json()
    assert louder() == pytest.approx(0, abs=0.3) and "as loud as it comes" in told["label"]
    steps = [
        {"kind": "set_processor", "settings": {"threshold_db": -45.0}},
        {"kind": "set_processor", "settings": {"mix_pct": 40}},
        {"kind": "start_from", "name": "Speech, close and steady"},
        {"kind": "change_kind", "type": "optical"},
        {"kind": "change_kind", "type": "fet"},
        {"kind": "set_processor", "settings": {"input_db": 12}},
    ]
    for step in steps:
        assert change(client, session_id, **step, **place).status_code == 200
        assert louder() == pytest.approx(0, abs=0.3), step
        assert entry().as_loud


def test_makeup_set_by_hand_stays_and_nothing_follows_any_more(client, session_id, spoken):
    place, _, entry = spoken
    change(client, session_id, kind="set_processor", as_loud=True, **place)
    change(client, session_id, kind="set_processor", settings={"makeup_db": 3.0}, **place)
    assert entry().settings.makeup_db == 3.0 and not entry().as_loud
    change(client, session_id, kind="set_processor", settings={"threshold_db": -50.0}, **place)
    assert entry().settings.makeup_db == 3.0


def test_it_is_the_processors_own_and_kept_with_it(client, session_id, spoken):
    place, _, entry = spoken
    change(client, session_id, kind="set_processor", as_loud=True, **place)
    other = place | {"processor_id": "q"}
    change(client, session_id, kind="add_processor", type="compressor", **other)
    before = entry().settings
    change(client, session_id, kind="set_processor", settings={"threshold_db": -40.0}, **other)
    assert entry().settings == before
    told = client.get(f"/api/sessions/{session_id}").json()["document"]["tracks"][place["strip_id"]]["chain"]
    assert told[0]["as_loud"] is True and "as_loud" not in told[1]


@pytest.mark.parametrize("kind", [kind for kind, made in PROCESSORS.items() if not made.may_be_as_loud])
def test_what_is_meant_to_make_quieter_is_refused(client, session_id, spoken, kind):
    place, _, _ = spoken
    change(client, session_id, kind="add_processor", type=kind, **place | {"processor_id": "q"})
    refused = change(client, session_id, kind="set_processor", as_loud=True, **place | {"processor_id": "q"})
    assert refused.status_code == 409 and "meant to make quieter" in refused.json()["error"]


def test_silence_is_changed_all_the_same(client, session_id, tmp_path):
    soundfile.write(tmp_path / "still.wav", np.zeros(RATE), RATE)
    track = bring_in(client, session_id, tmp_path / "still.wav")["result"]["track_id"]
    place = {"strip_id": track, "processor_id": "p"}
    change(client, session_id, kind="add_processor", type="compressor", **place)
    assert change(client, session_id, kind="set_processor", as_loud=True, **place).status_code == 200
    assert change(client, session_id, kind="set_processor", settings={"ratio": 3}, **place).status_code == 200


@pytest.mark.parametrize("kind", [kind for kind, made in PROCESSORS.items() if not made.may_be_as_loud])
def test_no_file_makes_them_so(kind):
    with pytest.raises(SettingsError, match="as_loud is true; allowed: false"):
        parse_entry({"type": kind, "as_loud": True, "settings": {}}, "x")


def test_switching_it_off_and_on_measures_nothing(client, session_id, spoken, monkeypatch):
    place, _, entry = spoken
    change(client, session_id, kind="set_processor", as_loud=True, **place)
    before = entry().settings
    monkeypatch.setattr("reins.services.fitting.match_makeup", lambda *_: pytest.fail("measured"))
    for on in (False, True):
        assert change(client, session_id, kind="set_processor", on=on, **place).status_code == 200
    assert entry().settings == before
