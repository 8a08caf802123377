"""Nothing lost: the folder's lock, what nothing names, databases that do not fit, backup, check, copies, checksums."""

import json
import shutil
import sqlite3
import stat
import subprocess
import sys
import types
import zipfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import pytest

from reins.core.sessions import Document, Track
from reins.core.takes import Take, write_take
from reins.errors import ConflictError, ReinsError, StorageError
from reins.services import expiring, keeping, shelf
from reins.services.editing import document_of, keep_session, new_session
from reins.services.expiring import forget_old
from reins.services.house import House
from reins.services.keeping import backup, check, fill_checksums
from reins.services.shelf import list_lost, restore_lost
from reins.store import sessions as store
from reins.store.database import MIGRATIONS
from reins.store.folder import DATABASE, HOUSE_ID, DataFolder, newest_version
from reins.store.lost import list_lost as list_lost_rows
from tests.conftest import RATE

TAKE = "a" * 32


def nothing(done, total):
    pass


def session_with_take(house, name="Evening"):
    noise = 0.1 * np.random.default_rng(1).standard_normal((1, 4800))
    write_take(house.takes_dir / TAKE, [noise], channels=1, sample_rate=RATE)
    document = Document(name=name, sample_rate=RATE, tracks={"t": Track(name="Voice", take_id=TAKE)}, order=["t"])
    return keep_session(house, document, [(TAKE, "Voice", Take(house.takes_dir / TAKE).facts)])


@pytest.fixture
def data(tmp_path):
    """A data folder with a session and its recording, closed."""
    house = House(tmp_path / "data")
    session_with_take(house)
    house.close()
    return tmp_path / "data"


def reopened(data):
    house = House(data)
    house.close()
    return house


def test_the_database_alone_is_whole_after_it_was_closed_and_only_its_owner_may_read(data):
    assert not list(data.glob("reins.db-*"))
    db = sqlite3.connect(f"file:{data / DATABASE}?mode=ro&immutable=1", uri=True)
    assert db.execute("SELECT count(*) FROM sessions").fetchone() == (1,)
    db.close()
    assert stat.S_IMODE(data.stat().st_mode) == 0o700
    assert stat.S_IMODE((data / DATABASE).stat().st_mode) == 0o600


@pytest.mark.parametrize("damaged", [b"", b"\n", b"\xff\xfe\x00", b"no id at all"])
def test_a_damaged_house_id_is_made_anew_where_all_recordings_are_there(data, damaged):
    kept = (data / HOUSE_ID).read_text()
    (data / HOUSE_ID).write_bytes(damaged)

    folder = DataFolder(data)
    folder.close()

    assert (data / HOUSE_ID).read_text() == kept and "made anew" in folder.said[0]
    (data / HOUSE_ID).write_bytes(damaged)
    shutil.rmtree(next((data / "takes").iterdir()))
    with pytest.raises(
        StorageError, match=r"house.id: it is damaged, and of 0 recordings .*; 1 that it names are not there"
    ):
        DataFolder(data)


def test_a_damaged_house_id_beside_a_database_of_none_of_the_recordings_is_refused(data):
    (data / HOUSE_ID).write_bytes(b"")
    db = sqlite3.connect(data / DATABASE)
    db.execute("DELETE FROM sessions")
    db.execute("DELETE FROM takes")
    db.commit()
    db.close()

    with pytest.raises(StorageError, match=r"of 1 recordings in takes/ reins.db names 0"):
        DataFolder(data)
    assert (data / "takes" / TAKE).is_dir() and not (data / "lost").exists()


def test_a_second_one_is_told_who_has_the_folder_and_clears_nothing(data):
    first = DataFolder(data, serving_at="http://127.0.0.1:1/")
    on_its_way = first.passing_folder()
    with pytest.raises(StorageError, match=r"in use by process \d+ at http://127.0.0.1:1/, since .* Stop that one"):
        DataFolder(data)
    assert on_its_way.is_dir()
    first.close()
    reopened(data)


