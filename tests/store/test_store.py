"""Steps, undo and redo, migrations, and a process killed in the middle of a burst."""

import json
import os
import signal
import sqlite3
import subprocess
import sys

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from reins.core.changes import AddTrack, parse_change
from reins.core.sessions import Document, Track
from reins.core.sound import TakeFacts
from reins.errors import ConflictError, NotFoundError, SettingsError, StorageError
from reins.store import sessions as store
from reins.store.database import MIGRATIONS, connect, migrate, transaction
from reins.store.folder import newest_version
from reins.store.patches import difference, patched
from reins.store.takes import add_take, list_takes


@pytest.fixture
def db(tmp_path):
    connection = connect(tmp_path / "reins.db")
    migrate(connection)
    store.add_session(connection, "s", Document(name="A session"))
    store.keep_step(connection, "s", AddTrack(kind="add_track", track_id="t", track=Track(name="Snare", take_id="x")))
    yield connection
    connection.close()


def keep(db, **change):
    return store.keep_step(db, "s", parse_change(change))


def on(kind, **more):
    return {"kind": kind, ("track_id" if kind.endswith("_track") else "strip_id"): "t", **more}


CHANGES = [
    on("add_processor", type="compressor", processor_id="c"),
    on("set_processor", processor_id="c", settings={"threshold_db": -24.0, "key.low_cut_hz": 90}),
    on("set_processor", processor_id="c", on=False),
    on("duplicate_processor", processor_id="c", new_processor_id="d"),
    on("move_processor", processor_id="d", index=0),
    on("set_strip", values={"fader_db": -7.5, "mute": True}),
    {"kind": "set_session", "loop": {"on": True, "start_frame": 10, "end_frame": 99}},
    on("copy_draft", draft=3),
    on("use_draft", draft=2),
    on("start_from", processor_id="c", name="Snare, attack left as it is"),
    on("duplicate_track", new_track_id="u"),
    {"kind": "move_track", "track_id": "u", "index": 0},
    {"kind": "add_bus", "bus_id": "b", "name": "Drums", "members": ["t", "u"]},
    {"kind": "add_bus", "bus_id": "all", "name": "All", "members": ["b"]},
    {"kind": "add_processor", "strip_id": "b", "type": "compressor", "processor_id": "e"},
    {"kind": "set_strip", "strip_id": "b", "values": {"solo_safe": True}},
    {"kind": "set_strip", "strip_id": "master", "values": {"fader_db": -3.0}},
    {"kind": "route_strip", "strip_id": "u", "bus": ""},
    on("set_strip", values={"trim_db": 3.0, "inverted": True}),
    {"kind": "remove_bus", "bus_id": "b"},
    {"kind": "set_session", "beats_per_bar": 3},
    on("put_rein", rein_id="r", rein={"moves": [{"what": "c.ratio", "to": 9.0}], "by": {"kind": "beat"}}),
    on("put_rein", rein_id="r", rein={
        "moves": [{"what": "strip.fader_db"}], "by": {"kind": "line", "points": [[0, -3], [1, 0, 0.5]]},
    }),
    on("name_draft", draft=1, name="plain"),
    on("remove_draft", draft=3),
    on("remove_rein", rein_id="r"),
    on("remove_processor", processor_id="c"),
    on("remove_track"),
]  # fmt: skip


def test_every_kind_of_change_is_undone_and_redone_exactly(db):
    documents = [store.get_session(db, "s").document]
    for change in CHANGES:
        documents.append(keep(db, **change)[0].document)

    back = [store.undo(db, "s")[0].document for _ in CHANGES]
    forth = [store.redo(db, "s")[0].document for _ in CHANGES]

    assert back == documents[-2::-1]
    assert forth == documents[1:]


def test_labels_are_what_a_person_understands(db):
    labels = [keep(db, **change)[1] for change in CHANGES]

    assert labels[1] == "Snare: compressor threshold −18.0 dB → −24.0 dB, low cut off → 90 Hz"
    assert labels[2] == "Snare: compressor switched off"
    assert labels[4] == "Snare: compressor moved to place 1"
    assert labels[5] == "Snare: fader −7.5 dB, mute on"
    assert labels[6] == "Session: loop on"
    assert labels[7:10] == [
        "Snare: draft 1 copied to draft 3", "Snare: draft 1 → draft 2",
        "Snare: compressor from “Snare, attack left as it is”",
    ]  # fmt: skip
    assert labels[11:13] == ["Snare copy: moved to place 1", "Drums: bus made of Snare, Snare copy"]
    assert labels[15:20] == [
        "Drums: solo-safe on", "Master: fader −3.0 dB", "Snare copy: goes to the master",
        "Snare: trim 3.0 dB, polarity inverted", "Drums: bus removed",
    ]  # fmt: skip


