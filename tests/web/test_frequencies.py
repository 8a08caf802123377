"""By frequency, over the wire: spectra and maps of takes, bands heard alone, keys of bands, loudness matched."""

import numpy as np
import pytest
import soundfile

from reins.core.measure.spectra import MAP_HZ, POINTS_HZ
from tests.conftest import RATE
from tests.web.conftest import bring_in
from tests.web.test_live import Listener
from tests.web.test_web import change


@pytest.fixture
def track(client, session_id, tone_file):
    """A track of one second of 220 Hz at -6 dB, with a dynamic EQ of one still band."""
    bring_in(client, session_id, tone_file)
    track_id = client.get(f"/api/sessions/{session_id}").json()["document"]["order"][0]
    change(client, session_id, kind="add_processor", strip_id=track_id, type="dynamic_eq", processor_id="eq")
    bands = [{"freq_hz": 220, "q": 2, "gain_db": -12}]
    change(client, session_id, kind="set_processor", strip_id=track_id, processor_id="eq", settings={"bands": bands})
    return track_id


def spectrum(client, session_id, track, what, **more):
    body = {"desk": "d", "number": 1, "what": what, **more}
    return client.post(f"/api/sessions/{session_id}/strips/{track}/spectrum", json=body)


def test_the_spectra_of_source_and_result_lie_a_bands_gain_apart(client, session_id, track):
    at = np.abs(POINTS_HZ - 220).argmin()

    source, result = (spectrum(client, session_id, track, what).json()["db"] for what in ("source", "result"))

    assert source[at] - result[at] == pytest.approx(12, abs=0.3)
    assert POINTS_HZ[np.argmax(source)] == pytest.approx(220, rel=0.03)
    # Of one processor: what goes in and comes out of it.
    assert spectrum(client, session_id, track, "source", processor_id="eq").json()["db"] == source
    assert spectrum(client, session_id, track, "result", processor_id="eq").json()["db"] == result
    assert "choose a processor" in spectrum(client, session_id, track, "key").json()["error"]
    refused = spectrum(client, session_id, track, "colour")
    assert refused.status_code == 422
    assert "source, result, key" in refused.json()["error"]


def test_the_map_is_bytes_by_column_and_row(client, session_id, track):
    body = {"desk": "d", "number": 1, "start": 0, "frames": RATE, "columns": 40}

    answer = client.post(f"/api/sessions/{session_id}/strips/{track}/map", json=body)

    codes = np.frombuffer(answer.content, np.uint8).reshape(40, MAP_HZ.size)
    assert np.abs(np.log2(MAP_HZ[codes[20].argmax()] / 220)) < 1 / 12
    assert -120 + 0.5 * (codes[20].max() - 1) == pytest.approx(-6, abs=1)
    made = client.post(f"/api/sessions/{session_id}/strips/{track}/map", json=body | {"what": "result"})
    taken = codes[20].max() - np.frombuffer(made.content, np.uint8).reshape(40, MAP_HZ.size)[20].max()
    assert 0.5 * taken == pytest.approx(12, abs=1)  # as much as the band takes, in half dB
    bad = client.post(f"/api/sessions/{session_id}/strips/{track}/map", json=body | {"columns": 0})
    assert bad.status_code == 422
    assert "allowed: 1 to" in bad.json()["error"]


def test_a_preview_tells_curve_and_each_bands_doings(client, session_id, track):
    settings = {"bands.0.motion": "compress", "bands.0.threshold_db": -40, "bands.0.attack_ms": 0}
    body = {
        "desk": "d",
        "number": 2,
        "processor_id": "eq",
        "settings": settings,
        "start": 0,
        "frames": RATE,
        "columns": 50,
    }

    told = client.post(f"/api/sessions/{session_id}/strips/{track}/preview", json=body).json()

    at = np.abs(POINTS_HZ - 220).argmin()
    assert told["curve"] is None
    assert told["frequency"]["rest_db"][at] == pytest.approx(-12, abs=0.1)
    assert told["frequency"]["reach_db"][at] == pytest.approx(-24, abs=0.2)
    band = told["bands"]["band1.gain_db"]
    # 220 Hz at -6 dB, 34 dB over a threshold of -40 at 2 : 1 would be 17 dB, but 12 are its reach.
    assert band["deepest_db"] == pytest.approx(-12, abs=0.05)
    assert len(band["held_db"]) == 50


