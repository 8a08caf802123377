"""Starting: the page while things get ready, the demo made once, long work that is followed and stopped."""

import socket
import threading

import pytest
from starlette.testclient import TestClient

from reins.core import takes
from reins.demo.facts import DEMO_ID
from reins.errors import AudioError, CancelledError, NotFoundError, StorageError
from reins.services import bringing_in
from reins.services.bringing_in import ensure_demo
from reins.services.editing import session_state
from reins.services.house import House
from reins.services.jobs import Jobs
from reins.services.opening import open_folder
from reins.services.shelf import list_lost
from reins.web.server import Gate, _get_ready, _listen
from tests.browser.driving import wait_until


def test_until_it_is_ready_every_page_says_how_far_it_is():
    gate = Gate(lambda: None)
    gate.progress("playing the demo session: Bass", 4, 10)

    with TestClient(gate) as client:
        page, route = client.get("/"), client.get("/api/sessions/x")

    assert page.status_code == route.status_code == 503
    assert "playing the demo session: Bass. Part 4 of 10 is done" in page.text
    assert route.json() == {
        "error": "Getting ready: playing the demo session: Bass.",
        "doing": "playing the demo session: Bass",
        "done": 4,
        "total": 10,
        "problem": "",
    }


def test_a_folder_that_cannot_be_used_is_said_before_anything_starts(tmp_path):
    (tmp_path / "data").write_text("a file where the folder should be")

    with pytest.raises(StorageError, match="the folder cannot be used"):
        open_folder(tmp_path / "data", serving_at="")


def test_when_it_is_ready_the_shelf_is_served(tmp_path):
    folder = open_folder(tmp_path / "data", serving_at="")
    gate = Gate(folder.close)

    _get_ready(gate, folder, False)

    with TestClient(gate) as client:
        assert "The shelf is empty" in client.get("/").text
    folder.close()


def test_the_demo_is_made_once_and_told_part_by_part(house):
    told = []

    ensure_demo(house, lambda name, done, total: told.append((name, done, total)))
    first = session_state(house, DEMO_ID)
    ensure_demo(house, lambda *_: pytest.fail("made twice"))

    assert [t[1] for t in told] == list(range(10))
    assert told[7][0] == "Singer"
    assert session_state(house, DEMO_ID) == first
    assert len(first["takes"]) == len(list(house.takes_dir.iterdir())) == 10


def test_a_demo_half_made_is_swept(house, tmp_path, monkeypatch):
    monkeypatch.setattr(takes, "_write_coarser", _fail_at_third())
    with pytest.raises(StorageError, match="disk refused"):
        ensure_demo(house, lambda *_: None)
    monkeypatch.undo()
    assert list(house.takes_dir.iterdir()) == []
    house.close()

    again = House(tmp_path / "data")

    assert list_lost(again) == []
    with pytest.raises(NotFoundError, match=DEMO_ID):  # so that the next start makes it
        session_state(again, DEMO_ID)
    again.close()


def _fail_at_third(real=takes._write_coarser):
    calls = []

    def write(*arguments):
        calls.append(1)
        if len(calls) == 3:
            raise OSError(28, "No space left on device")
        real(*arguments)

    return write


def test_a_take_without_its_files_is_said_so(house, session_id, tone_file):
    track_id = bringing_in.bring_in(house, session_id, tone_file, "a.wav", lambda *_: None).track_id
    take_id = session_state(house, session_id)["document"]["tracks"][track_id]["take_id"]
    (house.takes_dir / take_id / "samples.f32").unlink()

    with pytest.raises(StorageError, match="cannot be read"):
        house.take(take_id)


def test_a_job_tells_how_far_it_is_and_stops_when_asked():
    jobs, reached, go_on = Jobs(), threading.Event(), threading.Event()

    def work(job):
        job.progress(1, 4)
        reached.set()
        go_on.wait(10)
        job.progress(2, 4)
        pytest.fail("went on after it was stopped")

    job = jobs.start("Exporting", work)
    reached.wait(10)
    assert jobs.get(job.id).as_dict()["percent"] == 25
    job.cancel()
    go_on.set()
    wait_until(lambda: job.state != "running")

    assert job.as_dict()["state"] == "cancelled"
    assert job.message == "Exporting: stopped; nothing was kept."


@pytest.mark.parametrize(
    ("error", "message"),
    [
        (AudioError("a.wav: bad."), "a.wav: bad."),
        (CancelledError("Stopped."), "Stopped."),
        (ZeroDivisionError("secret detail"), "something went wrong here"),
    ],
)
def test_a_job_that_fails_says_why_and_leaks_nothing(error, message):
    def work(job):
        raise error

    job = Jobs().start("Exporting", work)
    wait_until(lambda: job.state != "running")

    assert message in job.message
    assert "secret" not in job.message


def test_connections_send_what_is_small_at_once():
    with _listen("127.0.0.1", 0) as listening:  # asyncio turns Nagle's waiting off for sockets that name their protocol
        assert listening.proto == socket.IPPROTO_TCP


def test_an_unknown_job_is_not_found():
    with pytest.raises(NotFoundError, match="no piece of work “x”"):
        Jobs().get("x")
