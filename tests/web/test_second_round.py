"""What must hold whatever comes: an older database with rows, takes of another session, names that are HTML, a disk
that becomes read-only, files that swell.
"""

import sqlite3

import numpy as np
import pytest
import soundfile

from reins.core import takes
from reins.core.takes import write_take
from reins.services import bringing_in
from reins.services.editing import document_of, new_session
from reins.services.house import House
from reins.store.database import MIGRATIONS
from tests.conftest import RATE
from tests.web.conftest import bring_in

HTML = "<img src=x onerror=alert(1)>"


@pytest.mark.parametrize("version", [1, 2, 3])
def test_an_older_database_with_rows_opens_with_its_sessions_steps_and_takes(tmp_path, version):
    data, take_id = tmp_path / "data", "c" * 32
    write_take(data / "takes" / take_id, [np.full((1, 4800), 0.25)], channels=1, sample_rate=RATE)
    db = sqlite3.connect(data / "reins.db")
    for path in sorted(MIGRATIONS.glob("[0-9]*.sql"))[:version]:
        db.executescript(path.read_text())
    track = f'{{"name": "A", "take_id": "{take_id}", "fader_db": -3.0}}'
    document = f'{{"name": "Old", "sample_rate": {RATE}, "tracks": {{"t": {track}}}, "order": ["t"]}}'
    now = "2026-01-01T00:00:00.000+00:00"
    db.execute(
        "INSERT INTO sessions (id, document, step, created_at, changed_at) VALUES ('s', ?, 1, ?, ?)",
        [document, now, now],
    )
    if version >= 2:
        db.execute("UPDATE sessions SET tip = 1")
    db.execute(
        "INSERT INTO takes (id, session_id, name, channels, sample_rate, frames) VALUES (?, 's', 'A', 1, ?, 4800)",
        [take_id, RATE],
    )
    db.execute(
        "INSERT INTO steps (session_id, number, label, before, after, made_at) VALUES ('s', 1, 'A: fader', ?, ?, ?)",
        ['{"tracks": {"t": {"fader_db": 0.0}}}', '{"tracks": {"t": {"fader_db": -3.0}}}', now],
    )  # fmt: skip
    db.commit()
    db.close()

    house = House(data)

    (take,) = house.takes(document_of(house, "s")).values()
    assert take.facts.frames == 4800 and document_of(house, "s").tracks["t"].fader_db == -3.0
    with house.reading() as opened:
        assert [row[0] for row in opened.execute("SELECT label FROM steps")] == ["A: fader"]
    assert len(list((data / "copies").iterdir())) == 1 and not list((data / "lost").glob("*"))
    house.close()


def test_no_change_takes_a_recording_of_another_session(client, house, session_id, track_id):
    take_id = document_of(house, session_id).tracks[track_id].take_id
    other = new_session(house, "Elsewhere")
    room = {"kind": "add_processor", "strip_id": "master", "type": "room", "processor_id": "r"}
    assert client.post(f"/api/sessions/{other}/changes", json=room).status_code == 200
    before = document_of(house, other)

    for body in (
        {"kind": "add_track", "track_id": "n", "take_id": take_id, "name": "N"},
        {"kind": "replace_take", "track_id": "n", "take_id": take_id, "name": "N"},
        {"kind": "join_tracks", "left_id": "a", "right_id": "b", "take_id": take_id, "name": "N", "start_frame": 0},
        {"kind": "add_impulse", "strip_id": "master", "processor_id": "r", "take_id": take_id, "name": "N"},
        {"kind": "remove_impulse", "strip_id": "master", "processor_id": "r", "take_id": take_id},
        {"kind": "set_reference", "take_id": take_id, "name": "N"},
        {"kind": "set_processor", "strip_id": "master", "processor_id": "r", "settings": {"impulse": take_id}},
    ):
        answer = client.post(f"/api/sessions/{other}/changes", json=body)
        assert 400 <= answer.status_code < 500, (body, answer.text)
    assert document_of(house, other) == before


def test_names_that_are_html_are_text_on_every_page(client, house):
    session = client.post("/api/sessions", json={"name": HTML}).json()["id"]
    for raw in (
        {"kind": "put_place", "place_id": "p", "name": HTML, "at_frame": 0},
        {"kind": "add_bus", "bus_id": "b", "name": HTML, "members": []},
        {"kind": "copy_draft", "strip_id": "b", "draft": 2},
        {"kind": "name_draft", "strip_id": "b", "draft": 2, "name": HTML},
        {"kind": "name_draft", "strip_id": "b", "draft": 1, "name": HTML},
        {"kind": "keep_set", "what": "drafts", "name": HTML},
    ):
        assert client.post(f"/api/sessions/{session}/changes", json=raw).status_code == 200, raw

    for path in ("/", "/batch", f"/sessions/{session}", f"/sessions/{session}/recall"):
        text = client.get(path).text
        assert HTML not in text, path
        assert "onerror" not in text or "&lt;img" in text or "\\u003cimg" in text, path


def test_a_disk_that_becomes_read_only_is_said_and_nothing_is_lost(client, house, session_id, track_id, monkeypatch):
    before = document_of(house, session_id)

    def refused(*_):
        raise OSError(30, "Read-only file system")

    with monkeypatch.context() as patched:
        patched.setattr(takes, "sync", refused)
        path = house.folder.root.parent / "Front room.wav"
        job = bring_in(client, session_id, path)
        assert job["state"] == "failed" and "Read-only file system" in job["message"] and "rror(" not in job["message"]
    house.folder.writer.execute("PRAGMA query_only = 1")  # what sqlite says of a disk that takes no more
    body = {"kind": "set_strip", "strip_id": track_id, "values": {"fader_db": -5.0}}
    answer = client.post(f"/api/sessions/{session_id}/changes", json=body)
    assert answer.status_code >= 400 and "Traceback" not in answer.text
    assert document_of(house, session_id) == before
    house.folder.writer.execute("PRAGMA query_only = 0")
    assert client.post(f"/api/sessions/{session_id}/changes", json=body).status_code == 200


def test_a_small_file_that_would_take_a_great_deal_says_so_first(client, session_id, tmp_path, monkeypatch):
    monkeypatch.setattr(bringing_in, "SWELLS_BYTES", 100_000)
    soundfile.write(tmp_path / "nothing.flac", np.zeros(RATE * 4), RATE)

    first = bring_in(client, session_id, tmp_path / "nothing.flac")
    second = bring_in(client, session_id, tmp_path / "nothing.flac")

    assert first["state"] == "failed" and "more than 10 times as much; bring it in once more" in first["message"]
    assert second["state"] == "done"
