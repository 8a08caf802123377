"""Spreads, what is added, and equal loudness over HTTP; what is heard otherwise over the live socket."""

import json
import random
import struct

import numpy as np
import pytest
import soundfile

from reins.core.trials.blind import Blind
from reins.demo import drums
from reins.errors import ConflictError
from reins.services.blinds import MOST_MARKS, Blinds, ByItself, Under
from reins.services.editing import document_of
from tests.conftest import RATE
from tests.web.conftest import bring_in
from tests.web.test_web import change


@pytest.fixture
def kick_id(client, session_id, tmp_path):
    soundfile.write(tmp_path / "Kick.wav", drums.make_kick()[:, 8 * RATE : 20 * RATE].T, RATE, subtype="PCM_24")
    return bring_in(client, session_id, tmp_path / "Kick.wav")["result"]["track_id"]


@pytest.fixture
def held_id(client, session_id, kick_id):
    """The kick with a compressor that holds."""
    change(client, session_id, kind="add_processor", strip_id=kick_id, type="compressor", processor_id="p")
    settings = {"threshold_db": -30, "ratio": 6, "attack_ms": 5}
    change(client, session_id, kind="set_processor", strip_id=kick_id, processor_id="p", settings=settings)
    return kick_id


def ask(client, session_id, path, **body):
    return client.post(f"/api/sessions/{session_id}/strips/{path}", json=body)


def tile(client, session_id, strip_id, settings, **body):
    body = {"desk": "d", "number": 1, "processor_id": "p", "start": 0, "frames": 4 * RATE, "columns": 200} | body
    return ask(client, session_id, f"{strip_id}/tile", settings=settings, **body)


def test_nine_tiles_of_two_settings_and_nothing_of_it_is_kept(client, house, session_id, held_id):
    before = document_of(house, session_id)
    axes = [{"path": "attack_ms", "low": 1, "high": 60}, {"path": "release_ms"}]
    plan = ask(client, session_id, f"{held_id}/processors/p/spread", axes=axes).json()
    made = [tile(client, session_id, held_id, one["settings"]).json() for one in plan["tiles"]]

    assert [axis["label"] for axis in plan["axes"]] == ["Attack", "Release"] and len(made) == 9
    deepest = [one["figures"]["deepest_db"] for one in made]
    assert deepest[0] < deepest[3] - 1.0 < deepest[6] - 2.0  # a slow attack leaves the hit
    assert len({json.dumps(one["figures"]) for one in made}) == 9
    assert all(len(one["held_db"]) == 200 and min(one["held_db"]) < -3 for one in made)
    assert document_of(house, session_id) == before


def test_starting_points_as_tiles_are_what_taking_them_gives(client, house, session_id, held_id):
    made = client.get(f"/api/sessions/{session_id}/strips/{held_id}/processors/p/points").json()["tiles"]
    one = next(tile for tile in made if tile["name"] == "Kick, even hits")
    change(client, session_id, kind="set_processor", strip_id=held_id, processor_id="p", settings=one["settings"])
    laid = document_of(house, session_id).tracks[held_id].chain[0].settings
    change(client, session_id, kind="start_from", strip_id=held_id, processor_id="p", name="Kick, even hits")

    assert laid == document_of(house, session_id).tracks[held_id].chain[0].settings
    assert len(made) >= 4 and all(tile["sentence"] for tile in made)


def test_what_cannot_be_spread_is_refused_with_a_sentence(client, session_id, held_id):
    wrong = ask(client, session_id, f"{held_id}/processors/p/spread", axes=[{"path": "tuba"}])
    assert wrong.status_code == 422 and "cannot be spread" in wrong.json()["error"]
    assert tile(client, session_id, held_id, {"ratio": 0.1}).status_code == 422
    assert "no setting “tuba”" in tile(client, session_id, held_id, {"tuba": 1}).json()["error"]
    assert tile(client, session_id, held_id, {}, frames=3600 * RATE).status_code == 422
    assert tile(client, session_id, held_id, {}, start=3600 * RATE).json()["error"].startswith("There is no sound")
    assert ask(client, session_id, f"{held_id}/processors/gone/spread", axes=[]).status_code == 404