def test_what_nothing_names_is_set_aside_listed_and_brought_back(data):
    recording = data / "takes" / ("b" * 32)
    write_take(recording, [np.full((1, 4800), 0.25)], channels=1, sample_rate=RATE)
    (data / "takes" / "notes").mkdir()
    (data / "takes" / "notes" / "set list.txt").write_text("Last Boat Home")
    (data / "passing" / "somebody's").mkdir()
    (data / "passing" / "reins-upload").mkdir()

    house = House(data)

    rows = {row["name"]: row for row in list_lost(house)}
    assert set(rows) == {"b" * 32, "notes", "somebody's"}
    assert (data / "lost" / "notes" / "set list.txt").read_text() == "Last Boat Home"
    assert rows["notes"]["was"] == "takes/notes" and "no session names it" in rows["notes"]["why"]
    assert rows["b" * 32]["recording"] == "0:00" and rows["notes"]["recording"] is None
    session_id = restore_lost(house, "b" * 32)
    take = house.takes(document_of(house, session_id))
    assert next(iter(take.values())).read(0, 10).max() == 0.25
    with pytest.raises(Exception, match="no whole recording"):
        restore_lost(house, "notes")
    shelf.forget_lost(house, "notes")
    assert not (data / "lost" / "notes").exists() and len(list_lost(house)) == 1
    house.close()


@pytest.mark.parametrize("text", ["{oops", "[5, {}]", '{"name": 1}', "[" * 100_000, '[{"name": "notes", "at": 5}]'])
def test_a_damaged_list_of_what_was_set_aside_hides_nothing_and_stops_nothing(data, text):
    (data / "takes" / "notes").mkdir()
    reopened(data)
    (data / "lost" / "list.json").write_text(text)
    (data / "takes" / "more").mkdir()

    house = House(data)

    rows = {row["name"]: row["why"] for row in list_lost(house)}
    assert set(rows) == {"notes", "more"} and "no session names it" in rows["more"]
    shelf.forget_lost(house, "notes")
    assert [row["name"] for row in list_lost(house)] == ["more"] and not (data / "lost" / "notes").exists()
    house.close()


@pytest.mark.parametrize(
    ("spoil", "sentence"),
    [
        (lambda data: (data / DATABASE).unlink(), "no sessions here, but 1 recordings beside it"),
        (lambda data: (data / DATABASE).write_bytes(b""), "no sessions here, but 1 recordings beside it"),
        (lambda data: (data / DATABASE).write_bytes(b"half a page" * 100), "cannot be read"),
        (lambda data: other_house(data), "not those of the recordings beside them"),
        (lambda data: of_version(data, 99), "kept by a newer Reins (version 99"),
    ],
)
def test_a_database_that_does_not_fit_stops_with_a_sentence_and_nothing_is_touched(data, spoil, sentence):
    spoil(data)
    before = {path: path.read_bytes() for path in data.rglob("*") if path.is_file() and path.name != "lock"}

    with pytest.raises(StorageError) as told:
        House(data)

    assert sentence in str(told.value) and "Nothing was changed" in str(told.value)
    assert {p: p.read_bytes() for p in data.rglob("*") if p.is_file() and p.name in (DATABASE, "samples.f32")} == {
        p: text for p, text in before.items() if p.name in (DATABASE, "samples.f32")
    }


def other_house(data):
    db = sqlite3.connect(data / DATABASE)
    db.execute("UPDATE house SET id = 'another'")
    db.commit()
    db.close()


def of_version(data, version):
    db = sqlite3.connect(data / DATABASE)
    db.execute(f"PRAGMA user_version = {version}")
    db.commit()
    db.close()


