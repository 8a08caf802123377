"""Pages, changes, bringing in, exporting, previews, and everything given wrongly."""

import errno
import io

import numpy as np
import pytest
import soundfile

from reins.core import takes
from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from reins.core.measure.span import Span
from tests.conftest import RATE
from tests.web.conftest import bring_in, finished


def change(client, session_id, **body):
    return client.post(f"/api/sessions/{session_id}/changes", json=body)


def add_compressor(client, session_id, track_id, **settings):
    change(client, session_id, kind="add_processor", strip_id=track_id, type="compressor", processor_id="c")
    return change(client, session_id, kind="set_processor", strip_id=track_id, processor_id="c", settings=settings)


def preview(client, session_id, track_id, **more):
    body = {"desk": "d", "number": 1, "start": 0, "frames": RATE, "columns": 100, "processor_id": "c", **more}
    return client.post(f"/api/sessions/{session_id}/strips/{track_id}/preview", json=body)


def test_the_shelf_shows_sessions_with_their_length_and_tracks(client, session_id, track_id):
    page = client.get("/").text

    assert "Evening" in page
    assert "0:01" in page
    assert "Front room" in page


def test_a_file_brought_in_becomes_a_track_named_after_it(client, session_id, track_id):
    state = client.get(f"/api/sessions/{session_id}").json()

    track = state["document"]["tracks"][track_id]
    assert (track["name"], state["frames"], state["undo"]) == ("Front room", RATE, "Front room: brought in")


def test_a_kept_change_answers_with_its_step_and_label(client, session_id, track_id):
    answer = add_compressor(client, session_id, track_id, ratio=2.5)

    assert answer.json() == {"step": 3, "label": "Front room: compressor ratio 4.00 : 1 → 2.50 : 1"}
    assert client.post(f"/api/sessions/{session_id}/undo").json() == {"step": 2, "label": answer.json()["label"]}
    assert client.post(f"/api/sessions/{session_id}/redo").json()["step"] == 3


def test_export_writes_the_samples_the_chain_gives(client, session_id, track_id, tone_file):
    settings = {"threshold_db": -30.0, "lookahead_ms": 4.0, "makeup_db": 3.0}
    add_compressor(client, session_id, track_id, **settings)

    job = finished(
        client, client.post(f"/api/sessions/{session_id}/strips/{track_id}/export", json={"bits": "32f"}).json()
    )
    exported, rate = soundfile.read(io.BytesIO(client.get(f"/api/jobs/{job['id']}/file").content), dtype="float32")

    chain = Chain([parse_entry({"type": "compressor", "settings": settings}, "x")], channels=2, sample_rate=RATE)
    source = soundfile.read(tone_file, dtype="float32")[0].T.astype(float)
    expected = chain.process(np.pad(source, ((0, 0), (0, 192))))[:, 192:].astype(np.float32)
    assert rate == RATE
    np.testing.assert_array_equal(exported.T, expected)


def test_a_preview_says_what_the_compressor_did(client, session_id, track_id):
    add_compressor(client, session_id, track_id, threshold_db=-26.0, knee_db=0.0, attack_ms=0.0)

    answer = preview(client, session_id, track_id, whole=True).json()

    assert answer["source_db"][50] == pytest.approx(-6.02, abs=0.01)
    assert answer["statistics"]["deepest_db"] == pytest.approx(-0.75 * 19.98, abs=0.01)
    assert answer["statistics"]["held_pct"] == pytest.approx(100, abs=0.1)
    assert answer["curve"]["out_db"][-1] == pytest.approx(-26 + 26 / 4, abs=1e-3)
    assert min(answer["burst"]["gain_db"]) == pytest.approx(-9, abs=1e-2)


def test_a_preview_follows_settings_that_are_not_kept(client, session_id, track_id):
    add_compressor(client, session_id, track_id, threshold_db=-26.0)

    tried = preview(client, session_id, track_id, settings={"threshold_db": 0.0, "knee_db": 0.0}).json()

    assert tried["statistics"]["held_pct"] == 0
    state = client.get(f"/api/sessions/{session_id}").json()
    assert state["document"]["tracks"][track_id]["chain"][0]["settings"]["threshold_db"] == -26.0


def test_an_older_preview_is_stopped_by_a_newer_one(client, session_id, track_id):
    add_compressor(client, session_id, track_id)
    preview(client, session_id, track_id, number=5)

    answer = preview(client, session_id, track_id, number=4, start=64)

    assert answer.status_code == 409
    assert "newer change" in answer.json()["error"]


