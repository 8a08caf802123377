"""Small files that would cost much: refused by count, before anything is built of them."""

import json
import time

import pytest

from reins.core.limits import MAX_SESSION_JSON_BYTES
from reins.core.plain import read_json
from reins.core.sessionfile import format_session_file, parse_session_file
from reins.core.sessions import parse_document
from reins.errors import SettingsError
from reins.services import shelf
from reins.services.editing import change_session, undo
from reins.services.house import House
from reins.store import sessions as store


def session(tracks, drafts=0, chain=0, points=0):
    """A session file's text: so many tracks, each with so many drafts of so many gates and a line of so many points."""
    gates = lambda place: [{"type": "gate", "id": f"{place}.{k}"} for k in range(chain)]  # noqa: E731
    line = {"kind": "line", "points": [[k * 0.01, 0.5] for k in range(points)]}
    rein = {"id": "r", "moves": [{"what": "strip.fader_db"}], "by": line}
    made = {
        f"t{i}": {
            "name": "A", "chain": gates(i), "reins": [rein] if points else [],
            "drafts": {str(d + 2): {"chain": gates(f"{i}.{d}")} for d in range(drafts)},
        }
        for i in range(tracks)
    }  # fmt: skip
    document = {"name": "x", "tracks": made, "order": list(made)}
    return json.dumps(
        {"format": "reins-session", "version": 1, "session": document, "takes": {}}, separators=(",", ":")
    )


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (session(16, 31, 32), "16384 processors, drafts counted; allowed: up to 2000"),
        ('{"format":"reins-session","session":[' + "[]," * 10**6 + "[]]}", "lists, objects and named values; allowed"),
        ('{"a":' * 300_000, "lists, objects and named values; allowed"),
    ],
    ids=["gates", "lists", "names"],
)  # fmt: skip
def test_what_would_cost_much_is_refused_by_its_count(text, says):
    began = time.process_time()
    with pytest.raises(SettingsError, match=says.replace(".", r"\.")):
        parse_session_file(text, "s.zip")
    assert time.process_time() - began < 1.0


def test_points_are_counted_over_all_reins_of_a_session():
    raw = json.loads(session(3, points=66_700))["session"]

    with pytest.raises(SettingsError, match="200100 points in all, drafts counted; allowed: up to 200000"):
        parse_document(json.dumps(raw))


def test_what_is_within_the_budget_goes_out_and_in(tmp_path):
    text = session(20, 7, 12, points=5_000)
    document = parse_session_file(text, "s.zip").session

    again = format_session_file(document, {})

    assert len(again.encode()) <= MAX_SESSION_JSON_BYTES
    assert parse_session_file(again, "s.zip").session == document


def test_a_document_that_no_session_file_could_hold_is_no_step(tmp_path, monkeypatch):
    monkeypatch.setattr(store, "MAX_DOCUMENT_LETTERS", 1000)
    house = House(tmp_path / "d")
    document = parse_session_file(session(1), "s").session
    with house.database() as db:
        store.add_session(db, "a" * 12, document)
        change = type(
            "Change", (), {"apply": lambda self, old: (parse_session_file(session(9), "s").session, "more")}
        )()
        with pytest.raises(SettingsError, match=r"without its recordings; allowed: up to .* Nothing was changed"):
            store.keep_step(db, "a" * 12, change)
        assert store.get_session(db, "a" * 12).document == document and store.list_steps(db, "a" * 12) == []
    house.close()


def test_a_document_is_checked_once_however_often_it_is_looked_at(tmp_path, monkeypatch):
    house = House(tmp_path / "d")
    with house.database() as db:
        store.add_session(db, "a" * 12, parse_session_file(session(2), "s").session)
        store.list_sessions(db)
        monkeypatch.setattr(store, "parse_document", lambda text: pytest.fail("read again"))
        assert store.list_sessions(db)[0].document.order == ["t0", "t1"]
    house.close()


def test_a_change_reads_again_only_what_it_changes(tmp_path):
    house = House(tmp_path / "d")
    raw = json.loads(session(2, points=66_700))["session"]
    with house.database() as db:
        store.add_session(db, "a" * 12, parse_document(json.dumps(raw)))
        before = store.get_session(db, "a" * 12).document
    change_session(house, "a" * 12, {"kind": "set_strip", "strip_id": "t0", "values": {"fader_db": -3.0}})
    with house.reading() as db:
        after = store.get_session(db, "a" * 12).document

    assert after.track("t0").fader_db == -3.0 and after.track("t1") is before.track("t1")
    assert after.track("t0").reins[0] is before.track("t0").reins[0]
    undo(house, "a" * 12)
    with house.reading() as db:
        undone = store.get_session(db, "a" * 12).document
    assert undone == before and undone.track("t1").reins[0] is before.track("t1").reins[0]
    more = json.loads(session(1, points=66_700))["session"]["tracks"]["t0"]["reins"][0]
    with pytest.raises(SettingsError, match="200100 points in all"):  # those that are not read again are counted
        put = {"kind": "put_rein", "strip_id": "t0", "rein_id": "r9", "rein": {**more, "id": "r9"}}
        change_session(house, "a" * 12, put)
    house.close()


def test_the_shelf_reads_no_document_that_has_not_changed(tmp_path, monkeypatch):
    house = House(tmp_path / "d")
    with house.database() as db:
        store.add_session(db, "a" * 12, parse_session_file(session(2), "s").session)
    (card,) = shelf.list_shelf(house)
    with monkeypatch.context() as patched:
        patched.setattr(store, "stored_or_not", lambda *_: pytest.fail("read again"))
        assert shelf.list_shelf(house) == [card] and card["tracks"] == ["A", "A"]

    change_session(house, "a" * 12, {"kind": "set_session", "name": "Other"})
    (other,) = shelf.list_shelf(house)
    assert (other["name"], other["steps"]) == ("Other", 1)
    house.close()


def test_plain_numbers_are_bounded_by_the_length_of_the_text_alone():
    assert len(read_json("[" + "0," * 300_000 + "0]", "x")) == 300_001