def test_drafts_keep_their_own_chains_and_a_new_one_begins_as_a_copy(db):
    def ratio():
        return store.get_session(db, "s").document.tracks["t"].chain[0].settings.ratio

    keep(db, **CHANGES[0])
    keep(db, **on("use_draft", draft=2))
    assert ratio() == 4
    keep(db, **on("set_processor", processor_id="c", settings={"ratio": 9.0}))

    keep(db, **on("use_draft", draft=1))
    first = ratio()
    keep(db, **on("use_draft", draft=2))

    assert (first, ratio()) == (4, 9)
    keep(db, **on("copy_draft", draft=1))
    keep(db, **on("use_draft", draft=1))
    assert ratio() == 9


def test_going_to_a_step_walks_there_and_back_exactly(db):
    documents = [store.get_session(db, "s").document]
    for change in CHANGES:
        documents.append(keep(db, **change)[0].document)

    assert store.go_to_step(db, "s", 3)[0].document == documents[2]
    assert store.go_to_step(db, "s", len(CHANGES) + 1)[0].document == documents[-1]
    assert store.go_to_step(db, "s", 0)[0].document.tracks == {}
    with pytest.raises(NotFoundError, match="no step “99”"):
        store.go_to_step(db, "s", 99)
    assert store.get_session(db, "s").step == 0


def test_a_new_change_after_undo_starts_a_line_of_its_own_and_the_old_one_stays(db):
    keep(db, **CHANGES[0])
    old, _ = keep(db, **CHANGES[5])
    store.undo(db, "s")

    stored, _ = keep(db, **on("set_strip", values={"pan_pct": 20.0}))
    end = store.redo(db, "s")[1]
    back, label = store.go_to_step(db, "s", old.step)

    assert (stored.step, stored.document.tracks["t"].pan_pct, end) == (4, 20.0, None)
    assert (back.document, label) == (old.document, "Snare: fader −7.5 dB, mute on")
    assert [store.undo(db, "s")[0].step, store.redo(db, "s")[0].step] == [2, 3]  # redo keeps to the line chosen
    assert store.go_to_step(db, "s", 4)[0].document == stored.document
    assert [s["parent"] for s in store.list_steps(db, "s")] == [0, 1, 2, 2]


