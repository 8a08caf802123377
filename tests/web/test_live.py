"""The live socket on the real application: what is sent is what an offline render of the same document gives."""

import json
import struct
import threading

import numpy as np
import pytest
import soundfile as sf
from fastapi.testclient import TestClient
from starlette.websockets import WebSocketDisconnect

from reins.core.engine import live
from reins.core.engine.length import session_frames
from reins.core.engine.live import LiveClock
from reins.core.engine.mixer import Mixer
from reins.core.engine.offline import render_mix
from reins.services.editing import document_of
from reins.services.processing import measure_file
from reins.web.app import AppSettings, create_app
from tests.conftest import RATE
from tests.web.conftest import bring_in
from tests.web.test_web import add_compressor, change


class Listener:
    """Speaks the protocol as the browser does."""

    def __init__(self, socket):
        self.socket, self.stream, self.played, self.frames, self.said = socket, 0, 0, [], []
        self.places = []

    def send(self, **message):
        self.socket.send_text(json.dumps(message))

    def next(self):
        message = self.socket.receive()
        if message.get("text"):
            told = json.loads(message["text"])
            self.said.append(told)
            if told["type"] == "started":
                self.stream, self.played, self.frames, self.places = told["stream"], 0, [], []
            return told
        data = message["bytes"]
        stream, frames, place = struct.unpack_from("<IId", data)
        assert stream == self.stream
        self.frames.append(np.frombuffer(data, np.float32, offset=16).reshape(frames, 2))
        self.places.append(place)
        return None

    def until(self, kind):
        while True:
            told = self.next()
            if told and told["type"] == kind:
                return told

    def listen(self, frames):
        """Take blocks and report them as played until so many frames are there."""
        while sum(len(f) for f in self.frames) < frames:
            if self.next() is None:
                self.played += len(self.frames[-1])
                self.send(type="played", stream=self.stream, frames=self.played)
        return np.concatenate(self.frames).T[:, :frames]


def offline(house, session_id, start, end):
    document = document_of(house, session_id)
    takes = {t.take_id: house.take(t.take_id) for t in document.tracks.values()}
    return np.concatenate(list(render_mix(Mixer(document, takes), start, end, block_frames=777)), axis=1)


def document_frames(house, session_id):
    document = document_of(house, session_id)
    return session_frames(document, house.takes(document))


def test_meters_come_within_their_block_if_that_is_wanted_and_are_the_same(client, session_id, track_id):
    add_compressor(client, session_id, track_id, threshold_db=-30.0)
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        listener.send(type="play", frame=0)
        sound = listener.listen(7 * 1024)
        listener.until("meters")
        apart = [told for told in listener.said if told["type"] == "meters"]

    with client.websocket_connect(f"/api/sessions/{session_id}/live?meters=within") as socket:
        socket.send_text(json.dumps({"type": "play", "frame": 0}))
        assert socket.receive_json()["type"] == "started"
        blocks = [socket.receive_bytes() for _ in range(7)]
        socket.send_text(json.dumps({"type": "stop"}))
        assert socket.receive_json()["type"] == "stopped"

    end = 16 + 1024 * 2 * 4
    assert b"".join(block[16:end] for block in blocks) == sound.T.tobytes()
    assert [json.loads(block[end:]) for block in blocks] == apart


def test_what_costs_much_is_sent_in_longer_blocks_from_its_third_on(client, house, session_id, track_id, monkeypatch):
    monkeypatch.setattr(live, "HEAVY", 0.0)  # whatever it costs is much
    monkeypatch.setattr(live, "LIGHT", 0.0)
    with client.websocket_connect(f"/api/sessions/{session_id}/live?meters=within") as socket:
        socket.send_text(json.dumps({"type": "play", "frame": 0}))
        assert socket.receive_json()["type"] == "started"
        blocks = [socket.receive_bytes() for _ in range(5)]

    frames = [struct.unpack_from("<I", block, 4)[0] for block in blocks]
    assert frames == [1024, 1024, 2048, 4096, 4096]
    sound = [np.frombuffer(b, np.float32, 2 * n, 16).reshape(n, 2) for b, n in zip(blocks, frames, strict=True)]
    wanted = offline(house, session_id, 0, sum(frames)).astype(np.float32)
    np.testing.assert_array_equal(np.concatenate(sound).T, wanted)


