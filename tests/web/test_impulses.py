"""A room's own response over HTTP: in, used, out with the session file and in again, refused when it is wrong."""

import json
import zipfile

import numpy as np
import soundfile

from reins.services.editing import document_of
from tests.conftest import RATE
from tests.web.conftest import finished
from tests.web.test_handing_over import mix_of, opened, session_file, wav
from tests.web.test_web import change


def place(session_id, track_id, processor_id="r"):
    return f"/api/sessions/{session_id}/strips/{track_id}/processors/{processor_id}/impulses"


def bring_in_response(client, url, path):
    with path.open("rb") as file:
        return finished(client, client.post(url, files={"file": (path.name, file)}).json())


def with_room(client, session_id, track_id):
    change(client, session_id, kind="add_processor", strip_id=track_id, type="room", processor_id="r")


def hall(tmp_path, seconds=0.2, rate=44100, name="Hall.wav"):
    rng, frames = np.random.default_rng(2), round(seconds * rate)
    return wav(tmp_path / name, 0.2 * rng.standard_normal((2, frames)), rate=rate)


def test_it_is_one_step_and_a_session_file_brings_it_back(client, house, session_id, track_id, tmp_path):
    with_room(client, session_id, track_id)
    dry = mix_of(house, session_id)
    job = bring_in_response(client, place(session_id, track_id), hall(tmp_path))
    take_id = job["result"]["take_id"]
    document = document_of(house, session_id)

    assert document.impulses == {take_id: "Hall"} and document.tracks[track_id].chain[0].settings.impulse == take_id
    assert house.take(take_id).facts.sample_rate == RATE
    assert client.get(f"/api/sessions/{session_id}").json()["undo"].endswith("response “Hall” brought in")
    wet = mix_of(house, session_id)
    assert np.abs(wet[:, : dry.shape[1]] - dry[:, : wet.shape[1]]).max() > 1e-3

    raw = session_file(client, session_id)
    again = document_of(house, opened(client, raw)["result"]["session_id"])
    (own,) = again.impulses
    (track,) = again.tracks.values()
    assert own != take_id and track.chain[0].settings.impulse == own and again.impulses[own] == "Hall"
    new = mix_of(house, session_id, again)
    assert new.shape == wet.shape
    np.testing.assert_allclose(new, wet, atol=1e-6)  # recorded at another rate: the response was rounded to 24 bits


def test_the_command_renders_a_session_with_it_as_it_is_heard(client, house, session_id, track_id, tmp_path):
    from typer.testing import CliRunner

    from reins.cli import app

    with_room(client, session_id, track_id)
    bring_in_response(client, place(session_id, track_id), hall(tmp_path, rate=RATE))
    (tmp_path / "x.reins.zip").write_bytes(session_file(client, session_id))
    (tmp_path / "out").mkdir()
    heard = mix_of(house, session_id)
    command = ["render", str(tmp_path / "x.reins.zip"), "-o", str(tmp_path / "out"), "--bits", "32f", "--mix"]
    run = CliRunner().invoke(app, command)

    assert run.exit_code == 0, run.output
    made, _ = soundfile.read(next((tmp_path / "out").glob("*mix*.wav")), always_2d=True)
    np.testing.assert_array_equal(made.T, heard.astype(np.float32))


def test_a_wrong_one_is_a_sentence_and_leaves_nothing(client, house, session_id, track_id, tmp_path):
    with_room(client, session_id, track_id)
    change(client, session_id, kind="add_processor", strip_id=track_id, type="gate", processor_id="g")
    before, takes = document_of(house, session_id), set(house.takes_dir.iterdir())
    text = tmp_path / "words.wav"
    text.write_text("no sound")

    for url, path, sentence in (
        (place(session_id, track_id), text, "words.wav"),
        (place(session_id, track_id), hall(tmp_path, seconds=20.5, rate=8000, name="long.wav"), "up to 20 s"),
        (place(session_id, track_id, "g"), hall(tmp_path), "uses no response"),
        (place(session_id, track_id, "none"), hall(tmp_path), "There is no processor"),
    ):
        job = bring_in_response(client, url, path)
        assert job["state"] == "failed" and sentence in job["message"], (path, job)
    assert document_of(house, session_id) == before and set(house.takes_dir.iterdir()) == takes
    assert not list(house.passing_dir.iterdir())

    body = {"kind": "set_processor", "strip_id": track_id, "processor_id": "r", "settings": {"impulse": "elsewhere"}}
    answer = client.post(f"/api/sessions/{session_id}/changes", json=body)
    assert answer.status_code == 422 and "not in this session" in answer.text


def test_a_session_file_whose_response_has_no_take_is_refused(client, session_id, track_id, tmp_path):
    with_room(client, session_id, track_id)
    bring_in_response(client, place(session_id, track_id), hall(tmp_path))
    (tmp_path / "x.zip").write_bytes(session_file(client, session_id))
    with zipfile.ZipFile(tmp_path / "x.zip") as packed:
        document = json.loads(packed.read("session.json"))
        (take_id,) = document["session"]["impulses"]
        del document["takes"][take_id]
        with zipfile.ZipFile(tmp_path / "y.zip", "w") as spoiled:
            for name in packed.namelist():
                spoiled.writestr(name, json.dumps(document) if name == "session.json" else packed.read(name))

    job = opened(client, (tmp_path / "y.zip").read_bytes())
    assert job["state"] == "failed" and "the response “Hall”" in job["message"]


def test_a_copy_of_the_session_has_a_response_of_its_own(client, house, session_id, track_id, tmp_path):
    with_room(client, session_id, track_id)
    take_id = bring_in_response(client, place(session_id, track_id), hall(tmp_path))["result"]["take_id"]
    copy = client.post(f"/api/sessions/{session_id}/copy").json()["id"]
    document = document_of(house, copy)
    (own,) = document.impulses
    (track,) = document.tracks.values()

    assert own != take_id and track.chain[0].settings.impulse == own
    np.testing.assert_array_equal(mix_of(house, copy), mix_of(house, session_id))
    client.delete(f"/api/sessions/{session_id}")
    assert house.take(own).facts.frames > 0
