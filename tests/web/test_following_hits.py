"""Hits of a take as a key in a session: found when first followed, corrected once for all that follow, kept."""

import numpy as np
import pytest
import soundfile

from reins.core.engine.mixer import Mixer
from reins.core.engine.offline import render_mix
from reins.services.editing import document_of
from tests.conftest import RATE
from tests.web.conftest import bring_in, finished
from tests.web.test_handing_over import opened, session_file
from tests.web.test_live import Listener, offline
from tests.web.test_web import change

STROKES = (0.25, 0.75, 1.25, 1.75)


def strokes(at_s, seconds=2.2):
    t = np.arange(round(seconds * RATE)) / RATE
    noise = np.random.default_rng(5).standard_normal(t.size)
    return sum(0.2 * noise * np.exp(-np.maximum(t - at, 0) / 0.03) * (t >= at) for at in at_s)


@pytest.fixture
def two(client, session_id, tmp_path):
    """Ids of a drum and of a tone that ducks by its hits."""
    soundfile.write(tmp_path / "Drum.wav", strokes(STROKES), RATE, subtype="PCM_24")
    soundfile.write(tmp_path / "Tone.wav", 0.1 * np.ones(round(2.2 * RATE)), RATE, subtype="PCM_24")
    drum, tone = (
        bring_in(client, session_id, tmp_path / f"{name}.wav")["result"]["track_id"] for name in ("Drum", "Tone")
    )
    change(client, session_id, kind="add_processor", strip_id=tone, type="ducker", processor_id="d")
    return drum, tone


def follow(client, session_id, tone, source, **more):
    at = {"strip_id": tone, "processor_id": "d", "settings": {"key.source": source}}
    return change(client, session_id, kind="set_processor", **at, **more)


def hits_s(house, session_id, drum):
    return [frame / RATE for frame, _ in document_of(house, session_id).tracks[drum].hits]


def dips_s(house, session_id, drum):
    """When a session's ducked tone goes down, with the drum muted."""
    document = document_of(house, session_id).with_strip(drum, mute=True)
    mix = np.concatenate(list(render_mix(Mixer(document, house.takes(document)), 0, round(2.2 * RATE))), axis=1)[0]
    quiet = mix < 0.8 * mix.max()
    return (np.flatnonzero(quiet[1:] & ~quiet[:-1]) + 1) / RATE


def test_hits_are_found_when_followed_corrected_once_and_taken_back(client, house, session_id, two):
    drum, tone = two
    assert hits_s(house, session_id, drum) == []
    answer = follow(client, session_id, tone, f"{drum}/hits:20", lay=True)

    assert "the hits of Drum, 20 ms ahead" in answer.json()["label"]
    np.testing.assert_allclose(hits_s(house, session_id, drum), STROKES, atol=0.002)
    np.testing.assert_allclose(dips_s(house, session_id, drum), np.array(STROKES) - 0.02, atol=0.006)

    said = {"kind": "correct_mark", "strip_id": drum, "what": "hits"}
    change(client, session_id, **said, at_s=0.75, add=False)
    change(client, session_id, **said, at_s=1.5, add=True)
    np.testing.assert_allclose(hits_s(house, session_id, drum), [0.25, 1.25, 1.5, 1.75], atol=0.002)
    np.testing.assert_allclose(dips_s(house, session_id, drum), np.array([0.25, 1.25, 1.5, 1.75]) - 0.02, atol=0.006)
    for _ in range(2):
        client.post(f"/api/sessions/{session_id}/undo")
    np.testing.assert_allclose(hits_s(house, session_id, drum), STROKES, atol=0.002)


def test_what_is_heard_live_is_what_is_exported_and_goes_with_the_session_file(client, house, session_id, two):
    drum, tone = two
    follow(client, session_id, tone, f"{drum}/hits:5", lay=True)
    frames = RATE
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        listener.send(type="play", frame=0)
        sound = listener.listen(frames)
    np.testing.assert_array_equal(sound, offline(house, session_id, 0, frames).astype(np.float32))

    job = opened(client, session_file(client, session_id))
    assert job["state"] == "done", job
    other = job["result"]["session_id"]
    assert document_of(house, other).tracks[drum].hits == document_of(house, session_id).tracks[drum].hits
    np.testing.assert_array_equal(offline(house, other, 0, frames), offline(house, session_id, 0, frames))


def test_hits_that_are_only_tried_are_heard(client, house, session_id, two):
    """As an aim's way out that follows the marks is heard before it is taken."""
    drum, tone = two
    follow(client, session_id, tone, f"{drum}/after", lay=True)
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        at = {"strip_id": tone, "processor_id": "d", "settings": {"key.source": f"{drum}/hits:50"}}
        listener.send(type="try", **at)
        listener.send(type="play", frame=0)
        sound = listener.listen(round(0.24 * RATE))
    assert not hits_s(house, session_id, drum)
    assert sound[0][: round(0.19 * RATE)].min() > 0.99 * sound[0].max()
    assert sound[0][round(0.23 * RATE)] < 0.6 * sound[0].max()  # before the stroke sounds


def test_another_take_has_its_own_hits_and_keeps_the_marks_that_fit(client, house, session_id, two, tmp_path):
    drum, tone = two
    said = {"kind": "correct_mark", "strip_id": drum, "what": "hits"}
    change(client, session_id, **said, at_s=0.5, add=True)
    change(client, session_id, **said, at_s=2.0, add=True)
    follow(client, session_id, tone, f"{drum}/hits")
    soundfile.write(tmp_path / "Again.wav", strokes((0.3, 0.9), 1.4), RATE, subtype="PCM_24")
    with (tmp_path / "Again.wav").open("rb") as file:
        job = finished(
            client, client.post(f"/api/sessions/{session_id}/tracks/{drum}/take", files={"file": file}).json()
        )
    assert job["state"] == "done", job

    np.testing.assert_allclose(hits_s(house, session_id, drum), [0.3, 0.5, 0.9], atol=0.002)
    label = client.get(f"/api/sessions/{session_id}").json()["undo"]
    assert label == "Drum: take replaced by Again.wav; 1 mark behind its end let go"
    assert document_of(house, session_id).tracks[drum].marks["hits"].added == [[0.5]]


def test_a_strip_copied_follows_its_own_hits_and_a_bus_has_none(client, house, session_id, two):
    drum, tone = two
    follow(client, session_id, tone, f"{drum}/hits:3")
    copied = change(client, session_id, kind="copy_chain", strip_id=tone, to=[drum])
    assert copied.status_code == 200
    document = document_of(house, session_id)
    assert document.tracks[drum].chain[0].settings.key.source == "hits:3" and len(document.tracks[drum].hits) == 4
    change(client, session_id, kind="add_bus", bus_id="b", name="All", members=[])
    at = {"strip_id": "b", "processor_id": "g", "settings": {"key.source": "hits"}}
    change(client, session_id, kind="add_processor", strip_id="b", type="gate", processor_id="g")
    refused = change(client, session_id, kind="set_processor", **at)
    assert refused.status_code in (400, 409, 422) and "a bus or the master are not" in refused.json()["error"]