def test_a_place_for_meters_that_is_none_is_refused(client, session_id):
    with (
        pytest.raises(WebSocketDisconnect),
        client.websocket_connect(f"/api/sessions/{session_id}/live?meters=beside") as socket,
    ):
        socket.receive()


def test_live_and_offline_are_equal_to_the_last_bit(client, house, session_id, track_id):
    add_compressor(client, session_id, track_id, threshold_db=-30.0, lookahead_ms=3.0, auto_release=True)

    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        listener.send(type="play", frame=12345)
        listener.until("started")
        heard = listener.listen(20000)

    np.testing.assert_array_equal(heard, offline(house, session_id, 12345, 32345).astype(np.float32))


def test_never_more_than_150_ms_are_given_ahead(client, session_id, track_id):
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        listener.send(type="play", frame=0)
        listener.until("started")
        while not listener.frames or len(listener.frames) < 7:
            listener.next()
        listener.send(type="nonsense")
        listener.until("error")  # everything due has been sent before the answer to a later command

    assert sum(len(f) for f in listener.frames) == 7 * 1024 <= 0.150 * RATE


def test_settings_are_heard_while_dragged_and_fall_back_unless_kept(client, house, session_id, track_id):
    add_compressor(client, session_id, track_id, threshold_db=0.0, knee_db=0.0)

    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        listener.send(type="play", frame=0)
        listener.until("started")
        listener.listen(8192)
        listener.send(
            type="try", strip_id=track_id, processor_id="c", settings={"threshold_db": -50.0, "attack_ms": 0.0}
        )
        listener.listen(20480)
        change(client, session_id, kind="set_strip", strip_id=track_id, values={"pan_pct": 0.0})
        tried = np.concatenate(listener.frames).T

    assert np.abs(tried[:, :4096]).max() > 0.49
    assert np.abs(tried[:, 18000:20480]).max() < 0.05
    assert document_of(house, session_id).tracks[track_id].chain[0].settings.threshold_db == 0.0


def test_a_loop_repeats_and_a_moved_loop_starts_anew(client, session_id, track_id):
    change(client, session_id, kind="set_session", loop={"on": True, "start_frame": 4000, "end_frame": 8000})

    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        listener.send(type="play", frame=6000)
        listener.until("started")
        heard = listener.listen(10000)
        places = list(listener.places)

    np.testing.assert_array_equal(heard[:, 2000:6000], heard[:, 6000:10000])
    assert places[:3] == [6000, 7024, 4048]


def test_bad_commands_are_answered_and_change_nothing(client, session_id, track_id):
    bad = [
        {"type": "listen", "what": "everything"},
        {"type": "try", "strip_id": "zz", "processor_id": "c", "settings": {}},
        {"type": "try_strip", "strip_id": track_id, "values": {"fader_db": 400}},
        {"type": "play"},
        {},
    ]
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        for message in bad:
            listener.send(**message)
        sentences = [listener.until("error")["sentence"] for _ in bad]

    assert "allowed: result, source, difference" in sentences[0]
    assert "no track or bus “zz”" in sentences[1]
    assert "from -90 to 12 dB" in sentences[2]
    assert sentences[3] == "“play” needs “frame”; see docs/formats/live.md. Nothing was changed."
    assert "no command" in sentences[4]


def test_every_desk_hears_of_a_change_kept_by_another(client, session_id, track_id):
    with (
        client.websocket_connect(f"/api/sessions/{session_id}/live") as one,
        client.websocket_connect(f"/api/sessions/{session_id}/live") as other,
    ):
        for socket in (one, other):
            Listener(socket).send(type="ping")
            Listener(socket).until("error")  # its player is up

        change(client, session_id, kind="set_strip", strip_id=track_id, values={"mute": True})

        assert Listener(one).until("kept")
        assert Listener(other).until("kept")