def test_a_newer_look_at_a_part_stops_an_older_one_at_the_whole(client, session_id, track_id):
    add_compressor(client, session_id, track_id)
    preview(client, session_id, track_id, number=5, frames=640)

    assert preview(client, session_id, track_id, number=4, whole=True).status_code == 409


def test_what_is_remembered_of_takes_is_bounded_by_its_size(client, session_id, track_id, monkeypatch):
    add_compressor(client, session_id, track_id)
    monkeypatch.setattr("reins.services.previews.REMEMBERED_BINS", 2000)  # a second of sound is 750 bins
    previews = client.desk.state.previews

    for number in range(6):
        preview(client, session_id, track_id, number=number, whole=True, settings={"threshold_db": -10.0 - number})

    kept = [value.peaks.size for value in previews._known._values.values() if isinstance(value, Span)]
    assert 0 < sum(kept) <= 2000


def test_levels_say_how_long_a_take_sits_at_each(client, session_id, track_id):
    levels = client.get(f"/api/sessions/{session_id}/strips/{track_id}/levels").json()

    assert sum(levels["share_pct"]) == pytest.approx(100, abs=3)
    assert levels["from_db"][int(np.argmax(levels["share_pct"]))] == -7


def make_bad(tmp_path, what):
    path = tmp_path / "bad.wav"
    if what == "text":
        path.write_text("no sound")
    elif what == "empty":
        path.write_bytes(b"")
    elif what == "channels":
        soundfile.write(path, np.zeros((10, 5)), RATE)
    elif what == "nan":
        soundfile.write(path, np.array([0.0, np.nan]), RATE, subtype="FLOAT")
    else:
        soundfile.write(path, np.zeros((1000, 1)), RATE, subtype="PCM_16")
        path.write_bytes(path.read_bytes()[:-500])
    return path


@pytest.mark.parametrize(
    ("what", "sentence"),
    [
        ("text", "not audio"),
        ("empty", "empty"),
        ("channels", "5 channels; mono and stereo"),
        ("nan", "frame 1 is not a number"),
        ("truncated", "truncated"),
    ],
)
def test_a_bad_file_leaves_no_track_and_no_folder(client, house, session_id, tmp_path, what, sentence):
    job = bring_in(client, session_id, make_bad(tmp_path, what))

    assert job["state"] == "failed"
    assert sentence in job["message"]
    assert job["message"].startswith("bad.wav: ")
    assert client.get(f"/api/sessions/{session_id}").json()["document"]["order"] == []
    assert list(house.takes_dir.iterdir()) == []


def test_a_take_that_is_too_long_is_refused(client, house, session_id, tone_file, monkeypatch):
    monkeypatch.setattr("reins.core.audio.MAX_TAKE_S", 0.5)

    job = bring_in(client, session_id, tone_file)

    assert "minutes are allowed" in job["message"]
    assert list(house.takes_dir.iterdir()) == []


def test_an_upload_that_is_too_large_is_refused(client, session_id, tmp_path):
    path = tmp_path / "large.wav"
    path.write_bytes(bytes(5 << 20))

    answer = bring_in(client, session_id, path)

    assert answer.status_code == 413
    assert "5 MiB; up to 4 MiB are allowed" in answer.json()["error"]


def test_a_disk_that_fills_while_bringing_in_leaves_nothing(client, house, session_id, tone_file, monkeypatch):
    def full(*_):
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(takes, "_write_coarser", full)

    job = bring_in(client, session_id, tone_file)

    assert "disk refused" in job["message"]
    assert "nothing was added" in job["message"]
    assert client.get(f"/api/sessions/{session_id}").json()["step"] == 0
    assert list(house.takes_dir.iterdir()) == []


def test_work_that_is_stopped_leaves_nothing(client, house, session_id, tone_file, monkeypatch):
    monkeypatch.setattr("reins.services.jobs.Job.progress", lambda job, *_: (job.cancel(), real(job, 1, 2)))

    job = bring_in(client, session_id, tone_file)

    assert job["state"] == "cancelled"
    assert list(house.takes_dir.iterdir()) == []