def test_a_band_is_heard_alone_and_what_it_does_is_told(client, session_id, track):
    change(
        client,
        session_id,
        kind="set_processor",
        strip_id=track,
        processor_id="eq",
        settings={"bands.0.freq_hz": 7000.0, "bands.0.q": 8.0},
    )
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        desk = Listener(socket)
        desk.send(type="watch", strip_id=track, processor_id="eq", spectra=True)
        desk.send(type="play", frame=0)
        desk.listen(RATE // 4)
        desk.send(type="listen", what="band", of=track, processor_id="eq", band="band1.gain_db")
        heard = desk.listen(RATE * 3 // 4)[:, RATE // 2 :]
        meters = [told for told in desk.said if told["type"] == "meters"]

    assert np.abs(heard).max() < 0.01  # next to nothing of 220 Hz at 7 kHz
    spectra = [told["spectra"] for told in meters if told["spectra"]]
    assert 0.6 < len(spectra) / (sum(map(len, desk.frames)) / RATE * 30) < 1.1
    assert POINTS_HZ[np.argmax(spectra[8]["source"])] == pytest.approx(220, rel=0.05)
    curves = [told["curve"] for told in meters if told["curve"]]
    assert len(curves) == len(spectra)
    assert len(curves[-1]) == POINTS_HZ.size
    assert curves[-1][np.abs(POINTS_HZ - 7000).argmin()] == pytest.approx(-12, abs=0.3)


def test_a_bands_key_is_a_tie_that_may_not_close_a_circle_and_lets_go_of_a_removed_track(
    client, session_id, track, tmp_path
):
    other_file = tmp_path / "Key.wav"
    soundfile.write(other_file, 0.5 * np.sin(np.arange(RATE) * 0.01), RATE)
    bring_in(client, session_id, other_file)
    other = client.get(f"/api/sessions/{session_id}").json()["document"]["order"][1]
    change(client, session_id, kind="set_processor", strip_id=track, processor_id="eq",
           settings={"bands.0.motion": "compress", "bands.0.key.source": f"{other}/after"})  # fmt: skip

    body = {"kind": "add_processor", "strip_id": other, "type": "ducker", "processor_id": "back"}
    client.post(f"/api/sessions/{session_id}/changes", json=body)
    circle = {
        "kind": "set_processor",
        "strip_id": other,
        "processor_id": "back",
        "settings": {"key.source": f"{track}/after"},
    }
    refused = client.post(f"/api/sessions/{session_id}/changes", json=circle)
    assert refused.status_code == 409
    assert "close a circle" in refused.json()["error"]

    point = {"type": "dynamic_eq", "name": "Mine", "settings": {"bands": [{"key": {"source": f"{other}/after"}}]}}
    (kept,) = client.post("/api/points", json=point).json()["points"]
    assert kept["settings"]["bands"][0]["key"]["source"] == "self"  # another session does not know this track

    change(client, session_id, kind="remove_track", track_id=other)
    chain = client.get(f"/api/sessions/{session_id}").json()["document"]["tracks"][track]["chain"]
    assert chain[0]["settings"]["bands"][0]["key"]["source"] == "self"


def test_relative_moves_the_threshold_into_its_limits(client, session_id, track):
    change(client, session_id, kind="add_processor", strip_id=track, type="deesser", processor_id="s")
    change(client, session_id, kind="set_processor", strip_id=track, processor_id="s", settings={"threshold_db": -55})

    change(client, session_id, kind="set_processor", strip_id=track, processor_id="s", settings={"relative": True})

    chain = client.get(f"/api/sessions/{session_id}").json()["document"]["tracks"][track]["chain"]
    assert (chain[1]["settings"]["relative"], chain[1]["settings"]["threshold_db"]) == (True, -40)


def test_matched_loudness_weighs_by_the_takes_own_spectrum_live_and_measured(client, house, session_id, track):
    change(
        client, session_id, kind="set_processor", strip_id=track, processor_id="eq", settings={"match_loudness": True}
    )

    at = np.abs(POINTS_HZ - 220).argmin()
    source, result = (spectrum(client, session_id, track, what).json()["db"] for what in ("source", "result"))
    assert source[at] == pytest.approx(
        result[at], abs=0.3
    )  # all of it lies at 220 Hz: what the band takes is given back
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        desk = Listener(socket)
        desk.send(type="play", frame=0)
        heard = desk.listen(RATE // 2)[:, RATE // 4 :]
    assert np.abs(heard).max() == pytest.approx(0.5, rel=0.04)
