"""No command writes over what it reads, over what else it writes, or into a data folder; a pipe is no file."""

import json
import os
import zipfile

import numpy as np
import pytest
import soundfile

from reins.core.sessions import Document, Track
from reins.services.exporting import Output, mix_names
from reins.services.house import House
from reins.store import sessions as store
from tests.conftest import RATE
from tests.test_cli import reins

DUCK = {"type": "ducker", "settings": {"threshold_db": -60, "key": {"source": "voice"}}}
ROOM = {"type": "room", "settings": {"impulse": "hall.wav"}}


def chain_of(*processors):
    return json.dumps({"format": "reins-chain", "version": 1, "processors": list(processors)})


@pytest.fixture
def folder(tmp_path):
    """Sounds, chains, a session file as JSON and as zip, links, and a data folder D."""
    rng = np.random.default_rng(5)
    for name in ("a.wav", "key.wav", "hall.wav", "takes/a.wav", "in/one.wav"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        soundfile.write(tmp_path / name, 0.1 * rng.standard_normal(RATE // 2), RATE, subtype="PCM_24")
    (tmp_path / "chain.json").write_text(chain_of({"type": "compressor"}))
    (tmp_path / "duck.json").write_text(chain_of(DUCK))
    (tmp_path / "room.json").write_text(chain_of(ROOM))
    (tmp_path / "soft.wav").symlink_to("a.wav")
    (tmp_path / "hard.wav").hardlink_to(tmp_path / "a.wav")
    document = {"name": "Evening", "sample_rate": RATE, "tracks": {"t": {"name": "A", "take_id": "m"}}, "order": ["t"]}
    session = {
        "format": "reins-session",
        "version": 1,
        "session": document,
        "takes": {"m": {"name": "A", "file": "mix.wav"}},
    }
    soundfile.write(tmp_path / "mix.wav", 0.1 * rng.standard_normal(RATE // 2), RATE, subtype="PCM_24")
    (tmp_path / "session.json").write_text(json.dumps(session))
    with zipfile.ZipFile(tmp_path / "s.zip", "w") as packed:
        packed.writestr("session.json", json.dumps(session))
        packed.write(tmp_path / "mix.wav", "mix.wav")
    house = House(tmp_path / "D")
    with house.database() as db:
        store.add_session(db, "a" * 12, Document(name="Evening"))
    house.close()
    return tmp_path


def contents(folder):
    return {path: path.read_bytes() for path in folder.rglob("*") if path.is_file() and "D/lock" not in str(path)}


LOST = "and would be lost"
OURS = "lies within the data folder"
REFUSED = [
    ("process a.wav -o a.wav --chain chain.json", LOST),
    ("process a.wav -o soft.wav --chain chain.json", LOST),
    ("process a.wav -o hard.wav --chain chain.json", LOST),
    ("process a.wav -o ../{here}/in/../a.wav --chain chain.json", LOST),
    ("process a.wav -o chain.json --chain chain.json", LOST),
    ("process a.wav -o key.wav --chain duck.json --key voice=key.wav", LOST),
    ("process a.wav -o hall.wav --chain room.json", LOST),
    ("process a.wav -o out.wav --chain chain.json --trace a.wav", LOST),
    ("process a.wav -o out.wav --chain chain.json --trace chain.json", LOST),
    ("process a.wav -o out.wav --chain chain.json --trace out.wav", "is written, too"),
    ("process a.wav -o D/out.wav --chain chain.json", OURS),
    ("process a.wav -o D/takes/out.wav --chain chain.json", OURS),
    ("batch in -o in --chain chain.json", LOST),
    ("batch in/one.wav -o . --chain chain.json --report chain.json", LOST),
    ("batch key.wav in/one.wav -o in --chain chain.json", LOST),
    ("batch a.wav -o takes --chain duck.json --key-from takes/a.wav", LOST),
    ("batch hall.wav -o . --chain room.json", LOST),
    ("batch in -o out --chain chain.json --report chain.json", LOST),
    ("batch in -o D/takes --chain chain.json", OURS),
    ("recall s.zip -o s.zip", LOST),
    ("recall session.json -o mix.wav", LOST),
    ("recall session.json -o D/sheet.md", OURS),
    ("aim hits a.wav -o a.wav", LOST),
    ("aim duck a.wav --key key.wav -o key.wav", LOST),
    ("aim hits a.wav -o D/reins.db", OURS),
    ("render session.json -o .", LOST),
    ("render s.zip -o D", OURS),
    ("backup D -o D/reins.db", OURS),
    ("backup D -o D/takes/all.zip", OURS),
]


@pytest.mark.parametrize(("line", "says"), REFUSED)
def test_what_would_be_lost_is_refused_before_anything_is_begun(folder, line, says):
    before = contents(folder)

    done = reins(*line.format(here=folder.name).split(), cwd=folder)

    assert done.returncode == 2 and says in done.stderr and done.stderr.count("\n") == 1, done.stderr
    assert contents(folder) == before and not (folder / "out").exists()


@pytest.mark.parametrize(
    "line",
    [
        "measure pipe.wav", "fight a.wav pipe.wav", "process pipe.wav -o out.wav --chain chain.json",
        "process a.wav -o pipe.wav --chain chain.json", "process a.wav -o out.wav --chain pipe.wav",
        "process a.wav -o out.wav --chain duck.json --key voice=pipe.wav", "batch pipe.wav -o out --chain chain.json",
        "batch a.wav -o out --chain duck.json --key-from pipe.wav", "recall pipe.wav -o sheet.md",
        "render pipe.wav -o .", "aim hits pipe.wav",
    ],
)  # fmt: skip
def test_a_pipe_is_refused_at_once(folder, line):
    os.mkfifo(folder / "pipe.wav")

    done = reins(*line.split(), cwd=folder)

    assert done.returncode == 2 and "pipe.wav: that is no file" in done.stderr, done.stderr
    assert not (folder / "out.wav").exists() and not (folder / "out").exists()


def test_what_is_there_and_no_input_is_written_over(folder):
    (folder / "out.wav").write_text("older")

    assert reins("process", "a.wav", "-o", "out.wav", "--chain", "chain.json", cwd=folder).returncode == 0
    assert reins("backup", "D", "-o", "kept.zip", cwd=folder).returncode == 0
    assert reins("backup", "D", "-o", "kept.zip", cwd=folder).returncode == 0

    assert soundfile.info(folder / "out.wav").frames == RATE // 2


def test_stems_are_named_apart_whatever_a_pattern_makes_of_them():
    names = ["A 3", "A", "a", "mix", "A", "A 5"]
    tracks = {str(place): Track(name=name) for place, name in enumerate(names)}
    document = Document(name="Evening", tracks=tracks, order=list(tracks))

    made = mix_names(document, Output("wav", "24", names="{name}"), mix=True, stems=True)

    assert len({name.lower() for name in made}) == len(names) + 1 and made[0] == "mix.wav"
