"""As many desks play as can be fed: the newest waits, is told, and goes on when another stops."""

import pytest

from reins.services import admission
from reins.services.admission import Admission
from tests.web.test_live import Listener


class Desk:
    def __init__(self):
        self.told = []

    def hold(self):
        self.told.append("hold")

    def go_on(self):
        self.told.append("go on")


@pytest.fixture
def desks():
    return [Desk() for _ in range(3)]


def test_one_that_there_is_no_room_for_waits_until_another_stops(desks):
    door, (one, two, three) = Admission(cores=1), desks

    assert door.begin(one)
    door.costs(one, 0.25)
    assert door.begin(two)
    door.costs(two, 0.3)
    assert not door.begin(three) and not door.begin(three)
    assert door.playing == 2
    door.end(one)

    assert (one.told, two.told, three.told) == ([], [], ["go on"])
    assert door.playing == 2


def test_as_many_as_there_are_cores_are_let_in_whatever_they_cost(desks):
    door, (one, two, three) = Admission(cores=2), desks
    assert door.begin(one)
    door.costs(one, 0.9)
    assert door.begin(two)
    door.costs(two, 0.9)
    assert not door.begin(three)


def test_longer_blocks_are_asked_for_while_others_play_and_there_is_much_to_do(desks):
    door, (one, two, _) = Admission(cores=2), desks
    door.begin(one)
    door.costs(one, 0.5)
    assert not door.busy  # alone it has the quickest hand, whatever it costs
    door.begin(two)
    assert door.busy
    door.costs(one, 0.1)
    assert not door.busy


def test_when_one_is_late_the_newest_waits_and_only_one_at_a_time(desks, monkeypatch):
    door, (one, two, three) = Admission(cores=8), desks
    for desk in desks:
        assert door.begin(desk)
        door.costs(desk, 0.1)
    door.late()
    assert three.told == []  # there is room enough: its line is slow
    door.costs(one, 0.8)
    now = [100.0]
    monkeypatch.setattr(admission.time, "monotonic", lambda: now[0])

    door.late()
    door.late()
    assert [desk.told for desk in desks] == [[], [], ["hold"]]
    now[0] += 2.0
    door.late()
    assert [desk.told for desk in desks] == [[], ["hold"], ["hold"]]
    now[0] += 2.0
    door.late()  # the only one is never held
    assert one.told == []
    door.end(one)
    assert two.told == ["hold"] and three.told == ["hold", "go on"]  # it has waited longer


def test_who_waits_goes_on_as_soon_as_those_that_play_cost_less_and_one_at_a_time(monkeypatch):
    now = [100.0]
    monkeypatch.setattr(admission.time, "monotonic", lambda: now[0])
    door, nine = Admission(cores=1), [Desk() for _ in range(9)]
    for desk in nine:
        if door.begin(desk):
            door.costs(desk, 0.25)  # as costly as a desk is at its beginning
    assert door.playing == 2

    for _ in range(20):
        for desk in nine[: door.playing]:
            door.costs(desk, 0.05)
    assert door.playing == 9 and [desk.told for desk in nine] == [[], [], *[["go on"]] * 7]

    for desk in nine:
        door.costs(desk, 0.1)
    door.late()
    assert nine[-1].told == ["go on", "hold"]
    door.costs(nine[0], 0.01)
    for desk in nine[1:8]:
        door.costs(desk, 0.01)
    assert door.playing == 8  # the machine has just said otherwise
    now[0] += 4.0
    door.costs(nine[0], 0.01)
    assert nine[-1].told == ["go on", "hold", "go on"]


def test_one_that_waits_and_leaves_is_forgotten(desks):
    door, (one, two, three) = Admission(cores=1), desks
    door.begin(one)
    door.costs(one, 0.8)
    assert not door.begin(two) and not door.begin(three)

    door.end(two)
    assert two.told == three.told == []
    door.end(one)
    assert two.told == [] and three.told == ["go on"]


def test_a_desk_that_cannot_be_fed_is_told_and_starts_by_itself(client, session_id, track_id):
    client.desk.state.admission = Admission(cores=1)
    client.desk.state.admission._room = 1e-9
    path = f"/api/sessions/{session_id}/live"
    with client.websocket_connect(path) as first, client.websocket_connect(path) as second:
        playing, waiting = Listener(first), Listener(second)
        playing.send(type="play", frame=0)
        playing.until("started")
        playing.listen(4096)
        waiting.send(type="play", frame=12000)
        told = waiting.until("waiting")
        assert "1 other desk plays" in told["sentence"] and "goes on when one of them stops" in told["sentence"]
        assert not waiting.frames
        playing.send(type="go_on")  # not a command of the socket
        assert "type" in playing.until("error")["sentence"]

        playing.send(type="stop")

        assert waiting.until("started")["frame"] == 12000
        assert waiting.listen(2048).shape == (2, 2048)


def test_a_desk_that_is_closed_makes_room(client, session_id, track_id):
    client.desk.state.admission = Admission(cores=1)
    client.desk.state.admission._room = 1e-9
    path = f"/api/sessions/{session_id}/live"
    with client.websocket_connect(path) as second:
        waiting = Listener(second)
        with client.websocket_connect(path) as first:
            playing = Listener(first)
            playing.send(type="play", frame=0)
            playing.until("started")
            playing.listen(2048)
            waiting.send(type="play", frame=0)
            waiting.until("waiting")
        assert waiting.until("started")
