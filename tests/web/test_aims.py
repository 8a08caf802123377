"""Aims over HTTP: marks found and corrected, a proposal for a processor, what cannot be wanted."""

import numpy as np
import pytest
import soundfile

from reins.core.engine.chain import Chain
from reins.core.routing import key_names
from reins.demo import drums, voices
from reins.services.editing import document_of, new_session
from tests.conftest import RATE
from tests.web.conftest import bring_in, finished
from tests.web.test_web import change


@pytest.fixture
def kick_id(client, session_id, tmp_path):
    soundfile.write(tmp_path / "Kick.wav", drums.make_kick()[:, : 16 * RATE].T, RATE, subtype="PCM_24")
    return bring_in(client, session_id, tmp_path / "Kick.wav")["result"]["track_id"]


def marks(client, session_id, strip_id, number=1):
    body = {"desk": "d", "number": number}
    return client.post(f"/api/sessions/{session_id}/strips/{strip_id}/marks", json=body).json()


def aim(client, session_id, strip_id, **body):
    body = {"desk": "d", "number": 1, "processor_id": "p"} | body
    return client.post(f"/api/sessions/{session_id}/strips/{strip_id}/aim", json=body)


def test_a_proposal_is_taken_as_one_step_and_changes_nothing_before(client, house, session_id, kick_id):
    change(client, session_id, kind="add_processor", strip_id=kick_id, type="compressor", processor_id="p")
    before = document_of(house, session_id)
    answer = aim(client, session_id, kick_id, aim="hits", asked=5.0).json()

    assert answer["reached"] and answer["figures"]["got_db"] == pytest.approx(5.0, abs=0.5)
    assert document_of(house, session_id) == before
    change(client, session_id, kind="set_processor", strip_id=kick_id, processor_id="p", settings=answer["settings"])
    settings = document_of(house, session_id).tracks[kick_id].chain[0].settings
    assert settings.threshold_db == answer["settings"]["threshold_db"]


def test_marks_are_found_corrected_and_followed(client, house, session_id, kick_id):
    change(client, session_id, kind="add_processor", strip_id=kick_id, type="compressor", processor_id="p")
    found = marks(client, session_id, kick_id)
    hits = found["hits_s"]
    known = [at for at, _ in drums.kick_hits() if at < 16]
    assert len(hits) == len(known) and found["tempo"]["bpm"] == pytest.approx(96, abs=0.5)

    said = {"kind": "correct_mark", "strip_id": kick_id, "what": "hits"}
    for at in hits[1:]:
        change(client, session_id, **said, at_s=at, add=False)
    assert marks(client, session_id, kick_id, 2)["hits_s"] == hits[:1]
    refused = aim(client, session_id, kick_id, aim="hits", asked=4.0, number=2)
    assert refused.status_code == 409 and "Found one hit" in refused.json()["error"]
    change(client, session_id, **said, at_s=hits[4] + 0.01, add=True)  # near one that was taken away: it is back
    change(client, session_id, **said, at_s=0.5, add=True)
    assert marks(client, session_id, kick_id, 3)["hits_s"] == [0.5, hits[0], hits[4]]
    label = client.get(f"/api/sessions/{session_id}").json()["undo"]
    assert label == "Kick: a hit marked at 0.50 s"
    client.post(f"/api/sessions/{session_id}/undo")
    assert marks(client, session_id, kick_id, 4)["hits_s"] == [hits[0], hits[4]]


def test_a_mark_after_the_end_of_a_take_harms_nothing(client, session_id, kick_id):
    """The take may have been replaced by a shorter one since."""
    change(client, session_id, kind="add_processor", strip_id=kick_id, type="compressor", processor_id="p")
    found = marks(client, session_id, kick_id)["hits_s"]
    for what, ends in (("hits", {}), ("phrases", {"end_s": 9001.0})):
        change(client, session_id, kind="correct_mark", strip_id=kick_id, what=what, at_s=9000.0, add=True, **ends)
    assert marks(client, session_id, kick_id, 2)["hits_s"] == found
    assert aim(client, session_id, kick_id, aim="hits", asked=4.0).json()["figures"]["hits"] == len(found)


