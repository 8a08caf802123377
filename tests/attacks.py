"""Attacks that the tests make a few of and `make soak` thousands: random settings on nasty sound, files with bytes
turned, a server killed while it keeps changes, the same work again and again.
"""

import contextlib
import http.client
import io
import json
import random
import signal
import sys
import threading
import time
import urllib.request
import zipfile
from pathlib import Path
from typing import NamedTuple

import numpy as np
import soundfile

from reins import cli
from reins.core.audio import AudioReader
from reins.core.chainfile import parse_entry
from reins.core.dsp.levels import is_finite
from reins.core.engine.chain import Chain
from reins.core.limits import MAX_SAMPLE
from reins.core.processors import PROCESSORS
from reins.core.settings.fields import describe_fields
from reins.errors import ReinsError, SettingsError
from reins.services.house import House
from reins.services.sessionfiles import import_session
from tests.conftest import RATE


def random_settings(kind, rng):
    """Settings of a type drawn between their limits and at them; tried until they go together."""

    def drawn(fields):
        values = {}
        for row in fields:
            place = values
            *parents, last = row["name"].split(".")
            for part in parents:
                place = place.setdefault(part, {})
            if row["kind"] == "number" and rng.random() < 0.7:
                ends = [row["low"], row["high"], rng.uniform(row["low"], row["high"])]
                place[last] = float(rng.choice(ends)) if not isinstance(row["default"], int) else row["default"]
            elif row["kind"] == "choice" and rng.random() < 0.7:
                place[last] = rng.choice(row["options"])
            elif row["kind"] == "list" and row["fields"]:
                place[last] = [drawn(row["fields"]) for _ in range(rng.randrange(4))]
        return values

    while True:
        values = drawn(describe_fields(PROCESSORS[kind].Settings))
        values.pop("match_loudness", None)
        if kind == "multiband" and values.get("bands"):
            values["crossovers_hz"] = [90.0 * 5**k for k in range(max(len(values["bands"]) - 1, 1))]
        try:
            return parse_entry({"id": "p", "type": kind, "settings": values}, kind)
        except SettingsError:
            continue


def nasty_sound(rng, frames=3000):
    """Stereo sound as no one plays it: silence, steps, the largest and the smallest numbers, tones at the edge."""
    noise = np.random.default_rng(rng.randrange(1 << 30)).standard_normal((2, frames))
    t = np.arange(frames)
    sound = rng.choice([
        noise, noise * 1e-160, noise * MAX_SAMPLE / 8, np.zeros((2, frames)), np.ones((2, frames)),
        np.sign(noise), np.where(noise > 3, MAX_SAMPLE, 0.0), np.tile((-1.0) ** t, (2, 1)),
        np.tile(np.sin(2e-3 * t) * (t > frames / 2), (2, 1)),
    ])  # fmt: skip
    return np.ascontiguousarray(sound * rng.choice([1.0, 1.0, 1e-6]))


def attack_processor(kind, number):
    """One random chain on one nasty sound: finite, and the same however it is cut."""
    rng = random.Random(f"{kind} {number}")
    entry, sound = random_settings(kind, rng), nasty_sound(rng)
    whole, cut = (Chain([entry], channels=2, sample_rate=rng_rate, on_take=True) for rng_rate in [RATE] * 2)
    out = whole.process(sound)
    parts, first = [], 0
    while first < sound.shape[1]:
        count = rng.choice([1, 7, 64, 333, 1024])
        parts.append(cut.process(np.ascontiguousarray(sound[:, first : first + count])))
        first += count
    assert is_finite(out), entry
    assert not whole.failures and not cut.failures, (entry, whole.failures)
    scale = max(np.abs(sound).max(), 1e-3)
    np.testing.assert_allclose(np.concatenate(parts, axis=1) / scale, out / scale, atol=1e-9, err_msg=str(entry))