@pytest.mark.parametrize("kind", ["compressor", "multiband", "fet"])
def test_what_the_desk_adds_is_laid_by_the_take_in_one_step(client, house, session_id, kick_id, kind):
    step = document_of(house, session_id)
    kept = change(client, session_id, kind="add_processor", strip_id=kick_id, type=kind, processor_id="p", lay=True)
    made = tile(client, session_id, kick_id, {}, frames=10 * RATE).json()

    assert "laid for this take" in kept.json()["label"] and abs(made["figures"]["usual_db"]) > 1.0
    client.post(f"/api/sessions/{session_id}/undo")
    assert document_of(house, session_id) == step


def test_what_is_added_hears_what_the_chain_before_it_makes(client, house, session_id, held_id):
    """18 dB down before it: the threshold lies as much lower."""
    add = lambda name: change(  # noqa: E731
        client, session_id, kind="add_processor", strip_id=held_id, type="compressor", processor_id=name, lay=True
    )
    laid = lambda: document_of(house, session_id).tracks[held_id].chain[-1].settings.threshold_db  # noqa: E731
    add("quiet")
    before = laid()
    client.post(f"/api/sessions/{session_id}/undo")
    change(client, session_id, kind="set_processor", strip_id=held_id, processor_id="p", settings={"output_db": -18})
    add("late")
    assert laid() == pytest.approx(before - 18, abs=1.0)


def test_an_unknown_setting_is_refused_and_nothing_is_added(client, house, session_id, kick_id):
    before = document_of(house, session_id)
    body = {"kind": "add_processor", "strip_id": kick_id, "type": "compressor", "settings": {"tuba": 1}}
    refused = client.post(f"/api/sessions/{session_id}/changes", json=body)
    assert refused.status_code == 422 and "no setting “tuba”" in refused.json()["error"]
    assert document_of(house, session_id) == before


def equal(client, session_id, strip_id, **body):
    return ask(client, session_id, f"{strip_id}/equal", **({"desk": "d", "number": 1, "processor_id": "p"} | body))


def test_loudness_in_each_way_it_can_be_heard(client, session_id, held_id):
    change(client, session_id, kind="use_draft", strip_id=held_id, draft=2)
    change(client, session_id, kind="set_processor", strip_id=held_id, processor_id="p", settings={"output_db": 6})
    lufs = equal(client, session_id, held_id).json()["lufs"]

    assert set(lufs) == {"result", "without chain", "without", "overdone", "draft 1"}
    assert lufs["result"] - lufs["draft 1"] == pytest.approx(6.0, abs=0.1)
    assert lufs["without"] == lufs["without chain"] and lufs["overdone"] < lufs["result"] - 2.0


def heard(socket, frames):
    """The next so many frames of the live sound."""
    blocks, got = [], 0
    socket.send_text(json.dumps({"type": "play", "frame": 0}))
    while got < frames:
        message = socket.receive()
        if message.get("bytes") is not None:
            raw = message["bytes"]
            stream, count, _ = struct.unpack_from("<IId", raw)
            blocks.append(np.frombuffer(raw, np.float32, offset=16).reshape(-1, 2))
            got += count
            socket.send_text(json.dumps({"type": "played", "stream": stream, "frames": got}))
    socket.send_text(json.dumps({"type": "stop"}))
    while True:
        message = socket.receive()
        if message.get("text") and json.loads(message["text"])["type"] == "stopped":
            return np.concatenate(blocks)[:frames].T


def level_db(sound):
    return 20 * np.log10(np.sqrt(np.mean(sound[:, RATE:] ** 2)))


def test_passed_by_overdone_and_as_loud_over_the_live_socket(client, house, session_id, held_id):
    lufs = equal(client, session_id, held_id).json()["lufs"]
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        say = lambda **otherwise: socket.send_text(json.dumps({"type": "otherwise", **otherwise}))  # noqa: E731
        plain = heard(socket, 3 * RATE)
        say(passed=[[held_id, "p"]])
        passed = heard(socket, 3 * RATE)
        say(overdone=[[held_id, "p"]])
        overdone = heard(socket, 3 * RATE)
        say(passed=[[held_id, "p"]], goals_lufs={held_id: lufs["result"]})
        matched = heard(socket, 3 * RATE)
        say()
        again = heard(socket, 3 * RATE)

    np.testing.assert_array_equal(plain, again)
    assert level_db(passed) > level_db(plain) + 2 and level_db(overdone) < level_db(plain) - 2
    gain_db = lufs["result"] - lufs["without"]
    np.testing.assert_allclose(matched, passed * 10 ** (gain_db / 20), atol=2e-4)
    assert document_of(house, session_id).tracks[held_id].chain[0].on


