"""A reference beside the mix: brought in, as loud as that, heard from where that is, and never a part of it."""

import json
import zipfile

import numpy as np

from reins.core.dsp.loudness import LoudnessMeter
from reins.core.engine.listening import Listening
from reins.core.engine.live import LiveClock
from reins.core.engine.mixer import Mixer
from reins.core.time import Stream
from reins.errors import StorageError
from reins.services.editing import document_of
from tests.conftest import RATE
from tests.web.conftest import finished
from tests.web.test_handing_over import mix_of, opened, session_file, wav


def lay(client, session_id, path):
    with path.open("rb") as file:
        answer = client.post(f"/api/sessions/{session_id}/reference", files={"file": (path.name, file)})
    return finished(client, answer.json())


def gain(client, session_id):
    return client.post(f"/api/sessions/{session_id}/reference/gain", json={"desk": "d", "number": 1})


def finished_mix(tmp_path, level=0.4, seconds=1.5, name="Other ferry.wav"):
    rng = np.random.default_rng(4)
    return wav(tmp_path / name, level * rng.standard_normal((2, round(seconds * RATE))).clip(-2, 2) / 2)


def lufs(sound):
    meter = LoudnessMeter(sample_rate=RATE)
    meter.feed(np.ascontiguousarray(sound))
    return meter.integrated_lufs()


def test_it_is_as_loud_as_the_mix_heard_from_where_that_is_and_over_and_over(
    client, house, session_id, track_id, tmp_path
):
    mix = mix_of(house, session_id)
    assert lay(client, session_id, finished_mix(tmp_path))["state"] == "done"
    document = document_of(house, session_id)
    assert document.reference.name == "Other ferry" and [*document.tracks] == [track_id]
    np.testing.assert_array_equal(mix_of(house, session_id), mix)  # it is in nothing that is made

    told = gain(client, session_id).json()
    take = house.take(document.reference.take_id)
    mixer = Mixer(document, house.takes_there(document)[0])
    mixer.listen(Listening("reference", gain_db=told["gain_db"]))
    mixer.start(Stream(RATE // 2))
    heard = np.concatenate([mixer.process(1000) for _ in range(96)], axis=1)
    length = take.facts.frames
    wanted = take.read(0, length)[:, (RATE // 2 + np.arange(96000)) % length] * 10 ** (told["gain_db"] / 20)
    np.testing.assert_allclose(heard[:, 1000:], wanted[:, 1000:], atol=1e-12)  # the first fades in
    whole = take.read(0, length) * 10 ** (told["gain_db"] / 20)
    assert abs(lufs(whole) - lufs(mix)) < 0.05 and abs(told["mix_lufs"] - lufs(mix)) < 0.02


def test_one_that_cannot_be_read_is_silent_and_said_and_the_mix_plays_on(
    client, house, session_id, track_id, tmp_path, monkeypatch
):
    lay(client, session_id, finished_mix(tmp_path))
    document = document_of(house, session_id)
    clock = LiveClock(document, house.takes_there(document)[0])

    def cut(*_):
        raise StorageError("its recording was cut short")

    monkeypatch.setattr(house.take(document.reference.take_id), "read", cut)
    clock.listen(Listening("reference"))
    clock.play(0)
    silent = clock.next_block()
    (sentence,) = clock.failures().values()
    clock.listen(Listening("result"))
    clock.next_block()  # fades over

    assert not silent.samples.any() and sentence == "The reference “Other ferry”: its recording was cut short"
    assert np.abs(clock.next_block().samples).max() > 0.1


def test_a_session_file_and_a_copy_have_it_and_it_is_taken_away_and_back(client, house, session_id, track_id, tmp_path):
    lay(client, session_id, finished_mix(tmp_path, seconds=0.6))
    again = document_of(house, opened(client, session_file(client, session_id))["result"]["session_id"])
    copy = document_of(house, client.post(f"/api/sessions/{session_id}/copy").json()["id"])
    own = document_of(house, session_id).reference
    for other in (again.reference, copy.reference):
        assert other.name == "Other ferry" and other.take_id != own.take_id
        np.testing.assert_allclose(house.take(other.take_id).read(0, 2000), house.take(own.take_id).read(0, 2000))

    change = f"/api/sessions/{session_id}/changes"
    answer = client.post(change, json={"kind": "remove_reference"}).json()
    assert answer["label"] == "Session: reference “Other ferry” away"
    assert document_of(house, session_id).reference is None
    assert client.post(change, json={"kind": "remove_reference"}).json()["error"].startswith("There is no reference")
    client.post(f"/api/sessions/{session_id}/undo")
    assert document_of(house, session_id).reference == own


def test_what_cannot_be_compared_is_said(client, house, session_id, track_id, tmp_path):
    assert "bring one in" in gain(client, session_id).json()["error"]
    lay(client, session_id, finished_mix(tmp_path, level=0.0, name="Nothing.wav"))
    assert gain(client, session_id).json()["error"].startswith("“Nothing” is too quiet")
    (tmp_path / "words.wav").write_text("no sound")
    job = lay(client, session_id, tmp_path / "words.wav")
    assert job["state"] == "failed" and "words.wav" in job["message"]
    assert document_of(house, session_id).reference.name == "Nothing"


def test_a_session_file_that_lacks_its_take_is_refused(client, session_id, track_id, tmp_path):
    lay(client, session_id, finished_mix(tmp_path, seconds=0.6))
    raw, broken = session_file(client, session_id), tmp_path / "broken.reins.zip"
    (tmp_path / "whole.zip").write_bytes(raw)
    with zipfile.ZipFile(tmp_path / "whole.zip") as whole, zipfile.ZipFile(broken, "w") as packed:
        written = json.loads(whole.read("session.json"))
        del written["takes"][written["session"]["reference"]["take_id"]]
        packed.writestr("session.json", json.dumps(written))
    assert "the reference “Other ferry”: its take is not among takes" in opened(client, broken.read_bytes())["message"]


def test_a_change_that_is_refused_says_that_nothing_was_changed_and_a_question_does_not(client, session_id):
    change = f"/api/sessions/{session_id}/changes"
    refused = client.post(change, json={"kind": "remove_reference"}).json()["error"]
    assert refused == "There is no reference to take away; bring one in first. Nothing was changed."
    full = client.post(change, json={"kind": "put_place", "place_id": "x"}).json()["error"]
    assert full == "A mark needs a place: say where it lies, in frames. Nothing was changed."
    assert not gain(client, session_id).json()["error"].endswith("changed.")