def test_a_track_steps_back_for_its_key(client, house, session_id, kick_id, tmp_path):
    soundfile.write(tmp_path / "Voice.wav", voices.make_announcer()[:, : 8 * RATE].T, RATE, subtype="PCM_24")
    voice = bring_in(client, session_id, tmp_path / "Voice.wav")["result"]["track_id"]
    change(client, session_id, kind="add_processor", strip_id=kick_id, type="ducker", processor_id="p")
    alone = aim(client, session_id, kick_id, aim="duck", asked=9.0)
    assert alone.status_code == 409 and "choose its key first" in alone.json()["error"]
    settings = {"key.source": f"{voice}/after"}
    change(client, session_id, kind="set_processor", strip_id=kick_id, processor_id="p", settings=settings)
    assert key_names(document_of(house, session_id).tracks[kick_id].chain[0])
    answer = aim(client, session_id, kick_id, aim="duck", asked=9.0, number=2).json()
    assert answer["figures"]["got_db"] == pytest.approx(9.0, abs=0.5)


@pytest.mark.parametrize(
    ("body", "status", "sentence"),
    [
        ({"aim": "nothing"}, 422, "There is no aim"),
        ({"aim": "open"}, 409, "is for Gate"),
        ({"aim": "hits", "processor_id": "none"}, 404, "There is no processor"),
        ({"aim": "hits", "processor_id": None}, 409, "choose one, or add it"),
        ({"aim": "hits", "asked": 90.0}, 409, "0.5 to 24 dB"),
        ({"aim": "hits", "asked": 1e9}, 422, "asked"),
    ],
)
def test_what_cannot_be_wanted_is_a_sentence(client, house, session_id, kick_id, body, status, sentence):
    change(client, session_id, kind="add_processor", strip_id=kick_id, type="compressor", processor_id="p")
    before = document_of(house, session_id)
    answer = aim(client, session_id, kick_id, **{"asked": 4.0} | body)

    assert answer.status_code == status and sentence in answer.text
    assert document_of(house, session_id) == before


@pytest.mark.parametrize(
    ("body", "sentence"),
    [
        ({"at_s": 2, "end_s": 1, "what": "phrases"}, "rising"),
        ({"at_s": -1}, "at_s"),
        ({"at_s": float("1e12")}, "at_s"),
        ({"what": "words", "at_s": 1}, "what"),
    ],
)
def test_a_wrong_mark_is_a_sentence(client, session_id, kick_id, body, sentence):
    raw = {"kind": "correct_mark", "strip_id": kick_id, "what": "hits", "add": True} | body
    answer = client.post(f"/api/sessions/{session_id}/changes", json=raw)

    assert answer.status_code == 422 and sentence in answer.json()["error"]
    assert np.isfinite(marks(client, session_id, kick_id)["hits_s"]).all()


def test_the_recall_sheet_is_a_page_and_names_are_words_not_markup(client, session_id, kick_id):
    change(client, session_id, kind="set_strip", strip_id=kick_id, values={"name": "<b>Kick & <script>"})
    change(client, session_id, kind="add_processor", strip_id=kick_id, type="compressor", processor_id="p")
    change(client, session_id, kind="set_processor", strip_id=kick_id, processor_id="p", settings={"ratio": 7})
    page = client.get(f"/sessions/{session_id}/recall")

    assert page.status_code == 200 and "7.00 : 1" in page.text and "Moved " in page.text
    assert "<script>" not in page.text.split("<main")[1] and "&lt;b&gt;Kick" in page.text
    assert page.text.count('class="did-picture"') == 1 and page.text.count("<rect") > 5
    assert "picture-of-what-it-did" not in page.text
    assert client.get("/sessions/none/recall").status_code == 404


def test_why_here_is_answered_and_refused_with_a_sentence(client, session_id, kick_id):
    change(client, session_id, kind="add_processor", strip_id=kick_id, type="compressor", processor_id="p")
    url, body = f"/api/sessions/{session_id}/strips/{kick_id}/why", {"desk": "d", "number": 1, "processor_id": "p"}
    told = client.post(url, json=body | {"at_s": 2.51}).json()
    assert told["at_s"] == pytest.approx(2.51) and "The detector heard" in told["sentence"]
    for more, status, sentence in (
        ({"at_s": 500}, 409, "no sound at that moment"),
        ({"at_s": 1, "processor_id": "none"}, 404, "There is no processor"),
        ({"at_s": -1}, 422, "at_s"),
    ):
        answer = client.post(url, json=body | {"number": 2} | more)
        assert answer.status_code == status and sentence in answer.text