def test_a_copy_is_kept_before_a_migration_and_old_recordings_get_checksums(tmp_path):
    data = tmp_path / "old"
    (data / "takes").mkdir(parents=True)
    db = sqlite3.connect(data / DATABASE)
    for number, path in enumerate(sorted(MIGRATIONS.glob("000[12]_*.sql")), start=1):
        db.executescript(path.read_text())
        db.execute(f"PRAGMA user_version = {number}")
    document = Document(name="Old", sample_rate=RATE).model_dump_json()
    db.execute("INSERT INTO sessions VALUES ('s', ?, 0, '2026-01-01T00:00', '2026-01-01T00:00', 0)", [document])
    db.execute("INSERT INTO takes VALUES (?, 's', 'Voice', 1, ?, 480)", [TAKE, RATE])
    db.commit()
    db.close()
    write_take(data / "takes" / TAKE, [np.full((1, 480), 0.5)], channels=1, sample_rate=RATE)

    house = House(data)
    fill_checksums(house)
    house.close()

    (copy,) = (data / "copies").iterdir()
    assert copy.name.startswith("reins-v2-") and newest_version() > 2
    old = sqlite3.connect(copy)
    assert old.execute("PRAGMA user_version").fetchone() == (2,)
    assert old.execute("SELECT name FROM takes").fetchone() == ("Voice",)
    old.close()
    assert check(data, nothing, repair=False).without_checksum == 0
    (data / DATABASE).write_bytes(copy.read_bytes())  # the older copy is put back
    reopened(data)


def test_a_backup_made_while_it_is_in_use_is_a_data_folder(data, tmp_path):
    house = House(data)
    new_session(house, "Kept a moment ago")

    problems = backup(data, tmp_path / "kept.zip", nothing)
    house.close()

    assert problems == []
    with zipfile.ZipFile(tmp_path / "kept.zip") as packed:
        packed.extractall(tmp_path / "back")
    back = House(tmp_path / "back")
    assert {card["name"] for card in shelf.list_shelf(back)} == {"Evening", "Kept a moment ago"}
    assert back.take(TAKE).facts.frames == 4800
    back.close()
    assert check(tmp_path / "back", nothing, repair=False).problems == []
    assert {path.name for path in tmp_path.iterdir()} == {"data", "back", "kept.zip"}  # nothing half-written


def flip(path):
    raw = bytearray(path.read_bytes())
    raw[100] ^= 1
    path.write_bytes(bytes(raw))


@pytest.mark.parametrize(
    ("spoil", "sentence"),
    [
        (lambda take: flip(take / "samples.f32"), "checksum"),
        (lambda take: (take / "samples.f32").write_bytes(b"short"), "5 bytes where"),
        (lambda take: (take / "samples.f32").unlink(), "cannot be read"),
        (lambda take: take.rename(take.with_name("elsewhere")), "missing"),
    ],
)
def test_check_and_backup_name_a_recording_that_is_not_as_it_was_kept(data, tmp_path, spoil, sentence):
    assert check(data, nothing, repair=False).problems == []
    spoil(data / "takes" / TAKE)

    found = check(data, nothing, repair=False)

    assert any(sentence in problem and "Voice" in problem for problem in found.problems)
    assert any(sentence in problem for problem in backup(data, tmp_path / "b.zip", nothing))


def test_repair_makes_pictures_anew_and_sets_aside_what_nothing_names(data):
    (data / "takes" / TAKE / "level64.f32").unlink()
    (data / "takes" / "strange").mkdir()
    assert len(check(data, nothing, repair=False).problems) == 2

    found = check(data, nothing, repair=True)

    assert found.problems == [] and len(found.mended) == 2
    assert (data / "lost" / "strange").is_dir()
    assert check(data, nothing, repair=False).problems == []