def test_playing_past_the_end_says_so(client, session_id, track_id):
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        listener.send(type="play", frame=RATE - 1000)
        assert listener.until("ended")["stream"] == 1


def test_the_last_reading_is_that_of_the_whole(client, house, session_id, tmp_path):
    rng = np.random.default_rng(2)
    level = np.where(np.arange(round(4.3 * RATE)) < 3.4 * RATE, 0.02, 0.3)  # it is the last second that counts
    source, mix = tmp_path / "rising.wav", tmp_path / "mix.wav"
    sf.write(source, rng.standard_normal(level.size) * level, RATE, subtype="FLOAT")
    bring_in(client, session_id, source)
    frames = document_frames(house, session_id)
    sf.write(mix, offline(house, session_id, 0, frames).T, RATE, subtype="FLOAT")

    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        listener.send(type="play", frame=0)
        listener.until("started")
        listener.listen(frames // 1024 * 1024 + 1024)
        master = listener.until("ended")["master"]

    measured = measure_file(mix)
    assert abs(master["integrated_lufs"] - measured["integrated_lufs"]) < 0.05
    assert abs(master["range_lu"] - measured["range_lu"]) < 0.05
    assert abs(master["true_peak_dbtp"] - measured["true_peak_dbtp"]) < 0.05


def test_a_picture_that_fails_does_not_stop_the_sound(house, tmp_path, session_id, tone_file, monkeypatch):
    app = create_app(AppSettings(), house)
    with TestClient(app, base_url="http://localhost", raise_server_exceptions=False) as client:
        track_id = bring_in(client, session_id, tone_file)["result"]["track_id"]
        path = f"/api/sessions/{session_id}/strips/{track_id}/preview"
        ask = {"desk": "d", "number": 1, "start": 0, "frames": 1000, "columns": 10}
        with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
            listener = Listener(socket)
            listener.send(type="play", frame=0)
            listener.until("started")
            listener.listen(4096)
            with monkeypatch.context() as broken:
                broken.setattr("reins.services.previews.measure_span", lambda *_: 1 / 0)
                failed = client.post(path, json=ask)
            heard = listener.listen(20480)
            drawn = client.post(path, json=ask | {"number": 2})

    assert failed.status_code == 500
    assert "what was kept before is untouched" in failed.json()["error"]
    assert np.abs(heard).max() > 0.4
    assert len(drawn.json()["result_db"]) == 10


def test_one_processor_is_heard_of_a_strip_and_only_of_a_strip(client, house, session_id, track_id):
    add_compressor(client, session_id, track_id, threshold_db=-30.0, makeup_db=6.0, lookahead_ms=4.0)

    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        listener.send(type="listen", what="source", of=None, processor_id="c")
        assert "whose it is" in listener.until("error")["sentence"]
        listener.send(type="listen", what="source", of=track_id, processor_id="c")
        listener.send(type="play", frame=0)
        listener.until("started")
        source = listener.listen(12000)
        listener.send(type="listen", what="source", of=track_id)
        listener.send(type="play", frame=0)
        listener.until("started")
        strip = listener.listen(12000)

    np.testing.assert_allclose(source[:, 4000:], strip[:, 4000:], atol=1e-6)  # of the first of a chain they are one
    assert np.abs(strip).max() > 0.01


def test_a_next_start_that_cannot_be_prepared_keeps_nothing_from_playing(client, session_id, track_id, monkeypatch):
    tried = threading.Event()

    def broken(clock):
        tried.set()
        raise MemoryError("no room to prepare in")

    monkeypatch.setattr(LiveClock, "make_ready", broken)
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        assert tried.wait(10)  # in the first quiet moment
        listener.send(type="play", frame=0)
        assert np.abs(listener.listen(4096)).max() > 0.1