def test_two_drafts_are_laid_side_by_side(client, session_id, kick_id):
    on = {"strip_id": kick_id}
    change(client, session_id, kind="add_processor", **on, type="compressor", processor_id="p")
    change(client, session_id, kind="add_processor", **on, type="gate", processor_id="g")
    change(client, session_id, kind="use_draft", **on, draft=2)
    url = f"/api/sessions/{session_id}/strips/{kick_id}/drafts/1/against"
    assert client.get(f"{url}/2").json()["lines"] == []
    change(client, session_id, kind="set_processor", **on, processor_id="p", settings={"ratio": 8}, on=False)
    change(client, session_id, kind="remove_processor", **on, processor_id="g")
    change(client, session_id, kind="add_processor", **on, type="level", processor_id="l")

    assert client.get(f"{url}/2").json()["lines"] == [
        "Compressor: on → off", "Compressor: ratio 4.00 : 1 → 8.00 : 1", "Gate: only in the first",
        "Level: only in the second",
    ]  # fmt: skip
    assert client.get(f"{url}/9").status_code == 404


def test_the_gain_over_time_is_a_file_and_what_has_none_is_a_sentence(client, house, session_id, kick_id):
    change(client, session_id, kind="add_processor", strip_id=kick_id, type="compressor", processor_id="p")
    url = f"/api/sessions/{session_id}/strips/{kick_id}/processors"
    job = finished(client, client.post(f"{url}/p/trace").json())
    rows = client.get(f"/api/jobs/{job['id']}/file").text.splitlines()
    assert job["result"]["name"] == "Kick compressor gain.csv"
    assert rows[0] == "time_s,0_compressor.gain_db" and len(rows) == 16001
    chain = Chain(document_of(house, session_id).tracks[kick_id].chain, channels=1, sample_rate=RATE, on_take=True)
    take = house.take(document_of(house, session_id).tracks[kick_id].take_id)
    chain.process(take.read(0, take.facts.frames))
    gain = chain.gains()[0][1]["gain_db"]
    assert [float(rows[k].split(",")[1]) for k in (2512, 3001)] == pytest.approx(
        [gain[2511 * 48], gain[3000 * 48]], abs=1e-5
    )
    failed = finished(client, client.post(f"{url}/none/trace").json())
    assert failed["state"] == "failed" and "There is no processor" in failed["message"]


def test_a_chain_is_laid_beside_one_of_another_session(client, house, session_id, kick_id, tmp_path):
    change(client, session_id, kind="add_processor", strip_id=kick_id, type="compressor", processor_id="p")
    other = new_session(house, "Morning")
    soundfile.write(tmp_path / "Drum.wav", np.zeros((RATE, 1)), RATE)
    drum = bring_in(client, other, tmp_path / "Drum.wav")["result"]["track_id"]
    for kind in ("gate", "compressor"):
        change(client, other, kind="add_processor", strip_id=drum, type=kind, processor_id=f"x{kind}")
    change(client, other, kind="set_processor", strip_id=drum, processor_id="xcompressor", settings={"ratio": 9})

    chains = client.get(f"/api/sessions/{session_id}/chains").json()["chains"]
    assert [one["label"] for one in chains if "Master" not in one["label"]] == ["Evening: Kick", "Morning: Drum"]
    lines = client.get(f"/api/sessions/{session_id}/strips/{kick_id}/against/{other}/{drum}").json()["lines"]
    assert "Compressor: ratio 4.00 : 1 → 9.00 : 1" in lines and "Gate: only in the second" in lines
    assert len(lines) == 2
    assert client.get(f"/api/sessions/{session_id}/strips/{kick_id}/against/none/x").status_code == 404


def test_ways_out_where_a_gate_cannot_have_all_hits_are_told(client, session_id, tmp_path):
    kick, hats = drums.make_kick(), drums.make_hats()
    made = (drums.make_snare(kick, hats) + 0.3 * kick)[:, : 20 * RATE].clip(-1, 1)
    soundfile.write(tmp_path / "Snare.wav", made.T, RATE, subtype="PCM_24")
    strip = bring_in(client, session_id, tmp_path / "Snare.wav")["result"]["track_id"]
    change(client, session_id, kind="add_processor", strip_id=strip, type="gate", processor_id="p")

    told = aim(client, session_id, strip, aim="open", asked=0.0).json()

    assert [way["name"] for way in told["ways"]] == ["lose", "let", "lean", "marks"]
    assert len(told["figures"]["soft_s"]) == told["figures"]["given_up"] > 0
    for way in told["ways"]:
        at = {"strip_id": strip, "processor_id": "p", "settings": way["settings"]}
        assert change(client, session_id, kind="set_processor", **at).status_code == 200
