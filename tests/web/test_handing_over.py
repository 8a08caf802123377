"""Mix, stems and session files: out, in again, and refused when they are not what they should be."""

import io
import json
import re
import struct
import zipfile

import numpy as np
import pytest
import soundfile
import soxr

from reins.cli import app
from reins.core.audio import time_stamp
from reins.core.engine.length import sounding_frames
from reins.core.engine.mixer import Mixer
from reins.core.engine.offline import render_mix
from reins.services.editing import document_of
from tests.conftest import RATE
from tests.web.conftest import bring_in, finished
from tests.web.test_web import add_compressor, change


def wav(path, samples, rate=RATE, subtype="PCM_24", stamp=None):
    """A wave file, with a Broadcast Wave chunk when a time stamp is given (EBU Tech 3285)."""
    soundfile.write(path, samples.T, rate, subtype=subtype)
    if stamp is not None:
        raw = path.read_bytes()
        bext = b"\0" * 338 + struct.pack("<Q", stamp) + b"\0" * 256
        chunk = b"bext" + struct.pack("<I", len(bext)) + bext
        path.write_bytes(raw[:4] + struct.pack("<I", len(raw) - 8 + len(chunk)) + raw[8:12] + chunk + raw[12:])
    return path


@pytest.fixture
def evening(client, session_id, tmp_path, noise):
    """A session with three tracks, two of them in a bus, something on every chain."""
    loud = np.concatenate([noise, noise * 2.5], axis=1)  # above full scale in part
    paths = [
        wav(tmp_path / "One.wav", noise[:1]), wav(tmp_path / "Two.wav", loud, subtype="FLOAT"),
        wav(tmp_path / "Three.wav", noise[:, :12000], rate=44100),
    ]  # fmt: skip
    ids = [bring_in(client, session_id, path)["result"]["track_id"] for path in paths]
    add_compressor(client, session_id, ids[0], threshold_db=-40.0, lookahead_ms=4.0)
    change(client, session_id, kind="add_bus", bus_id="pair", name="Pair/../x", members=ids[:2])
    change(client, session_id, kind="add_processor", strip_id="pair", type="limiter", processor_id="l")
    change(
        client,
        session_id,
        kind="set_strip",
        strip_id=ids[2],
        values={"pan_pct": 30.0, "trim_db": -3.0, "inverted": True},
    )
    change(client, session_id, kind="set_strip", strip_id="master", values={"fader_db": -2.0})
    return session_id


def fetched(client, job):
    job = finished(client, job)
    assert job["state"] == "done", job
    return client.get(f"/api/jobs/{job['id']}/file").content


def mix_of(house, session_id, document=None):
    document = document or document_of(house, session_id)
    mixer = Mixer(document, house.takes(document))
    return np.concatenate(
        list(render_mix(mixer, 0, sounding_frames(mixer.document, mixer.takes), block_frames=8192)), axis=1
    )


def session_file(client, session_id):
    return fetched(client, client.post(f"/api/sessions/{session_id}/file").json())


def opened(client, raw, name="x.reins.zip"):
    return finished(client, client.post("/api/sessionfiles", files={"file": (name, raw)}).json())


def test_the_exported_mix_is_what_is_heard_and_the_stems_add_up_to_it(client, house, evening):
    mix = fetched(client, client.post(f"/api/sessions/{evening}/mix", json={"bits": "32f"}).json())
    packed = fetched(client, client.post(f"/api/sessions/{evening}/mix", json={"bits": "32f", "stems": True}).json())

    mix = soundfile.read(io.BytesIO(mix))[0].T
    np.testing.assert_array_equal(mix, mix_of(house, evening).astype(np.float32))
    with zipfile.ZipFile(io.BytesIO(packed)) as stems:
        assert stems.namelist() == ["stem_01_Three.wav", "stem_02_Pair_x.wav"]
        parts = [soundfile.read(io.BytesIO(stems.read(name)))[0].T for name in stems.namelist()]
    np.testing.assert_allclose(sum(parts), mix, atol=1e-6)
    assert np.abs(mix).max() > 0.3


