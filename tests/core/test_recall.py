"""The recall sheet: everything that is not at its default in words, and what each processor did, measured."""

import json

import numpy as np
import pytest
import soundfile
from typer.testing import CliRunner

from reins.cli import app
from reins.core.engine.chain import Chain
from reins.core.processors import PROCESSORS
from reins.core.recall import settings_apart, sheet
from reins.core.settings.fields import describe_fields
from reins.core.settings.words import said
from reins.core.trials.doings import doings
from reins.errors import InputError
from tests.conftest import RATE
from tests.core.test_graph import entry, session


@pytest.mark.parametrize("kind", PROCESSORS)
def test_every_setting_that_is_not_its_default_stands_in_it(kind):
    model = PROCESSORS[kind].Settings
    assert settings_apart(None, model()) == []
    moved = [row for row in describe_fields(model) if row["kind"] == "number" and "." not in row["name"]]
    for row in moved:
        step = row["step"] if row["default"] + row["step"] <= row["high"] else -row["step"]
        other = row["default"] + step
        told = settings_apart(None, model(**{row["name"]: other}))
        assert (row["label"], said(other, row)) in told
    assert moved


def test_what_each_did_is_what_its_chain_says(make_take, noise):
    takes = {"a": make_take(noise, "a")}
    document = session({"a": {"bus": "g", "chain": [entry("c", threshold_db=-30, ratio=4)]}}, {"g": {}})
    did = doings(document, takes)[("a", "c")]
    chain = Chain(document.tracks["a"].chain, channels=2, sample_rate=RATE, on_take=True)
    chain.process(takes["a"].read(0, 24000))
    gain = chain.gains()[0][1]["gain_db"]

    assert did.deepest_db == pytest.approx(gain.min(), abs=0.06)
    assert did.usual_db == pytest.approx(np.median(gain[gain <= -0.5]), abs=0.3)
    columns = np.array_split(gain, len(did.low_db))  # 250 frames each: 24000 go into 96
    np.testing.assert_allclose(did.low_db, [part.min() for part in columns], atol=0.011)
    assert max(did.high_db) == 0.0
    text = sheet(document, {("a", "c"): did})
    row = text.split("`")[1]
    assert len(row) == len(did.low_db) and row[np.argmin(did.low_db)] in "▇█" and len(set(row)) > 3
    told = {
        "strip": "a",
        "kind": "which",
        "a": "draft 1",
        "b": "source",
        "rounds": 4,
        "matched_lu": 0.01,
        "said": "3 of 4.",
    }
    judged = type(document).model_validate(document.model_dump() | {"judged": [told]})
    assert "- a, draft 1 and source: 3 of 4." in sheet(judged, {})
    assert "### 1. Compressor" in text and "| Threshold | −30.0 dB |" in text and did.sentence() in text
    assert "to g" in text.lower()


def test_the_command_writes_it(tmp_path, noise):
    (tmp_path / "takes").mkdir()
    soundfile.write(tmp_path / "takes" / "k.wav", noise.T, RATE, subtype="FLOAT")
    chain = [{"type": "gate", "id": "g", "settings": {"threshold_db": -20, "range_db": 12}}]
    document = {"name": "Evening", "tracks": {"t": {"name": "Kick", "take_id": "k", "chain": chain}}, "order": ["t"]}
    raw = {
        "format": "reins-session",
        "version": 1,
        "session": document,
        "takes": {"k": {"name": "K", "file": "takes/k.wav"}},
    }
    (tmp_path / "session.json").write_text(json.dumps(raw))
    run = CliRunner().invoke(app, ["recall", str(tmp_path / "session.json"), "-o", str(tmp_path / "sheet.md")])

    assert run.exit_code == 0, run.output
    text = (tmp_path / "sheet.md").read_text(encoding="utf-8")
    assert text.startswith("# Evening\n") and "## Kick" in text and "| Range | 12.0 dB |" in text
    assert "Moved " in text and sorted(path.name for path in tmp_path.iterdir()) == [
        "session.json",
        "sheet.md",
        "takes",
    ]


@pytest.mark.parametrize("words", [["none.json", "-o", "x.md"], ["session.json", "-o", "nowhere/x.md"]])
def test_a_wrong_file_is_a_sentence(tmp_path, monkeypatch, words):
    monkeypatch.chdir(tmp_path)
    run = CliRunner().invoke(app, ["recall", *words])

    assert isinstance(run.exception, InputError) and not list(tmp_path.iterdir())