def test_the_command_line_backs_up_checks_and_says_what_is_wrong(data, tmp_path):
    def run(*arguments):
        return subprocess.run(
            [sys.executable, "-m", "reins.cli", *map(str, arguments)], capture_output=True, text=True, check=False
        )

    assert run("backup", data, "-o", tmp_path / "b.zip").returncode == 0
    told = json.loads(zipfile.ZipFile(tmp_path / "b.zip").read("backup.json"))
    assert told["format"] == "reins-backup" and told["takes"] == 1
    flip(data / "takes" / TAKE / "samples.f32")
    wrong = run("check", data)
    assert wrong.returncode == 1 and "checksum" in wrong.stdout + wrong.stderr
    missing = run("check", tmp_path / "nowhere")
    assert missing.returncode == 2 and missing.stderr.count("\n") == 1 and "no reins.db" in missing.stderr


@pytest.fixture
def forgetting(data):
    """Progress during which the only session is deleted for good, as a desk may that has the folder open."""
    house = House(data)
    (card,) = shelf.list_shelf(house)
    shelf.delete_session(house, card["id"])

    def forget(done, total):
        if shelf.list_deleted(house):
            shelf.forget_session(house, card["id"])

    yield forget
    house.close()


def test_a_check_and_a_backup_of_a_folder_in_use_look_again_before_they_say_what_is_wrong(data, tmp_path, forgetting):
    assert check(data, forgetting, repair=False).problems == []
    assert not (data / "takes" / TAKE).exists()


def test_a_backup_during_which_a_recording_goes_is_made_anew(data, tmp_path, forgetting):
    assert backup(data, tmp_path / "b.zip", forgetting) == []
    with zipfile.ZipFile(tmp_path / "b.zip") as packed:
        told = json.loads(packed.read("backup.json"))
        assert (told["takes"], told["problems"]) == (0, [])


def test_a_recording_that_comes_in_while_it_is_checked_is_no_orphan(data, monkeypatch):
    house = House(data)
    found = data / "takes" / ("b" * 32)
    write_take(found, [np.full((1, 4800), 0.25)], channels=1, sample_rate=RATE)
    facts = Take(found).facts
    document = Document(name="New", tracks={"t": Track(name="N", take_id=found.name)}, order=["t"])

    def comes(seconds):
        if len(shelf.list_shelf(house)) == 1:
            keep_session(house, document, [(found.name, "N", facts)])

    monkeypatch.setattr(keeping.time, "sleep", comes)

    assert check(data, nothing, repair=False).problems == []
    house.close()


def test_a_deleted_session_comes_back_or_goes_with_its_recordings(data):
    house = House(data)
    (card,) = shelf.list_shelf(house)
    shelf.delete_session(house, card["id"])
    assert shelf.list_shelf(house) == [] and shelf.list_deleted(house)[0]["name"] == "Evening"
    forget_old(house)  # not old
    shelf.bring_back(house, card["id"])
    copy = shelf.duplicate_session(house, card["id"])
    shelf.delete_session(house, card["id"])
    house.close()

    house = House(data)  # a start sets nothing of it aside
    assert list_lost(house) == [] and (data / "takes" / TAKE).is_dir()
    with house.database() as db:
        db.execute("UPDATE sessions SET deleted_at = '2026-01-01T00:00:00.000+00:00' WHERE deleted_at IS NOT NULL")
    forget_old(house)
    assert shelf.list_deleted(house) == [] and not (data / "takes" / TAKE).exists()
    (row,) = list_lost(house)
    assert row["session"] and "30 days ago" in row["why"]
    assert shelf.restore_lost(house, row["name"]) == card["id"] and list_lost(house) == []
    (back,) = house.takes(document_of(house, card["id"])).values()
    assert back.read(0, 4800).std() > 0.05 and (data / "takes" / TAKE).is_dir()

    shelf.delete_session(house, card["id"])
    with house.database() as db:
        db.execute("UPDATE sessions SET deleted_at = '2026-01-01T00:00:00.000+00:00' WHERE deleted_at IS NOT NULL")
    forget_old(house)
    forget_old(house)  # it has only just been set aside
    (row,) = list_lost(house)
    noted = data / "lost" / "list.json"
    noted.write_text(noted.read_text().replace(json.loads(noted.read_text())[0]["at"], "2026-01-01T00:00:00+00:00"))
    forget_old(house)
    assert list_lost(house) == [] and not (data / "lost" / row["name"]).exists()
    (take,) = house.takes(document_of(house, copy)).values()  # the copy has recordings of its own
    assert take.read(0, 4800).std() > 0.05
    house.close()


