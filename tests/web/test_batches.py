"""Batches over HTTP: what is refused, and that nothing of an earlier run is handed out."""

import io
import json
import zipfile

import pytest
import soundfile

from reins.services.batch import running
from reins.services.batch.tasks import hold
from tests.conftest import RATE
from tests.test_batch import CHAIN, bursts


@pytest.fixture
def here(monkeypatch):
    """Tasks are done in the server's process."""
    monkeypatch.setattr(running, "held_here", lambda tasks, workers, check: (hold(task) for task in tasks))


def sound(name):
    out = io.BytesIO()
    soundfile.write(out, bursts(), RATE, format="WAV")
    return {"file": (name, out.getvalue())}


@pytest.fixture
def batch(client):
    return f"/api/batches/{client.post('/api/batches').json()['id']}"


def run(client, batch, **body):
    told = client.post(f"{batch}/run", json={"chain": json.dumps(CHAIN)} | body)
    assert told.status_code == 200, told.text
    job = told.json()["job_id"]
    while job is not None and client.get(f"/api/jobs/{job}").json()["state"] == "running":
        pass
    return client.get(batch).json()


def test_what_was_made_before_is_not_handed_out_with_what_is_made_now(client, here, batch):
    for name in ("one.wav", "two.wav"):
        client.post(f"{batch}/files", files=sound(name))
    run(client, batch)
    client.delete(f"{batch}/files/two.wav")

    told = run(client, batch, format="flac", bits="16")

    assert [(row["file"], row["output"], row["done"]) for row in told["rows"]] == [("one.wav", "one.flac", "held")]
    with zipfile.ZipFile(io.BytesIO(client.get(f"{batch}/zip").content)) as packed:
        assert sorted(packed.namelist()) == ["one.flac", "report.csv"]
        assert "/in/" not in packed.read("report.csv").decode()


def test_two_files_of_one_name_are_both_held(client, here, batch):
    for name in ("take.wav", "take.wav", "../../take.flac", "tąke.wav"):
        client.post(f"{batch}/files", files=sound(name))

    told = run(client, batch)

    assert sorted(row["output"] for row in told["rows"]) == ["take 2.wav", "take 3.wav", "take.wav", "tąke.wav"]


@pytest.mark.parametrize(
    ("body", "says"),
    [
        ({"chain": None}, "Choose either a chain or an aim"),
        ({"aim": "hits"}, "Choose either a chain or an aim"),
        ({"chain": "{"}, "The chain: "),
        ({"chain": None, "aim": "loud"}, "There is no aim “loud”"),
        ({"chain": None, "aim": "hits", "by": 400}, "allowed: 0.5 to 24 dB"),
        ({"format": "ogg"}, "wav or flac is allowed"),
    ],
)
def test_what_cannot_be_run_is_told_and_nothing_begins(client, batch, body, says):
    client.post(f"{batch}/files", files=sound("one.wav"))

    refused = client.post(f"{batch}/run", json={"chain": json.dumps(CHAIN)} | body)

    assert refused.status_code == 422 and says in refused.json()["error"]
    assert client.get(batch).json()["job_id"] is None


def test_an_empty_batch_a_file_that_is_no_sound_and_what_is_not_there(client, batch):
    empty = client.post(f"{batch}/run", json={"chain": json.dumps(CHAIN)})
    no_sound = client.post(f"{batch}/files", files={"file": ("notes.txt", b"x")})

    assert empty.status_code == 409 and "nothing in this batch yet" in empty.json()["error"]
    assert no_sound.status_code == 422 and "notes.txt: allowed are files that end in .wav" in no_sound.json()["error"]
    assert client.get(f"{batch}/zip").status_code == 409
    for gone in ("/api/batches/x", f"{batch}/rows/0/after"):
        assert client.get(gone).status_code == 404
    assert client.delete(f"{batch}/files/x.wav").status_code == 404


def test_the_oldest_batch_makes_room_for_a_new_one(client, batch):
    others = [client.post("/api/batches").json()["id"] for _ in range(3)]
    assert all(client.get(f"/api/batches/{one}").status_code == 200 for one in others)
    assert client.get(batch).status_code == 200

    client.post("/api/batches")

    assert client.get(batch).status_code == 404
    assert all(client.get(f"/api/batches/{one}").status_code == 200 for one in others)


def test_a_fifth_batch_takes_nothing_away_that_was_not_fetched(client):
    first, *_ = batches = [client.post("/api/batches").json()["id"] for _ in range(4)]
    for one in batches:
        client.post(f"/api/batches/{one}/files", files=sound("take.wav"))

    refused = client.post("/api/batches")

    assert refused.status_code == 409 and "fetch or forget one" in refused.json()["error"]
    assert all(client.get(f"/api/batches/{one}").json()["files"] == ["take.wav"] for one in batches)
    assert client.get("/batch").text.count("1 file, none held yet") == 4
    assert client.delete(f"/api/batches/{first}").status_code == 200
    assert client.post("/api/batches").status_code == 200
    assert client.get(f"/api/batches/{first}").status_code == 404


def test_one_batch_is_at_work_at_a_time(client, monkeypatch, batch):
    waits = []

    def held_here(tasks, workers, check):
        while not waits:
            check()
        yield from ()

    monkeypatch.setattr(running, "held_here", held_here)
    other = f"/api/batches/{client.post('/api/batches').json()['id']}"
    for one in (batch, other):
        client.post(f"{one}/files", files=sound("one.wav"))
    job = client.post(f"{batch}/run", json={"chain": json.dumps(CHAIN)}).json()["job_id"]

    refused = client.post(f"{other}/run", json={"chain": json.dumps(CHAIN)})
    waits.append(True)

    assert refused.status_code == 409 and "Another batch is at work" in refused.json()["error"]
    while client.get(f"/api/jobs/{job}").json()["state"] == "running":
        pass
    assert client.get(batch).json()["job_id"] is None


def test_files_that_come_after_it_was_fetched_are_to_be_fetched_too(client, here, batch):
    client.post(f"{batch}/files", files=sound("one.wav"))
    run(client, batch, chain=json.dumps(CHAIN))
    assert client.get(f"{batch}/zip").status_code == 200
    client.post(f"{batch}/files", files=sound("two.wav"))

    for _ in range(4):
        client.post("/api/batches")

    assert client.get(batch).json()["files"] == ["one.wav", "two.wav"]
