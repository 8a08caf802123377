"""A server that has begun before all is compiled: what plays goes on without, what is asked for is refused for a
moment, work waits; and what was awaited comes in by itself.
"""

import numpy as np
import pytest
from fastapi.testclient import TestClient

from reins.core.chainfile import parse_entry
from reins.core.dsp import compiled
from reins.core.engine.chain import Chain
from reins.core.engine.mixer import Mixer
from reins.core.processors import PROCESSORS
from reins.core.processors.making import Make
from reins.core.sessions import Document, Track
from reins.core.time import Stream
from reins.errors import NotReadyError
from reins.services import readying
from reins.services.readying import Readying, going_on, patiently
from reins.web.app import AppSettings, create_app
from tests.conftest import RATE, sound_of
from tests.core.test_no_click import AT_WORK
from tests.web.test_live import Listener
from tests.web.test_web import add_compressor

BLOCK = 1024


class Part:
    """A kernel that needs no compiling to be one."""

    signatures = ("void()",)

    def __init__(self, name):
        self.name, self.there = name, False

    def make(self):
        self.there = True

    def is_made(self):
        return self.there


HELPER = """import sys
print("a", flush=True)
for line in sys.stdin:
    print(line.strip(), flush=True)
"""


@pytest.fixture
def of_three(monkeypatch):
    """A server of three parts of which none is there, and the program that stands for its helper: it makes "a", then
    what it is asked for.
    """

    def made(program=HELPER):
        parts = [Part(name) for name in "abc"]
        monkeypatch.setattr(readying, "in_order", lambda: parts)
        monkeypatch.setattr(readying, "missing", list)
        monkeypatch.setattr(readying, "COMMAND", [readying.sys.executable, "-c", program])
        monkeypatch.setattr(compiled, "_provider", [compiled.compile_here])
        ready = Readying()
        ready.begin()
        closing.append(ready)
        return ready, parts

    closing = []
    yield made
    for ready in closing:
        ready.close()


def there(ready, name):
    with ready._changed:
        assert ready._changed.wait_for(lambda: name not in ready._missing, 60)


def test_who_asks_is_told_that_it_comes_and_it_is_made_next(of_three):
    ready, (_, _, c) = of_three()
    there(ready, "a")

    with pytest.raises(NotReadyError, match=r"1 of 3 parts .* it comes by itself") as refused:
        compiled.provide(c)

    there(ready, "c")
    compiled.provide(c)
    assert not refused.value.goes_on and refused.value.is_over()
    assert ready.progress == (2, 3) and not ready.is_done


def test_work_waits_and_what_plays_goes_on_without(of_three):
    ready, (_, b, c) = of_three()
    there(ready, "a")

    with going_on(), pytest.raises(NotReadyError) as passed_by:
        compiled.provide(c)
    with patiently():
        compiled.provide(b)

    assert passed_by.value.goes_on and b.there


def test_a_helper_that_ends_is_begun_again_a_few_times_and_then_it_is_said(of_three):
    ready, (a, _, _) = of_three("print('a', flush=True)")

    with pytest.raises(NotReadyError, match=r"could not be compiled \(b, c\)"), patiently():
        compiled.provide(ready._all["b"])

    assert a.there and ready.problem


def test_a_part_that_cannot_be_compiled_keeps_nobody_waiting(of_three):
    _, (_, b, _) = of_three("import sys; print('!b', flush=True); sys.stdin.read()")

    with pytest.raises(NotReadyError, match=r"could not be compiled \(b\)"), patiently():
        compiled.provide(b)


def test_a_request_is_refused_for_a_moment_and_says_so_and_how_far_it_is(house, of_three, session_id):
    ready, (_, _, c) = of_three()
    there(ready, "a")
    with TestClient(create_app(AppSettings(), house, ready), base_url="http://localhost") as client:
        client.app.state.previews.levels = lambda *_: compiled.provide(c)

        refused = client.get(f"/api/sessions/{session_id}/strips/master/levels")
        told = client.get("/api/ready").json()
        page = client.get("/").text

    assert refused.status_code == 503 and refused.json()["getting_ready"] is True
    assert told["total"] == 3 and told["problem"] == ""
    assert 'id="readiness"' in page