def real(job, done, total, _progress=__import__("reins.services.jobs", fromlist=["Job"]).Job.progress):
    return _progress(job, done, total)


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "sentence"),
    [
        ("get", "/sessions/nowhere", None, 404, "no session “nowhere”"),
        ("get", "/api/jobs/never", None, 404, "no piece of work “never”"),
        ("get", "/api/sessions/nowhere", None, 404, "no session “nowhere”"),
        ("post", "/api/sessions", {"name": "  "}, 422, "1 to 80 characters"),
        ("post", "/api/sessions", {"title": "x"}, 422, "Nothing was changed"),
        (
            "post",
            "/api/sessions/{s}/changes",
            {"kind": "set_strip", "strip_id": "zz", "values": {}},
            404,
            "no track or bus “zz”",
        ),
        ("post", "/api/sessions/{s}/changes", {"kind": "add_track"}, 422, "Nothing was changed"),
        ("post", "/api/sessions/{s}/strips/{t}/export", {"format": "mp3"}, 422, "wav or flac is allowed"),
        ("post", "/api/sessions/{s}/strips/{t}/export", {"format": "flac", "bits": "32f"}, 422, "16 or 24 bits"),
    ],
)
def test_requests_that_make_no_sense_get_a_sentence(client, session_id, track_id, method, path, body, status, sentence):
    answer = client.request(method, path.format(s=session_id, t=track_id), json=body)

    assert answer.status_code == status
    assert sentence in answer.text


def test_only_what_changes_says_that_nothing_was_changed(client, session_id):
    place = f"/api/sessions/{session_id}"
    asked = client.post(f"{place}/reference/gain", json={"desk": "d", "number": 1}).json()["error"]
    changes = client.post(f"{place}/changes", json={"kind": "remove_reference"}).json()["error"]

    assert asked.startswith("There is no reference") and "Nothing was changed" not in asked
    assert changes.startswith("There is no reference") and changes.endswith("Nothing was changed.")


def test_limits_are_named_when_a_setting_breaks_them(client, session_id, track_id):
    answer = add_compressor(client, session_id, track_id, attack_ms=900.0)

    assert answer.status_code == 422
    assert (
        answer.json()["error"]
        == "Front room (compressor): attack_ms is 900.0; allowed: a number from 0 to 500 ms. Nothing was changed."
    )


@pytest.mark.parametrize(
    ("headers", "allowed"),
    [
        ({"host": "evil.example"}, False),
        ({"origin": "http://evil.example"}, False),
        ({"origin": "http://localhost"}, True),
        ({}, True),
    ],
)
def test_only_this_desk_may_send_changes(client, headers, allowed):
    answer = client.post("/api/sessions", json={"name": "x"}, headers=headers)

    assert (answer.status_code == 200) is allowed


def test_a_name_that_looks_like_a_path_stays_a_name(client, house, session_id, tone_file):
    job = bring_in(client, session_id, tone_file, name="../../etc/Loud.wav")

    track = client.get(f"/api/sessions/{session_id}").json()["document"]["tracks"][job["result"]["track_id"]]
    assert track["name"] == "Loud"
    assert [p.name for p in house.takes_dir.iterdir()] == [track["take_id"]]


def test_pages_carry_a_strict_policy_and_load_nothing_from_outside(client, session_id):
    page = client.get(f"/sessions/{session_id}")

    policy = page.headers["content-security-policy"]
    assert "default-src 'none'" in policy
    assert "unsafe" not in policy
    assert "<style" not in page.text
    assert "style=" not in page.text
    assert all(
        "//" not in part.split('"')[0] or "localhost" in part.split('"')[0] for part in page.text.split('src="')[1:]
    )


def test_figures_of_an_excerpt_are_those_of_where_it_is_loudest(client, session_id, tmp_path):
    level = np.repeat([0.02, 0.3, 0.05, 0.02], 5 * RATE)
    sound = level * np.random.default_rng(1).standard_normal(level.size).clip(-3, 3)
    soundfile.write(tmp_path / "Swell.wav", sound, RATE, subtype="FLOAT")
    track = bring_in(client, session_id, tmp_path / "Swell.wav")["result"]["track_id"]
    add_compressor(client, session_id, track, threshold_db=-24.0)

    loudest = preview(client, session_id, track, excerpt=True, columns=1).json()

    assert loudest["excerpt"] == [5 * RATE, 5 * RATE] and not loudest["whole"]
    there = preview(client, session_id, track, number=2, start=5 * RATE, frames=5 * RATE).json()
    assert loudest["statistics"] == there["statistics"] and loudest["result"] == there["result"]
    whole = preview(client, session_id, track, number=3, whole=True).json()
    assert loudest["statistics"]["held_pct"] > 1.5 * whole["statistics"]["held_pct"] > 0