def attack_file(folder, number):
    """A file with some bytes turned, brought in: "read" or "refused", anything else is raised."""
    rng = random.Random(number)
    kind = rng.choice(["wav", "flac", "aiff", "ogg", "zip"])
    path = folder / f"x.{kind}"
    if kind == "zip":
        _session_file(path)
    else:
        noise = 0.1 * np.random.default_rng(number).standard_normal((4000, 2))
        soundfile.write(path, noise, RATE)
    raw = bytearray(path.read_bytes())
    for _ in range(rng.randrange(1, 12)):
        raw[rng.randrange(min(len(raw), rng.choice([64, 4096, len(raw)])))] = rng.randrange(256)
    path.write_bytes(bytes(raw[: rng.randrange(1, len(raw))] if rng.random() < 0.2 else raw))
    try:
        if kind == "zip":
            house = House(folder / "data")
            try:
                import_session(house, path, "x.zip", lambda *_: None)
            finally:
                house.close()
        else:
            with AudioReader(path, sample_rate=44100) as reader:
                assert all(is_finite(block) for block in reader.blocks())
    except ReinsError as error:
        assert len(str(error)) > 10
        return "refused"
    return "read"


COMMANDS = (
    ("process {read} -o {written} --chain chain.json --trace {also}", ("{read}", "chain.json")),
    ("process {read} -o {written} --chain duck.json --key voice={other}", ("{read}", "{other}", "duck.json")),
    ("aim hits {read} -o {written}", ("{read}",)),
    ("batch {read} {other} -o . --chain chain.json --report {written}", ("{read}", "{other}", "chain.json")),
    ("backup D -o {written}", ("D/reins.db", "D/house.id")),
)


def attack_outputs(folder, number):
    """A command whose outputs are drawn from names of files that are there, by links and ways around, too: "refused" or
    "written"; what it reads is the same afterwards.
    """
    rng = random.Random(number)
    for name in ("a.wav", "b.wav"):
        soundfile.write(folder / name, 0.1 * np.random.default_rng(number).standard_normal(4800), RATE)
    for name, entry in (
        ("chain", {"type": "compressor"}),
        ("duck", {"type": "ducker", "settings": {"key": {"source": "voice"}}}),
    ):
        text = json.dumps({"format": "reins-chain", "version": 1, "processors": [entry]})
        (folder / f"{name}.json").write_text(text)
    if not (folder / "D").exists():
        House(folder / "D").close()
        (folder / "soft.wav").symlink_to("a.wav")
        (folder / "way").mkdir()
    (folder / "hard.wav").unlink(missing_ok=True)
    (folder / "hard.wav").hardlink_to(folder / "b.wav")
    names = [
        "a.wav",
        "b.wav",
        "soft.wav",
        "hard.wav",
        "way/../a.wav",
        "chain.json",
        "duck.json",
        "D/reins.db",
        "new.csv",
    ]
    names.append(str(folder / "b.wav"))
    drawn = {"read": rng.choice(names[:4]), "other": rng.choice(names[:4])}
    drawn |= {"written": rng.choice(names), "also": rng.choice(names)}
    line, inputs = rng.choice(COMMANDS)
    held = {name: (folder / name).read_bytes() for name in (one.format(**drawn) for one in inputs)}

    with contextlib.chdir(folder), contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()):
        code = _run(line.format(**drawn).split())

    assert {name: (folder / name).read_bytes() for name in held} == held, line.format(**drawn)
    assert code in (0, 1, 2), line.format(**drawn)
    return "refused" if code == 2 else "written"


def _run(arguments):
    before, sys.argv = sys.argv, ["reins", *arguments]
    try:
        cli.main()
    except SystemExit as left:
        return left.code
    finally:
        sys.argv = before


def _session_file(path):
    tracks = {"t": {"name": "T", "chain": [{"id": "c", "type": "compressor", "settings": {"ratio": 3.0}}]}}
    session = {"name": "Evening", "sample_rate": RATE, "tracks": tracks, "order": ["t"]}
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("session.json", json.dumps({
            "format": "reins-session", "version": 1, "session": session, "takes": {}}))  # fmt: skip


def call(server, path, body=None, method=None):
    """The answer of a server to a request, from its JSON."""
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(server.url + path, data, {"content-type": "application/json"}, method=method)
    with urllib.request.urlopen(request, timeout=20) as answer:
        return json.load(answer)