def test_a_clock_that_is_a_month_ahead_at_one_start_takes_nothing_away(data, monkeypatch):
    house = House(data)
    (card,) = shelf.list_shelf(house)
    shelf.delete_session(house, card["id"])
    clock = types.SimpleNamespace(
        now=lambda *_: datetime.now(UTC) + timedelta(days=40), fromisoformat=datetime.fromisoformat
    )
    monkeypatch.setattr(expiring, "datetime", clock)

    forget_old(house)

    assert [row["id"] for row in shelf.list_deleted(house)] == [card["id"]] and list_lost(house) == []
    house.close()


def test_what_is_due_stops_no_start_whatever_is_written_in_lost_or_however_full_the_disk_is(data, monkeypatch):
    house = House(data)
    (card,) = shelf.list_shelf(house)
    shelf.delete_session(house, card["id"])
    with house.database() as db:
        db.execute("UPDATE sessions SET deleted_at = '2026-01-01T00:00:00.000+00:00' WHERE deleted_at IS NOT NULL")

    def full(*_):
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as patched:
        patched.setattr(expiring, "write_synced", full)
        new_session(house, "Newer")
        forget_old(house)
    assert [row["id"] for row in shelf.list_deleted(house)] == [card["id"]]

    forget_old(house)
    noted = data / "lost" / "list.json"
    for at in ("some day", "2026-01-01T00:00:00"):
        noted.write_text(json.dumps([{**row, "at": at} for row in json.loads(noted.read_text())]))
        forget_old(house)
    (row,) = list_lost_rows(data / "lost")
    with house.database() as db:
        store.add_session(db, card["id"], Document(name="Another"))
    with pytest.raises(ConflictError, match="on the shelf or in the recycle place already"):
        shelf.restore_lost(house, row["name"])
    assert (data / "lost" / row["name"] / "takes" / TAKE).is_dir()
    house.close()


def test_a_recording_that_goes_in_the_middle_of_a_backup_is_never_left_out_without_a_word(data, tmp_path, monkeypatch):
    write = zipfile.ZipFile.write

    def gone(packed, file, name=None):
        if str(name).startswith("takes/"):
            raise FileNotFoundError(2, "gone")
        return write(packed, file, name)

    monkeypatch.setattr(zipfile.ZipFile, "write", gone)
    (said,) = backup(data, tmp_path / "b.zip", nothing)
    assert "went while it was packed" in said


def test_a_session_that_cannot_be_read_is_one_card_and_all_others_work(data):
    house = House(data)
    bad = new_session(house, "Spoilt")
    with house.database() as db:
        db.execute('UPDATE sessions SET document = \'{"name": "Spoilt", "tempo_bpm": 5}\' WHERE id = ?', [bad])

    cards = {card["name"]: card for card in shelf.list_shelf(house)}

    assert cards["Evening"]["problem"] is None
    assert "tempo_bpm" in cards["Spoilt"]["problem"]
    assert json.loads(shelf.raw_session(house, bad))["session"] == {"name": "Spoilt", "tempo_bpm": 5}
    with pytest.raises(ReinsError, match="cannot be read: tempo_bpm is 5"):
        document_of(house, bad)
    house.close()


def test_a_recording_is_synced_file_by_file_and_its_folder_too_before_it_is_named(tmp_path, monkeypatch):
    synced = []
    monkeypatch.setattr("reins.core.takes.sync", lambda path: synced.append(Path(path).name))
    write_take(tmp_path / TAKE, [np.zeros((1, 480))], channels=1, sample_rate=RATE)
    assert set(synced) == {path.name for path in (tmp_path / TAKE).iterdir()} | {TAKE}