@settings(max_examples=15, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(walk=st.lists(st.tuples(st.sampled_from(["keep", "undo", "redo", "go"]), st.integers(0, 40)), max_size=25))
def test_every_step_always_leads_to_the_same_document(db, walk):
    seen = {step["number"] for step in store.list_steps(db, "s")}
    store.go_to_step(db, "s", 0)
    documents = {0: store.get_session(db, "s").document}
    for number in seen:
        documents[number] = store.go_to_step(db, "s", number)[0].document

    for action, number in walk:
        if action == "keep" and "t" in store.get_session(db, "s").document.tracks:
            stored, _ = keep(db, **on("set_strip", values={"fader_db": -float(number)}))
        elif action == "go" and number in documents:
            stored, _ = store.go_to_step(db, "s", number)
        else:
            stored, _ = (store.undo if action == "undo" else store.redo)(db, "s")
        assert documents.setdefault(stored.step, stored.document) == stored.document


def test_undo_at_the_beginning_changes_nothing(db):
    store.undo(db, "s")

    stored, label = store.undo(db, "s")

    assert (stored.step, label) == (0, None)


def test_a_change_that_alters_nothing_makes_no_step(db):
    assert keep(db, **on("set_strip", values={"fader_db": 0.0}))[0].step == 1


@pytest.mark.parametrize(
    ("change", "error", "sentence"),
    [
        (
            on("set_processor", processor_id="c", settings={"ratio": 0}),
            SettingsError,
            "ratio is 0; allowed: a number from 1 to 100",
        ),
        (
            on("set_processor", processor_id="c", settings={"ratio": "4"}),
            SettingsError,
            'ratio is "4"; allowed: a number',
        ),
        (on("set_processor", processor_id="c", settings={"ratio.x": 1}), SettingsError, "no setting “ratio.x”"),
        (on("set_processor", processor_id="nope", settings={}), NotFoundError, "no processor “nope”"),
        ({"kind": "set_strip", "strip_id": "zz", "values": {}}, NotFoundError, "no track or bus “zz”"),
        ({"kind": "remove_track", "track_id": "zz"}, NotFoundError, "no track “zz”"),
        (
            on("set_strip", values={"solo_safe": True}),
            SettingsError,
            "Snare: there is no setting “solo_safe”; allowed: name",
        ),
        (on("set_strip", values={"name": ""}), SettingsError, "Snare: name is"),
        (on("route_strip", bus="zz"), SettingsError, "bus is “zz”; allowed: empty for the master"),
        ({"kind": "remove_bus", "bus_id": "t"}, ConflictError, "Snare is not a bus"),
        ({"kind": "add_bus", "bus_id": "t", "name": "x"}, ConflictError, "“t” already"),
        ({"kind": "add_bus", "name": "x", "members": ["master"]}, ConflictError, "master cannot go into a bus"),
        (
            on("add_processor", type="flanger"),
            SettingsError,
            "no processor type “flanger”; allowed: compressor",
        ),
        (on("add_processor", type="compressor", processor_id="c"), ConflictError, "“c” already"),
        (
            on("set_processor", processor_id="c", settings={"key.source": "Kick"}),
            SettingsError,
            "“Kick”; allowed: self",
        ),
        (on("set_processor", processor_id="c", settings={"key.source": "t/after"}), ConflictError, "Snare ← Snare"),
        (on("start_from", processor_id="c", name="Tuba"), NotFoundError, "no starting point “Tuba”"),
        (on("copy_draft", draft=1), ConflictError, "draft 1 is the one in use"),
        (on("use_draft", draft=33), SettingsError, "draft: given 33; allowed: less than or equal to 32"),
        ({"kind": "move_track", "track_id": "t", "index": -1}, SettingsError, "index: given -1"),
        (
            on("set_strip", values={"fader_db": 99.0}),
            SettingsError,
            "is 99.0; allowed: a number from -90 to 12",
        ),
        ({"kind": "paint"}, SettingsError, "allowed: .*set_processor"),
        (
            {"kind": "set_session", "loop": {"on": True, "start_frame": 9, "end_frame": 9}},
            SettingsError,
            "end_frame is 9; allowed: after start_frame",
        ),
    ],
)
def test_a_bad_change_is_refused_and_nothing_is_kept(db, change, error, sentence):
    keep(db, **CHANGES[0])
    before = store.get_session(db, "s")

    with pytest.raises(error, match=sentence):
        keep(db, **change)

    assert store.get_session(db, "s") == before


PLAIN = st.recursive(st.integers() | st.none(), lambda v: st.dictionaries(st.sampled_from("abcd"), v), max_leaves=9)
WITH_IDS = st.lists(
    st.fixed_dictionaries({"id": st.sampled_from("pqrs"), "v": PLAIN}), max_size=4, unique_by=lambda one: one["id"]
)
DOCUMENTS = st.dictionaries(st.sampled_from("abcd"), PLAIN | WITH_IDS | st.lists(st.integers(), max_size=3))


@settings(max_examples=200, deadline=None)
@given(one=DOCUMENTS, other=DOCUMENTS)
def test_a_patch_turns_any_document_into_the_other_and_back(one, other):
    back, forth = difference(one, other)

    assert patched(one, json.loads(json.dumps(forth))) == other
    assert patched(other, json.loads(json.dumps(back))) == one


def test_a_step_keeps_of_a_chain_what_changed_not_the_chain_twice(db):
    for number in range(6):
        keep(db, kind="add_processor", strip_id="master", type="dynamic_eq", processor_id=f"p{number}")
    keep(db, kind="set_processor", strip_id="master", processor_id="p3", settings={"output_db": -2.0})
    keep(db, kind="move_processor", strip_id="master", processor_id="p3", index=0)

    rows = db.execute("SELECT before, after FROM steps ORDER BY number DESC LIMIT 2").fetchall()

    assert len(rows[1]["after"]) < 120 and '"output_db": {"is": -2.0}' in rows[1]["after"]
    assert len(rows[0]["after"]) < 120 and '"order"' in rows[0]["after"]
    store.undo(db, "s")
    stored, _ = store.undo(db, "s")
    assert [entry.id for entry in stored.document.master.chain] == [*(f"p{number}" for number in range(6)), "limiter"]
    assert stored.document.master.chain[3].settings.output_db == 0.0


BURST = """
import sys
from reins.store import sessions as store
from reins.store.database import connect
from reins.core.changes import parse_change
db = connect(sys.argv[1])
for n in range(100000):
    value = -90 + (n % 1000) / 10
    change = {"kind": "set_strip", "strip_id": "t", "values": {"fader_db": value}}
    stored, _ = store.keep_step(db, "s", parse_change(change))
    print(stored.step, value, flush=True)
"""


def test_a_process_killed_in_a_burst_loses_nothing_confirmed(db, tmp_path):
    path = tmp_path / "reins.db"
    child = subprocess.Popen([sys.executable, "-c", BURST, str(path)], stdout=subprocess.PIPE, text=True)
    confirmed = [child.stdout.readline() for _ in range(25)][-1]
    os.kill(child.pid, signal.SIGKILL)
    rest = child.stdout.read().splitlines()
    child.stdout.close()
    child.wait()
    step, value = ([line for line in rest if len(line.split()) == 2] or [confirmed])[-1].split()

    again = connect(path)
    stored = store.get_session(again, "s")

    assert again.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
    assert stored.step - int(step) in (0, 1)  # the last one may have been kept but not yet confirmed
    assert len(store.list_steps(again, "s")) == stored.step
    if stored.step == int(step):
        assert stored.document.tracks["t"].fader_db == float(value)
    again.close()


def test_a_nested_transaction_that_fails_leaves_the_outer_one_whole(db):
    with transaction(db):
        add_take(db, "one", "s", "Snare", TakeFacts(1, 48000, 10))
        with pytest.raises(ZeroDivisionError), transaction(db):
            add_take(db, "two", "s", "Snare", TakeFacts(1, 48000, 10))
            raise ZeroDivisionError

    assert list(list_takes(db, "s")) == ["one"]


def test_a_take_of_no_session_is_refused(db):
    with pytest.raises(StorageError, match="FOREIGN KEY"), transaction(db):
        add_take(db, "one", "nobody", "Snare", TakeFacts(1, 48000, 10))


def test_migrating_twice_changes_nothing(db):
    assert migrate(db) == newest_version()
    assert store.get_session(db, "s").step == 1


def test_a_migration_that_fails_in_the_middle_leaves_the_old_version(db, tmp_path):
    folder = tmp_path / "migrations"
    folder.mkdir()
    last = newest_version()
    broken = f"BEGIN; CREATE TABLE extra (x) STRICT; PRAGMA user_version = {last + 1}; COMIT;"
    (folder / f"{last + 1:04d}_broken.sql").write_text(broken)

    with pytest.raises(StorageError, match=f"version {last + 1}"):
        migrate(db, folder)

    assert db.execute("PRAGMA user_version").fetchone()[0] == last
    assert db.execute("SELECT count(*) FROM sqlite_master WHERE name = 'extra'").fetchone()[0] == 0
    assert store.get_session(db, "s").step == 1


def test_a_file_that_is_no_database_is_said_so(tmp_path):
    (tmp_path / "reins.db").write_bytes(b"no database at all, but long enough to be read as one" * 20)

    with pytest.raises(StorageError, match="cannot be read"):
        connect(tmp_path / "reins.db")


def test_the_database_is_strict_about_types(db):
    with pytest.raises(sqlite3.IntegrityError, match="cannot store TEXT"):
        db.execute("UPDATE sessions SET step = 'many'")


def test_a_database_of_the_first_version_keeps_its_rows(tmp_path):
    folder = tmp_path / "first"
    folder.mkdir()
    first = next(MIGRATIONS.glob("0001*.sql"))
    (folder / first.name).write_text(first.read_text())
    db = connect(tmp_path / "old.db")
    migrate(db, folder)
    track = '{"name": "Snare", "group": "drums", "take_id": "x", "fader_db": -3.0}'
    document = f'{{"name": "Old", "tracks": {{"t": {track}}}, "order": ["t"]}}'
    db.execute("INSERT INTO sessions VALUES ('s', ?, 2, 'then', 'then')", (document,))
    steps = [
        (1, "one", f'{{"tracks": {{"is": {{"t": {track}}}}}}}'),
        (2, "two", '{"name": {"is": "Old"}}'),
        (3, "x", "{}"),
    ]
    for number, label, after in steps:
        db.execute(
            "INSERT INTO steps VALUES ('s', ?, ?, '{\"name\": {\"is\": \"New\"}}', ?, 'then')", (number, label, after)
        )

    migrate(db)

    stored = store.get_session(db, "s")
    assert (stored.step, stored.tip, stored.document.tracks["t"].fader_db) == (2, 3, -3.0)
    assert store.undo(db, "s")[0].document.name == "New"
    assert [store.redo(db, "s")[1], store.redo(db, "s")[1], store.redo(db, "s")[1]] == ["two", "x", None]
    assert store.line_to(db, "s", 3) == [3, 2, 1, 0]