def test_once_all_is_there_the_page_says_nothing(client):
    assert 'id="readiness"' not in client.get("/").text
    assert client.get("/api/ready").json() == {"done": 1, "total": 1, "problem": ""}


class NotYet:
    """Has no processor sound before it may, as if a kernel was still being compiled."""

    def __init__(self, monkeypatch, where):
        self.over, self.goes_on = False, True
        whole = getattr(Make, where)

        def awaited(make, *arguments, **named):
            made = whole(make, *arguments, **named)
            if not self.over:
                made.process = self.refuse
            return made

        monkeypatch.setattr(Make, where, awaited)

    def refuse(self, block):
        raise NotReadyError("getting ready", lambda: self.over, goes_on=self.goes_on)


def mix_of(kind, on=True):
    chain = [parse_entry({"id": "p", "type": kind, "settings": AT_WORK.get(kind, {"threshold_db": -30.0})}, kind)]
    track = Track(name="T", take_id="a", chain=chain if on else [])
    rng = np.random.default_rng(3)
    sound = 0.25 * np.sin(2 * np.pi * 220.0 * np.arange(2 * RATE) / RATE) + 0.02 * rng.standard_normal((2, 2 * RATE))
    mixer = Mixer(Document(name="x", sample_rate=RATE, tracks={"t": track}, order=["t"]), {"a": sound_of(sound)})
    mixer.start(Stream(0))
    return mixer


def played(mixer, blocks):
    return np.concatenate([mixer.process(BLOCK) for _ in range(blocks)], axis=1)


@pytest.mark.parametrize("kind", PROCESSORS)
def test_the_sound_goes_on_without_a_processor_that_comes_in_by_itself(kind, monkeypatch):
    whole, dry = mix_of(kind), mix_of(kind, on=False)
    with monkeypatch.context() as patched:
        not_yet = NotYet(patched, "processor")
        mixer = mix_of(kind)

        before, awaited = played(mixer, 8), mixer.graph.awaited()
        not_yet.over = True
        played(mixer, 24)
        after = played(mixer, 8)

    np.testing.assert_allclose(before, played(dry, 8), atol=1e-12)
    assert awaited == {"p": "getting ready"} and mixer.graph.awaited() == {} and mixer.graph.failures() == {}
    played(whole, 32)
    wanted = played(whole, 8)
    assert np.abs(after - wanted).max() <= 2e-2 * np.abs(wanted).max()


def test_the_desk_hears_what_the_sound_goes_on_without(client, session_id, track_id, monkeypatch):
    not_yet = NotYet(monkeypatch, "processor")
    add_compressor(client, session_id, track_id, threshold_db=-30.0)
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        listener = Listener(socket)
        listener.send(type="play", frame=0)
        told = lambda: [one["processors"] for one in listener.said if one["type"] == "getting_ready"]  # noqa: E731
        while len(told()) < 2:
            listener.listen(sum(map(len, listener.frames)) + 1)  # one who hears nothing more is sent nothing more
            not_yet.over = bool(told())
    first, then = told()
    assert list(first.values()) == ["getting ready"] and then == {}


def test_who_cannot_go_on_without_is_told_so_behind_a_processor_that_failed_too(monkeypatch):
    entries = [parse_entry({"id": name, "type": "compressor", "settings": {}}, name) for name in "ab"]
    chain = Chain(entries, channels=1, sample_rate=RATE)
    not_yet = NotYet(monkeypatch, "processor")  # those behind the failed one begin anew
    not_yet.goes_on = False
    chain._stages[0].processor.process = lambda block: 1 / 0

    with pytest.raises(NotReadyError, match="getting ready"):
        chain.process(np.full((1, 64), 0.5))
