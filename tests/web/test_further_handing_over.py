"""Bringing in and handing over, further: other takes, pairs, marks on the ruler, parts, names, loudness."""

import numpy as np
import pytest
import soundfile

from reins.core.dsp.loudness import LoudnessMeter
from reins.core.stereo import stereo_pairs
from reins.services.editing import document_of
from tests.conftest import RATE
from tests.web.conftest import bring_in
from tests.web.test_web import change


def wav(path, samples, rate=RATE):
    soundfile.write(path, samples, rate, subtype="FLOAT")
    return path


def done(client, answer):
    job = answer.json()
    while job["state"] == "running":
        job = client.get(f"/api/jobs/{job['id']}").json()
    return job


def written(client, answer, tmp_path):
    job = done(client, answer)
    assert job["state"] == "done", job
    path = tmp_path / "got.wav"
    path.write_bytes(client.get(f"/api/jobs/{job['id']}/file").content)
    return soundfile.read(path)[0], job["result"]


@pytest.fixture
def tone(tmp_path):
    """Three seconds that get louder each second."""
    n = np.arange(3 * RATE)
    return np.sin(2 * np.pi * 440 * n / RATE) * np.repeat([0.05, 0.1, 0.2], RATE)


def test_names_that_end_in_left_and_right_belong_together():
    names = {
        "a": "Guitar L",
        "b": "Guitar R",
        "c": "room.l",
        "d": "room.r",
        "e": "Keys_left",
        "f": "Keys_Right",
        "g": "Ladder",
    }
    assert stereo_pairs(names) == [("a", "b", "Guitar"), ("c", "d", "room"), ("e", "f", "Keys")]
    assert stereo_pairs({"a": "Tom L", "b": "Tom L", "c": "Tom R"}) == []


def test_a_take_is_replaced_and_the_chain_stays(client, house, session_id, tmp_path, tone):
    track = bring_in(client, session_id, wav(tmp_path / "One.wav", tone))["result"]["track_id"]
    change(client, session_id, kind="add_processor", strip_id=track, type="gate", processor_id="p")
    before = document_of(house, session_id).tracks[track]

    with wav(tmp_path / "Two.wav", tone[:RATE], 44100).open("rb") as file:
        job = done(client, client.post(f"/api/sessions/{session_id}/tracks/{track}/take", files={"file": file}))

    after = document_of(house, session_id).tracks[track]
    assert after.take_id != before.take_id and after.chain == before.chain and after.name == "One"
    assert "44.1 kHz, the session 48" in job["result"]["said"]
    client.post(f"/api/sessions/{session_id}/undo")
    assert document_of(house, session_id).tracks[track] == before
    with wav(tmp_path / "Three.wav", tone).open("rb") as file:
        refused = client.post(f"/api/sessions/{session_id}/tracks/none/take", files={"file": file})
    assert refused.status_code == 404


def test_two_mono_tracks_become_one_stereo_track(client, house, session_id, tmp_path, tone):
    left = bring_in(client, session_id, wav(tmp_path / "Keys L.wav", tone))["result"]["track_id"]
    right = bring_in(client, session_id, wav(tmp_path / "Keys R.wav", 0.5 * tone))["result"]["track_id"]
    bass = bring_in(client, session_id, wav(tmp_path / "Bass.wav", tone))["result"]["track_id"]
    change(client, session_id, kind="add_processor", strip_id=bass, type="ducker", processor_id="p")
    change(
        client,
        session_id,
        kind="set_processor",
        strip_id=bass,
        processor_id="p",
        settings={"key.source": f"{right}/after"},
    )
    change(client, session_id, kind="set_strip", strip_id=right, values={"inverted": True})
    change(client, session_id, kind="add_processor", strip_id=left, type="gate", processor_id="g")
    follows = {"key.source": f"{right}/before"}
    change(client, session_id, kind="set_processor", strip_id=left, processor_id="g", settings=follows)
    pairs = client.get(f"/api/sessions/{session_id}").json()["pairs"]
    assert pairs == [[left, right, "Keys"]]

    body = {"left_id": left, "right_id": right, "name": "Keys"}
    assert done(client, client.post(f"/api/sessions/{session_id}/pair", json=body))["state"] == "done"

    document = document_of(house, session_id)
    joined = document.tracks[left]
    sound = house.takes(document)[joined.take_id].read(0, len(tone))
    np.testing.assert_allclose(sound, [tone, -0.5 * tone], atol=1e-6)
    assert joined.chain[0].settings.key.source == "self"
    assert joined.name == "Keys" and document.order == [left, bass]
    assert document.tracks[bass].chain[0].settings.key.source == f"{left}/after"
    again = done(client, client.post(f"/api/sessions/{session_id}/pair", json=body | {"right_id": bass}))
    assert again["state"] == "failed" and "not two mono takes" in again["message"]


