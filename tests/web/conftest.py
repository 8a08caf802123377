"""The real application over a house in a temporary folder."""

import re
import time

import numpy as np
import pytest
import soundfile
from fastapi.testclient import TestClient
from starlette.testclient import WebSocketTestSession

from reins.core.engine import live
from reins.services.editing import new_session
from reins.services.house import House
from reins.web.app import AppSettings, create_app
from reins.web.guard import Guard
from tests.conftest import RATE


@pytest.fixture(autouse=True)
def length_of_blocks(monkeypatch):
    """How long blocks are does not hang on how fast this machine is just now (that: core/test_contract.py)."""
    monkeypatch.setattr(live, "HEAVY", float("inf"))


@pytest.fixture
def house(tmp_path):
    house = House(tmp_path / "data")
    yield house
    house.close()


#: What a sentence at the desk never holds: names of the program's own, options of the command line.
INNER = re.compile(r"\w+Error\b|Traceback|\bNone\b|\.partial|(?<!\w)--\w|Errno")


def heed(told, folder):
    """What the desk is told, JSON as text, holds no place of the server's, and if it is an error nothing inner."""
    assert str(folder) not in told, told[:400]
    for sentence in re.findall(r'"(?:error|problem|said)":\s?"((?:[^"\\]|\\.)*)"', told):
        assert not INNER.search(sentence), sentence


@pytest.fixture
def client(house, tmp_path, monkeypatch):
    def look(answer):
        if "json" in answer.headers.get("content-type", ""):
            answer.read()
            heed(answer.text, tmp_path)

    def receive(socket, plain=WebSocketTestSession.receive):
        message = plain(socket)
        heed(message.get("text") or "", tmp_path)
        return message

    monkeypatch.setattr(WebSocketTestSession, "receive", receive)
    app = create_app(AppSettings(max_upload_bytes=4 << 20), house)
    with TestClient(Guard(app, hosts=("localhost", "testserver")), base_url="http://localhost") as client:
        client.desk = app
        client.event_hooks["response"].append(look)
        yield client


@pytest.fixture
def session_id(house):
    return new_session(house, "Evening")


@pytest.fixture
def tone_file(tmp_path):
    path = tmp_path / "Front room.wav"
    t = np.arange(RATE) / RATE
    soundfile.write(path, np.stack([0.5 * np.sin(2 * np.pi * 220 * t)] * 2, axis=1), RATE, subtype="PCM_24")
    return path


def finished(client, job):
    """Wait for a job to end."""
    end = time.monotonic() + 60
    while job["state"] == "running" and time.monotonic() < end:
        job = client.get(f"/api/jobs/{job['id']}").json()
    return job


def bring_in(client, session_id, path, name=None):
    with path.open("rb") as file:
        answer = client.post(f"/api/sessions/{session_id}/takes", files={"file": (name or path.name, file)})
    return finished(client, answer.json()) if answer.status_code == 200 else answer


@pytest.fixture
def track_id(client, session_id, tone_file):
    return bring_in(client, session_id, tone_file)["result"]["track_id"]