def test_another_rate_is_what_a_resampler_makes_of_it(client, house, evening):
    raw = fetched(client, client.post(f"/api/sessions/{evening}/mix", json={"bits": "32f", "rate": 96000}).json())

    out, rate = soundfile.read(io.BytesIO(raw))
    expected = soxr.resample(mix_of(house, evening).T, RATE, 96000, quality="VHQ")
    assert (rate, out.shape[0]) == (96000, 2 * mix_of(house, evening).shape[1])
    np.testing.assert_allclose(out[: expected.shape[0]], expected[: out.shape[0]], atol=1e-6)


def test_a_session_file_there_and_back_is_the_same_sample_for_sample(client, house, evening):
    raw = session_file(client, evening)

    job = opened(client, raw)
    again = job["result"]["session_id"]

    old, new = document_of(house, evening), document_of(house, again)
    takes = {old.tracks[k].take_id: new.tracks[k].take_id for k in old.tracks}
    moved = old.model_dump()
    for track in moved["tracks"].values():
        track["take_id"] = takes[track["take_id"]]
    assert new.model_dump() == moved
    np.testing.assert_array_equal(mix_of(house, again), mix_of(house, evening))
    assert session_file(client, again) != raw  # other ids, but
    with zipfile.ZipFile(io.BytesIO(raw)) as packed:
        document = json.loads(packed.read("session.json"))
        files = [take["file"] for take in document["takes"].values()]
        assert packed.namelist() == ["session.json", *files]
        assert all(soundfile.info(io.BytesIO(packed.read(name))).format == "FLAC" for name in files)
        exponents = sorted(take["exponent"] for take in document["takes"].values())
    assert exponents == [0, 1, 2]  # resampling overshoots full scale