def test_marks_are_put_moved_renamed_and_taken_away(client, house, session_id):
    for name, frame in (("Chorus", 3 * RATE), ("Verse", RATE)):
        change(client, session_id, kind="put_place", place_id=name, name=name, at_frame=frame)
    assert [place.name for place in document_of(house, session_id).places] == ["Verse", "Chorus"]

    change(client, session_id, kind="put_place", place_id="Verse", at_frame=4 * RATE)
    told = change(client, session_id, kind="put_place", place_id="Verse", name="Bridge").json()
    assert [(p.name, p.at_frame) for p in document_of(house, session_id).places][1] == ("Bridge", 4 * RATE)
    assert told["label"] == "Session: mark “Bridge” renamed from “Verse”"
    change(client, session_id, kind="remove_place", place_id="Verse")
    assert [place.name for place in document_of(house, session_id).places] == ["Chorus"]
    assert change(client, session_id, kind="put_place", name="x").status_code == 409
    assert change(client, session_id, kind="remove_place", place_id="Verse").status_code == 404


def test_a_part_is_the_same_samples_as_in_the_whole_under_a_name_by_pattern(client, session_id, tmp_path, tone):
    track = bring_in(client, session_id, wav(tmp_path / "Tone.wav", tone))["result"]["track_id"]
    change(client, session_id, kind="add_processor", strip_id=track, type="compressor", processor_id="p")
    settings = {"threshold_db": -40}
    change(client, session_id, kind="set_processor", strip_id=track, processor_id="p", settings=settings)
    part = {"from_frame": RATE, "to_frame": 2 * RATE, "bits": "32f", "names": "{session} {name} {date}"}
    for way in (f"strips/{track}/export", "mix"):
        whole, _ = written(client, client.post(f"/api/sessions/{session_id}/{way}", json={"bits": "32f"}), tmp_path)
        some, result = written(client, client.post(f"/api/sessions/{session_id}/{way}", json=part), tmp_path)
        np.testing.assert_array_equal(some, whole[RATE : 2 * RATE])
        assert result["name"].startswith(document_name(client, session_id)) and result["name"].endswith(".wav")

    url = f"/api/sessions/{session_id}/mix"
    assert "before it begins" in client.post(url, json={"from_frame": 9, "to_frame": 5}).json()["error"]
    assert "{title} is not known" in client.post(url, json={"names": "{title}"}).json()["error"]
    late = done(client, client.post(url, json={"from_frame": 99 * RATE, "to_frame": 100 * RATE}))
    assert late["state"] == "failed" and "after the end" in late["message"]


def document_name(client, session_id):
    return client.get(f"/api/sessions/{session_id}").json()["document"]["name"]


def test_the_mix_is_measured_and_the_fader_that_would_do_is_said(client, house, session_id, tmp_path, tone):
    tone[1000] = 0.9  # a click that is louder than all else
    bring_in(client, session_id, wav(tmp_path / "Tone.wav", np.stack([tone, tone], axis=1)))
    meter = LoudnessMeter(sample_rate=RATE)
    meter.feed(np.stack([tone, tone]))

    url = f"/api/sessions/{session_id}/loudness"
    told = done(client, client.post(url, json={"target_lufs": -16}))["result"]
    assert told["integrated_lufs"] == pytest.approx(meter.integrated_lufs(), abs=0.1)
    change(client, session_id, kind="set_strip", strip_id="master", values={"fader_db": told["fader_db"]})
    again = done(client, client.post(url, json={"target_lufs": -16}))["result"]
    assert again["integrated_lufs"] == pytest.approx(-16.0, abs=0.1) and again["fader_db"] == told["fader_db"]
    loud = done(client, client.post(url, json={"target_lufs": -6}))["result"]
    assert "over full scale" in loud["said"] and "as far as the fader goes" in loud["said"]
    assert client.post(url, json={"target_lufs": 3}).status_code == 422


def test_there_is_nothing_to_measure_in_an_empty_session(client, session_id):
    job = done(client, client.post(f"/api/sessions/{session_id}/loudness", json={"target_lufs": -16}))
    assert job["state"] == "failed" and "nothing to measure" in job["message"]
