"""Limits on files and sessions: looked at before anything is resampled or written, each said with what is allowed."""

import io
import json
import resource
import shutil
import struct
import zipfile
from collections import namedtuple

import numpy as np
import pytest
import soundfile

from reins.core.audio import AudioReader
from reins.core.limits import MAX_PROCESSORS, MAX_RATE, MAX_TRACKS, MIN_RATE
from reins.errors import AudioError
from reins.services.editing import document_of
from reins.services.jobs import KEPT_FILES
from tests.conftest import RATE
from tests.test_cli import reins
from tests.web.conftest import bring_in, finished
from tests.web.test_handing_over import opened
from tests.web.test_web import add_compressor, change


def run(folder, *arguments):
    """(exit code, what was said on standard error) of the command line."""
    done = reins(*arguments, cwd=folder)
    return done.returncode, done.stderr


def wav(path, rate, frames=10_000):
    """A WAV whose header says any rate, 16 bits mono."""
    data = np.zeros(frames, "<i2").tobytes()
    header = struct.pack("<4sI4s4sIHHIIHH4sI", b"RIFF", 36 + len(data), b"WAVE", b"fmt ", 16, 1, 1, rate, 2 * rate, 2,
                         16, b"data", len(data))  # fmt: skip
    path.write_bytes(header + data)
    return path


@pytest.mark.parametrize("rate", [1, 8, MIN_RATE - 1, MAX_RATE + 1, 10_000_000])
def test_a_rate_that_no_recording_has_is_refused_at_every_entry_before_it_costs_anything(
    client, house, session_id, track_id, tmp_path, rate
):
    path = wav(tmp_path / "odd.wav", rate)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss

    job = bring_in(client, session_id, path)
    chain = tmp_path / "chain.json"
    chain.write_text('{"format": "reins-chain", "version": 1, "processors": []}')
    told = run(tmp_path, "process", path, "-o", tmp_path / "o.wav", "--chain", chain)
    measured = run(tmp_path, "measure", path)
    document = session_file_with(tmp_path, path)
    (tmp_path / "out").mkdir()
    rendered = run(tmp_path, "render", document, "-o", tmp_path / "out")

    for sentence in (job["message"], told[1], measured[1], rendered[1]):
        assert f"{rate} Hz" in sentence and "8000 to 384000 Hz" in sentence
    assert told[0] == measured[0] == rendered[0] == 2
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 200_000  # KiB
    assert len(document_of(house, session_id).order) == 1


def session_file_with(folder, path):
    place = folder / "session.json"
    tracks = {"t": {"name": "T", "take_id": "a"}}
    session = {"name": "x", "sample_rate": RATE, "tracks": tracks, "order": ["t"]}
    whole = {
        "format": "reins-session",
        "version": 1,
        "session": session,
        "takes": {"a": {"name": "T", "file": path.name}},
    }
    place.write_text(json.dumps(whole))
    return place


def test_resampling_works_in_bounded_pieces(tmp_path):
    path = wav(tmp_path / "slow.wav", 8000, 80_000)
    with AudioReader(path, sample_rate=384_000) as reader:
        blocks = list(reader.blocks())
    assert sum(block.shape[1] for block in blocks) == 80_000 * 48
    assert max(block.shape[1] for block in blocks) < 1 << 18


@pytest.mark.parametrize("value", [1e300, -1e20, 2.0**24 + 4])
def test_samples_beyond_any_recording_are_refused(client, house, session_id, tmp_path, value):
    path = tmp_path / "loud.wav"
    soundfile.write(path, np.array([0.0, value, 0.0]), RATE, subtype="DOUBLE")

    job = bring_in(client, session_id, path)

    assert job["state"] == "failed" and "frame 1" in job["message"] and "allowed" in job["message"]
    assert list(house.takes_dir.iterdir()) == []
    with pytest.raises(AudioError), AudioReader(path) as reader:
        list(reader.blocks())


def test_a_disk_without_room_is_said_before_anything_is_written(client, house, session_id, tone_file, monkeypatch):
    usage = namedtuple("usage", "total used free")
    monkeypatch.setattr(shutil, "disk_usage", lambda _: usage(1 << 40, 0, 257 << 20))
    silence = tone_file.with_name("long silence.flac")
    soundfile.write(silence, np.zeros(RATE * 60 * 5), RATE)  # small, until it is unpacked
    assert silence.stat().st_size < 1 << 20

    job = bring_in(client, session_id, silence)

    assert "MiB must stay free" in job["message"] and "Nothing was written" in job["message"]
    assert list(house.takes_dir.iterdir()) == []


def session_text(**changes):
    chain = changes.pop("chain", [])
    track = {"name": "T", "chain": chain, **changes.pop("track", {})}
    tracks = changes.pop("tracks", {"t": track})
    session = {"name": "x", "sample_rate": RATE, "tracks": tracks, "order": sorted(tracks), **changes}
    return json.dumps({"format": "reins-session", "version": 1, "session": session, "takes": {}})


def processors(count, **settings):
    return [{"id": f"p{k}", "type": "deesser", "settings": settings} for k in range(count)]