def tampered(raw, **changes):
    """The session file with entries replaced, or dropped where None."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(raw)) as packed, zipfile.ZipFile(out, "w") as changed:
        for name in packed.namelist():
            content = changes.get(name, packed.read(name))
            if content is not None:
                changed.writestr(name, content)
    return out.getvalue()


def test_session_files_that_are_not_right_are_refused_and_leave_nothing(client, house, evening):
    raw = session_file(client, evening)
    with zipfile.ZipFile(io.BytesIO(raw)) as packed:
        text, take = packed.read("session.json").decode(), packed.namelist()[1]
    broken = bytearray(raw)
    broken[raw.index(b"fLaC") + 300] ^= 0xFF
    ratio = text.index('"ratio"')

    def with_text(changed):
        return tampered(raw, **{"session.json": changed})

    cases = {
        "not a zip": (b"nothing of the kind" * 100, "damaged, or not a session file"),
        "cut off": (raw[: len(raw) // 2], "damaged, or not a session file"),
        "a bit flipped": (bytes(broken), "damaged"),
        "no document": (with_text(None), "no session.json in it"),
        "no JSON": (with_text("{oops"), "line 1 is not JSON"),
        "another format": (with_text('{"format": "reins-chain"}'), "format is"),
        "a newer version": (with_text(text.replace('"version": 1', '"version": 2')), "version is 2"),
        "a value outside": (with_text(text[:ratio] + '"ratio": 0, "x' + text[ratio + 2 :]), "ratio"),
        "a path outside": (with_text(text.replace(f'"{take}"', '"../../etc/passwd"')), r"no \.\."),
        "an absolute path": (with_text(text.replace(f'"{take}"', '"/etc/passwd"')), r"no \.\."),
        "a take missing": (tampered(raw, **{take: None}), "is not in it"),
        "a take that is no audio": (tampered(raw, **{take: b"not audio"}), "not audio that can be read"),
        "an unknown bus": (with_text(text.replace('"bus": "pair"', '"bus": "gone"')), "bus is “gone”"),
    }
    sessions = client.get("/").text.count("card-link")
    takes = set(house.takes_dir.iterdir())

    for name, (content, sentence) in cases.items():
        job = opened(client, content, f"{name}.zip")
        assert job["state"] == "failed", name
        assert job["message"].startswith(f"{name}.zip"), job["message"]
        assert re.search(sentence, job["message"])

    assert client.get("/").text.count("card-link") == sessions
    assert set(house.takes_dir.iterdir()) == takes
    assert [p for p in house.passing_dir.iterdir() if (p / "upload").exists()] == []


def test_an_export_that_is_stopped_or_finds_no_room_leaves_nothing(client, house, evening, monkeypatch):
    def refuse(*_):
        raise OSError(28, "No space left on device")

    before = set(house.passing_dir.iterdir())
    monkeypatch.setattr("soundfile.SoundFile.write", refuse)
    full = finished(client, client.post(f"/api/sessions/{evening}/mix", json={}).json())
    monkeypatch.undo()
    real = __import__("reins.services.jobs", fromlist=["Job"]).Job.progress
    monkeypatch.setattr("reins.services.jobs.Job.progress", lambda job, *a: (job.cancel(), real(job, *a)))
    stopped = finished(client, client.post(f"/api/sessions/{evening}/mix", json={"stems": True}).json())

    assert (full["state"], stopped["state"]) == ("failed", "cancelled")
    assert "the disk refused" in full["message"]
    assert set(house.passing_dir.iterdir()) == before


def test_time_stamps_line_tracks_up(client, house, session_id, tmp_path, noise):
    first = wav(tmp_path / "a.wav", noise[:, :100], stamp=480000)
    earlier = wav(tmp_path / "b.wav", noise[:, :100], rate=24000, stamp=120000)  # 5 s, where a is at 10 s
    plain = wav(tmp_path / "c.wav", noise[:, :100])
    far = wav(tmp_path / "d.wav", noise[:, :100], stamp=RATE * 3600 * 12)

    assert [time_stamp(p) for p in (first, earlier, plain)] == [480000, 120000, None]
    for path in (first, earlier, plain):
        bring_in(client, session_id, path)
    starts = {t.name: t.start_frame for t in document_of(house, session_id).tracks.values()}
    bring_in(client, session_id, far)

    assert starts == {"a": 240000, "b": 0, "c": 0}
    assert {t.name: t.start_frame for t in document_of(house, session_id).tracks.values()} == starts | {"d": 0}


def test_the_first_take_gives_the_session_its_rate(client, house, session_id, tmp_path, noise):
    for name, rate in (("a", 44100), ("b", 48000)):
        bring_in(client, session_id, wav(tmp_path / f"{name}.wav", noise, rate=rate))

    document = document_of(house, session_id)
    takes = house.takes(document)
    facts = {t.name: takes[t.take_id].facts for t in document.tracks.values()}
    assert document.sample_rate == 44100
    assert (facts["a"].frames, facts["b"].frames) == (24000, 22050)


def test_a_bus_and_the_mix_are_drawn_from_what_comes_to_them(client, house, evening):
    ask = {"desk": "d", "number": 1, "start": 0, "frames": 24000, "columns": 75, "processor_id": "l"}

    answer = client.post(f"/api/sessions/{evening}/strips/pair/preview", json=ask).json()
    levels = client.get(f"/api/sessions/{evening}/strips/master/levels").json()

    document = document_of(house, evening)
    bare = document.with_strip("pair", chain=[]).with_strip("master", fader_db=0.0)
    third = next(k for k, t in bare.tracks.items() if t.name == "Three")
    pair = np.abs(mix_of(house, evening, bare.with_strip(third, mute=True))).max(axis=0)[:24000]
    np.testing.assert_allclose(answer["source_db"], 20 * np.log10(pair.reshape(75, 320).max(axis=1)), atol=0.01)
    assert answer["result"]["peak_db"] <= -1.0
    assert levels["frames"] == 48000
    assert max(levels["overview_db"]) == pytest.approx(20 * np.log10(np.abs(mix_of(house, evening)).max()) + 2, abs=0.1)


def test_equally_loud_choices_and_makeup_are_answered(client, house, evening):
    track_id = next(k for k, t in document_of(house, evening).tracks.items() if t.name == "One")

    gains = client.post(f"/api/sessions/{evening}/matching", json={"desk": "d", "number": 2}).json()["gains_db"]
    stale = client.post(f"/api/sessions/{evening}/matching", json={"desk": "d", "number": 1})
    kept = client.post(f"/api/sessions/{evening}/strips/{track_id}/processors/c/makeup")

    assert gains["result"] == 0
    assert abs(gains["source"]) > 0.5
    assert stale.status_code == 409
    assert kept.json()["label"].startswith("One: compressor makeup 0.0 dB → ")
    assert document_of(house, evening).tracks[track_id].chain[0].settings.makeup_db > 1


def test_own_starting_points_are_kept_and_travel_as_chain_files(client):
    kept = client.post("/api/points", json={"type": "compressor", "name": "Mine", "settings": {"ratio": 3.5}}).json()
    (point,) = kept["points"]
    raw = client.get(f"/api/points/{point['id']}/file")

    client.delete(f"/api/points/{point['id']}")
    read = client.post("/api/points/file", files={"file": ("Mine too.json", raw.content)}).json()

    assert json.loads(raw.content)["processors"][0]["settings"]["ratio"] == 3.5
    assert [(p["name"], p["settings"]["ratio"]) for p in read["points"]] == [("Mine too", 3.5)]

    def keep(kind, name, **settings):
        return client.post("/api/points", json={"type": kind, "name": name, "settings": settings})

    for answer, sentence in [
        (keep("organ", "x"), "no processor type “organ”"),
        (keep("limiter", " "), "1 to 80 characters"),
        (keep("limiter", "x", ceiling_db=9), "from -24 to 0"),
        (client.delete("/api/points/none"), "no starting point “none”"),
        (client.post("/api/points/file", files={"file": ("x.json", b"[]")}), "it must be an object"),
        (client.post("/api/points/file", files={"file": ("x.json", b"\xff\xfe")}), "cannot be read as text"),
    ]:  # fmt: skip
        assert sentence in answer.json()["error"]


def test_render_writes_mix_and_stems_of_a_session_file(client, house, evening, tmp_path, capsys):
    (tmp_path / "s.zip").write_bytes(session_file(client, evening))
    zipfile.ZipFile(tmp_path / "s.zip").extractall(tmp_path / "folder")
    for name in ("zipped", "plain"):
        (tmp_path / name).mkdir()

    app(["render", str(tmp_path / "s.zip"), "-o", str(tmp_path / "zipped"), "--stems", "--mix"], standalone_mode=False)
    app(["render", str(tmp_path / "folder/session.json"), "-o", str(tmp_path / "plain")], standalone_mode=False)

    mix = soundfile.read(tmp_path / "zipped/mix.wav")[0].T
    stems = [soundfile.read(path)[0].T for path in (tmp_path / "zipped").glob("stem_*.wav")]
    assert sorted(p.name for p in (tmp_path / "plain").iterdir()) == ["mix.wav"]
    np.testing.assert_array_equal(mix, mix_of(house, evening).astype(np.float32))
    np.testing.assert_array_equal(mix, soundfile.read(tmp_path / "plain/mix.wav")[0].T)
    np.testing.assert_allclose(sum(stems), mix, atol=1e-6)
    assert "behind the limiter" not in capsys.readouterr().err

    told = json.loads((tmp_path / "folder/session.json").read_text())
    chain = [{"type": "limiter", "id": "l"}, {"type": "colour", "id": "c"}]
    told["session"]["master"] |= {"chain": chain}
    (tmp_path / "folder/session.json").write_text(json.dumps(told))
    app(["render", str(tmp_path / "folder/session.json"), "-o", str(tmp_path / "plain")], standalone_mode=False)
    assert "Master: Colour stands behind the limiter" in capsys.readouterr().err