def finished(server, job):
    """What a job has come to."""
    end = time.monotonic() + 60
    while job["state"] == "running" and time.monotonic() < end:
        time.sleep(0.02)
        job = call(server, f"/api/jobs/{job['id']}")
    assert job["state"] == "done", job
    return job["result"]


def brought_in(server, place, samples):
    """The track that a server says it has made of samples (frames,)."""
    file = io.BytesIO()
    soundfile.write(file, samples, RATE, format="WAV", subtype="PCM_24")
    head = '--edge\r\ncontent-disposition: form-data; name="file"; filename="a.wav"\r\n\r\n'
    body = head.encode() + file.getvalue() + b"\r\n--edge--\r\n"
    kind = {"content-type": "multipart/form-data; boundary=edge"}
    with urllib.request.urlopen(urllib.request.Request(f"{server.url}{place}/takes", body, kind), timeout=20) as answer:
        return finished(server, json.load(answer))["track_id"]


def handed_out(server, place, track_id):
    """What is exported of a track: the file as it is taken away."""
    job = call(server, f"{place}/strips/{track_id}/export", {})
    finished(server, job)
    with urllib.request.urlopen(f"{server.url}/api/jobs/{job['id']}/file", timeout=20) as answer:
        return soundfile.read(io.BytesIO(answer.read()))[0]


def kill_and_look(server, rng):
    """Kill a server while changes are kept, start it again: what was confirmed is there. Returns how many were. A take
    that was brought in, and exported, before the kill, is exported the same after it.
    """
    session_id = call(server, "/api/sessions", {"name": "Evening"})["id"]
    place, confirmed = f"/api/sessions/{session_id}", []
    samples = np.rint(np.sin(np.arange(4000) * rng.uniform(0.01, 0.3)) * 2**22) / 2**23
    track_id = brought_in(server, place, samples)
    before = handed_out(server, place, track_id) if rng.random() < 0.5 else samples  # the kill may be right behind it

    def keep():
        try:
            for number in range(10_000):
                change = {"kind": "set_session", "tempo_bpm": 60.0 + number % 200}
                confirmed.append((call(server, f"{place}/changes", change)["step"], change["tempo_bpm"]))
        except (OSError, http.client.HTTPException, ValueError):
            pass

    keeping = threading.Thread(target=keep)
    keeping.start()
    end = time.monotonic() + 60
    while not confirmed and time.monotonic() < end:
        time.sleep(0.01)
    time.sleep(rng.uniform(0.05, 0.6))
    server.kill(signal.SIGKILL)
    keeping.join()
    server.start()
    state = call(server, place)
    step, tempo = confirmed[-1] if confirmed else (state["step"], state["document"]["tempo_bpm"])
    assert state["step"] - step in (0, 1), (state["step"], step)
    if state["step"] == step:
        assert state["document"]["tempo_bpm"] == tempo
    np.testing.assert_array_equal(handed_out(server, place, track_id), before)
    np.testing.assert_array_equal(before, samples)
    return len(confirmed)


class Used(NamedTuple):
    """What a process holds."""

    memory_mib: int
    files: int
    threads: int


def used(pid):
    """What a process holds now."""
    place = Path(f"/proc/{pid}")
    fields = dict(line.split(":", 1) for line in (place / "status").read_text().splitlines())
    files = len(list((place / "fd").iterdir()))
    return Used(int(fields["RssAnon"].split()[0]) // 1024, files, int(fields["Threads"]))


def work_once(server):
    """Make a session, change it, delete it for good; what the server holds then."""
    session_id = call(server, "/api/sessions", {"name": "Evening"})["id"]
    for number in range(20):
        call(server, f"/api/sessions/{session_id}/changes", {"kind": "set_session", "tempo_bpm": 60.0 + number})
    copy = call(server, f"/api/sessions/{session_id}/copy", {})["id"]
    for gone in (session_id, copy):
        call(server, f"/api/sessions/{gone}", method="DELETE")
        call(server, f"/api/deleted/{gone}", method="DELETE")
    return used(server.process.pid)