@pytest.mark.parametrize(
    ("text", "place", "said"),
    [
        (session_text(chain=5), "tracks.t.chain", "5"),
        (session_text(track={"drafts": {"2": [7]}}), "tracks.t.drafts: draft 2, processor 0", "object"),
        (session_text(track={"drafts": {"2": 7}}), "tracks.t.drafts: draft 2", "7"),
        (session_text(chain=processors(1, low_hz=12000)), "tracks.t.chain", "high_hz is 9000"),
        (session_text(chain=processors(2)[:1] * 2), "tracks.t", "p0"),
        (session_text(chain=processors(MAX_PROCESSORS + 1)), "tracks.t", str(MAX_PROCESSORS)),
        (session_text(tracks={f"t{k}": {"name": "T"} for k in range(MAX_TRACKS + 1)}), "tracks", str(MAX_TRACKS)),
        (session_text(tracks={"master": {"name": "T"}}), "tracks", "master"),
        (session_text(tracks={"a/b": {"name": "T"}}), "tracks", "a/b"),
        (session_text(buses={"t": {"name": "B"}}, bus_order=["t"]), "buses", "that no track has"),
        (session_text(solo_sets={"verse": ["t"] * 400}), "solo_sets.verse", "321"),
        (session_text(draft_sets={"verse": {"t" * 65: 1}}), "draft_sets.verse", "40"),
        (session_text(track={"start_frame": 2**53}), "start_frame", "less than"),
        (session_text(track={"start_frame": 10**30}), "start_frame", "64 bits"),
        (session_text(loop={"on": True, "start_frame": 5, "end_frame": 5}), "end_frame", "after start_frame"),
        ('{"\\ud800": 1}', "session.json", "surrogate"),
        ("[" * 100_000, "session.json", "nested"),
    ],
)
def test_a_session_file_that_is_wrong_is_refused_with_place_and_reason(client, house, text, place, said):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as packed:
        packed.writestr("session.json", text)

    job = opened(client, out.getvalue(), "odd.zip")

    assert job["state"] == "failed" and "went wrong" not in job["message"]
    assert job["message"].startswith("odd.zip") and place in job["message"] and said in job["message"]
    assert "The shelf is empty" in client.get("/").text


def test_damaged_packing_of_any_kind_is_said(client):
    for method in (zipfile.ZIP_LZMA, zipfile.ZIP_BZIP2, zipfile.ZIP_DEFLATED):
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", method) as packed:
            packed.writestr("session.json", session_text() + " " * 5000)
        raw = bytearray(out.getvalue())
        for k in range(50, 90):
            raw[k] ^= 0x5A
        job = opened(client, bytes(raw), "damaged.zip")
        assert job["state"] == "failed" and "damaged" in job["message"], method


def test_rules_between_settings_hold_wherever_settings_enter(
    client, house, session_id, track_id, tmp_path, tone_file, capsys
):
    change(client, session_id, kind="add_processor", strip_id=track_id, type="deesser", processor_id="d")
    bad = {"low_hz": 12000.0}
    place = {"strip_id": track_id, "processor_id": "d"}
    answers = [
        client.post(f"/api/sessions/{session_id}/changes", json={"kind": "set_processor", "settings": bad, **place}),
        client.post("/api/points", json={"type": "deesser", "name": "Odd", "settings": bad}),
        client.post(f"/api/sessions/{session_id}/strips/{track_id}/preview", json={
            "desk": "d", "number": 1, "start": 0, "frames": 100, "columns": 10, "processor_id": "d", "settings": bad}),
    ]  # fmt: skip
    for answer in answers:
        assert (
            answer.status_code == 422
            and "high_hz is 9000; allowed: at least 5 % above low_hz" in answer.json()["error"]
        )
    chain = tmp_path / "c.json"
    chain.write_text(json.dumps({
        "format": "reins-chain", "version": 1, "processors": [{"type": "deesser", "settings": bad}]}))  # fmt: skip
    code, said = run(tmp_path, "process", tone_file, "-o", tmp_path / "o.wav", "--chain", chain)
    assert code == 2 and "high_hz is 9000" in said and not (tmp_path / "o.wav").exists()
    assert client.get("/").status_code == 200


def test_a_chain_can_be_no_longer_than_the_limit_by_any_change(client, house, session_id, track_id):
    for k in range(MAX_PROCESSORS):
        change(client, session_id, kind="add_processor", strip_id=track_id, type="gate", processor_id=f"g{k}")
    for body in (
        {"kind": "add_processor", "strip_id": track_id, "type": "gate", "processor_id": "more"},
        {"kind": "duplicate_processor", "strip_id": track_id, "processor_id": "g0"},
    ):
        answer = client.post(f"/api/sessions/{session_id}/changes", json=body)
        assert answer.status_code in (409, 422) and str(MAX_PROCESSORS) in answer.json()["error"]
    assert len(document_of(house, session_id).tracks[track_id].chain) == MAX_PROCESSORS


def test_exports_go_with_their_job_and_at_the_end(client, house, session_id, track_id):
    add_compressor(client, session_id, track_id)
    path, jobs = f"/api/sessions/{session_id}/strips/{track_id}/export", []
    for _ in range(15):
        jobs.append(finished(client, client.post(path, json={"format": "wav", "bits": "24"}).json()))
    assert all(job["state"] == "done" for job in jobs)

    kept = [job for job in jobs if client.get(f"/api/jobs/{job['id']}/file").status_code == 200]
    assert kept == jobs[-len(kept) :] and KEPT_FILES <= len(kept) <= KEPT_FILES + 1
    gone = client.get(f"/api/jobs/{jobs[0]['id']}/file")
    assert 400 <= gone.status_code < 500 and "passing" not in gone.text and gone.json()["error"]
    assert len(list(house.passing_dir.rglob("*.wav"))) == len(kept)
    for path in house.passing_dir.rglob("*.wav"):
        path.unlink()  # by somebody, under the running server
    lost = client.get(f"/api/jobs/{jobs[-1]['id']}/file")
    assert 400 <= lost.status_code < 500 and "passing" not in lost.text and lost.json()["error"]
    house.close()
    assert list(house.passing_dir.iterdir()) == []