def test_what_is_no_such_wish_is_said_on_the_socket(client, session_id, held_id):
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        socket.send_text(json.dumps({"type": "otherwise", "overdone": [[held_id, None]]}))
        assert "overdone" in json.loads(socket.receive()["text"])["sentence"]


def begin_blind(client, session_id, strip_id, **body):
    body = {"kind": "which", "a": "result", "b": "without chain", "processor_id": "p"} | body
    return ask(client, session_id, f"{strip_id}/blind", **body)


def play_on(socket, frames, *, each=lambda message: None):
    """Listen on to what plays: so many frames (channels, frames)."""
    blocks, got = [], 0
    while got < frames:
        message = socket.receive()
        if message.get("bytes") is not None:
            stream, _, _ = struct.unpack_from("<IId", message["bytes"])
            blocks.append(np.frombuffer(message["bytes"], np.float32, offset=16).reshape(-1, 2))
            got += len(blocks[-1])
            play_on.sent = getattr(play_on, "sent", 0) + len(blocks[-1])
            socket.send_text(json.dumps({"type": "played", "stream": stream, "frames": play_on.sent}))
        else:
            each(json.loads(message["text"]))
    return np.concatenate(blocks).T


def test_a_blind_test_tells_nothing_before_its_end_and_swaps_without_a_gap(client, house, session_id, held_id):
    test = begin_blind(client, session_id, held_id).json()
    assert set(test) == {"id", "matched_lu"} and test["matched_lu"] < 0.1
    told, shapes = [], set()

    def each(message):
        told.append(json.dumps(message))
        shapes.add(tuple(sorted((name, type(value).__name__) for name, value in message.items())))

    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        say = lambda **what: socket.send_text(json.dumps({"type": "blind", "test": test["id"], **what}))  # noqa: E731
        steps = {}
        for plan in ("aaaaaaaa", "bbbbbbbb", "axbxabxa"):
            say(hear=plan[0])
            socket.send_text(json.dumps({"type": "play", "frame": 0}))
            play_on.sent, parts = 0, []
            for what in plan:
                say(hear=what)
                parts.append(play_on(socket, RATE // 2, each=each))
            socket.send_text(json.dumps({"type": "stop"}))
            while json.loads(socket.receive().get("text") or "{}").get("type") != "stopped":
                pass
            steps[plan] = np.abs(np.diff(np.concatenate(parts, axis=1))).max()
        for _ in range(6):
            answer = client.post(f"/api/sessions/{session_id}/blind/{test['id']}/answers", json={"answer": "a"}).json()
            assert set(answer) == {"rounds"}
    *plain, over = steps.values()
    assert over <= max(plain) * 1.001
    assert len(shapes) == 2  # what began, and meters
    assert all('"gains": {}' in one and '"master": null' in one for one in told if '"meters"' in one)

    before = document_of(house, session_id)
    assert before.judged == []
    result = client.post(f"/api/sessions/{session_id}/blind/{test['id']}/end").json()
    assert result["rounds"] == 6 and "of 6 right" in result["said"]
    assert document_of(house, session_id).judged[0].said == result["said"]
    assert client.post(f"/api/sessions/{session_id}/blind/{test['id']}/end").status_code == 404


def test_both_sides_are_as_loud(client, house, session_id, held_id):
    change(client, session_id, kind="use_draft", strip_id=held_id, draft=2)
    change(client, session_id, kind="set_processor", strip_id=held_id, processor_id="p", settings={"output_db": 9})
    test = begin_blind(client, session_id, held_id, b="draft 1").json()
    levels = {}
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        for what in ("a", "b"):
            socket.send_text(json.dumps({"type": "blind", "test": test["id"], "hear": what}))
            levels[what] = level_db(heard(socket, 4 * RATE))
        socket.send_text(json.dumps({"type": "blind", "test": None}))
        plain = level_db(heard(socket, 4 * RATE))
    assert test["matched_lu"] < 0.1 and levels["a"] == pytest.approx(levels["b"], abs=0.15)
    assert plain == pytest.approx(levels["b"] + 9, abs=0.2)
    left = client.delete(f"/api/sessions/{session_id}/blind/{test['id']}")
    assert left.status_code == 200 and document_of(house, session_id).judged == []


def test_going_over_by_itself_is_told_against_what_was_marked(client, session_id, held_id):
    test = begin_blind(client, session_id, held_id, kind="by_itself", every_s=1.0).json()
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        socket.send_text(json.dumps({"type": "blind", "test": test["id"]}))
        socket.send_text(json.dumps({"type": "play", "frame": 0}))
        play_on.sent = 0
        for _ in range(5):
            play_on(socket, RATE)
            socket.send_text(json.dumps({"type": "mark", "frames": play_on.sent}))
        socket.send_text(json.dumps({"type": "stop"}))
        while json.loads(socket.receive().get("text") or "{}").get("type") != "stopped":
            pass
    result = client.post(f"/api/sessions/{session_id}/blind/{test['id']}/end").json()
    assert 3 <= result["rounds"] <= 11 and result["found"] >= 2
    assert result["found"] + result["for_nothing"] == 5


class Stuck:
    """What is as loud as ever, however it is turned down."""

    def measure(self, document, strip_id, *_, **__):
        return -20.0 if document.strip(strip_id).chain_on else -14.0


def test_what_cannot_be_made_as_loud_is_not_tested(house, session_id, held_id):
    asked = {"kind": "which", "a": "result", "b": "without chain", "processor_id": "p", "every_s": 1.0}
    with pytest.raises(ConflictError, match=r"6\.00 LU apart; allowed: 0\.1"):
        Blinds(house, Stuck()).begin(session_id, held_id, **asked)


def test_marks_are_bounded():
    under = Under("s", "t", Blind("by_itself", random.Random(1)), {}, {}, 0.0, 1.0)
    clock = ByItself(under, RATE)
    for at in range(MOST_MARKS + 5):
        clock.marked(at)
    assert len(under.marks_s) == MOST_MARKS


def test_what_cannot_be_tested_blind_says_so(client, session_id, held_id):
    same = begin_blind(client, session_id, held_id, b="result")
    assert same.status_code == 409 and "the same" in same.json()["error"]
    assert "allowed" in begin_blind(client, session_id, held_id, b="draft 9").json()["error"]
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        socket.send_text(json.dumps({"type": "blind", "test": "gone", "hear": "x"}))
        assert "no blind test" in json.loads(socket.receive()["text"])["sentence"]
        socket.send_text(json.dumps({"type": "mark", "frames": 5}))
        assert "nothing to mark" in json.loads(socket.receive()["text"])["sentence"]


def test_two_strips_fight_in_words_and_a_way_out_is_one_step(client, house, session_id, kick_id, tmp_path):
    soundfile.write(tmp_path / "Boom.wav", drums.make_kick()[:, 8 * RATE : 20 * RATE].T * 0.8, RATE, subtype="PCM_24")
    boom = bring_in(client, session_id, tmp_path / "Boom.wav")["result"]["track_id"]
    found = ask(client, session_id, f"{kick_id}/fight", desk="d", number=1, other=boom).json()["regions"]
    assert found[0]["low_hz"] < 80 and "of the time" in found[0]["said"] and "Kick" in found[0]["said"]
    own = ask(client, session_id, f"{kick_id}/fight", desk="d", number=2, other=kick_id)
    assert own.status_code == 409 and "itself" in own.json()["error"]
    assert ask(client, session_id, f"{kick_id}/fight", desk="d", number=3, other="none").status_code == 404

    settings = {"key.source": f"{boom}/after", "from_hz": 30, "to_hz": 120, "amount_db": -9}
    change(
        client,
        session_id,
        kind="add_processor",
        strip_id=kick_id,
        type="make_room",
        processor_id="r",
        settings=settings,
    )
    entry = document_of(house, session_id).tracks[kick_id].chain[-1]
    assert entry.settings.key.source == f"{boom}/after" and entry.settings.to_hz == 120
    circle = {"key.source": f"{kick_id}/after"}
    refused = change(client, session_id, kind="add_processor", strip_id=boom, type="make_room", settings=circle)
    assert refused.status_code == 409 or refused.status_code == 422
    assert document_of(house, session_id).tracks[boom].chain == []
