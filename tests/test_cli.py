"""The command line, called as a person calls it."""

import contextlib
import importlib.metadata
import io
import json
import re
import socket
import subprocess
import sys
from types import SimpleNamespace

import numpy as np
import pytest
import soundfile

from reins import cli
from reins.core.chainfile import parse_chain
from reins.core.engine.chain import Chain
from reins.core.processors import PROCESSORS
from reins.errors import SettingsError
from reins.services.house import House
from tests.browser.driving import free_port
from tests.conftest import RATE
from tests.core.test_compressor import db


def reins(*arguments, cwd):
    """Run the command line here, in a folder; as a process it would load numba anew each time."""
    out, problem = io.StringIO(), io.StringIO()
    with (
        contextlib.chdir(cwd),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(problem),
        pytest.MonkeyPatch.context() as patch,
        pytest.raises(SystemExit) as left,
    ):
        patch.setattr(sys, "argv", ["reins", *map(str, arguments)])
        cli.main()
    return SimpleNamespace(returncode=left.value.code, stdout=out.getvalue(), stderr=problem.getvalue())


def test_it_runs_as_a_process_of_its_own(folder):
    done = subprocess.run(
        [sys.executable, "-m", "reins.cli", "measure", "gone.wav"], cwd=folder, capture_output=True, text=True
    )

    assert (done.returncode, done.stdout) == (2, "")
    assert (
        done.stderr
        == "gone.wav: cannot be opened (No such file or directory); give a file that is there and may be read.\n"
    )


@pytest.fixture
def folder(tmp_path):
    soundfile.write(tmp_path / "in.wav", np.full((RATE, 2), 10 ** (-24 / 20)), RATE, subtype="FLOAT")
    write_chain(tmp_path, threshold_db=-28, ratio=4, knee_db=0, lookahead_ms=2)
    return tmp_path


def write_chain(folder, kind="compressor", **settings):
    chain = {"format": "reins-chain", "version": 1, "processors": [{"type": kind, "settings": settings}]}
    (folder / "chain.json").write_text(json.dumps(chain))


def test_process_holds_a_file_and_traces_its_gain(folder):
    done = reins(
        "process", "in.wav", "-o", "out.wav", "--chain", "chain.json", "--bits", "32f", "--trace", "t.csv", cwd=folder
    )

    held, rate = soundfile.read(folder / "out.wav")
    rows = (folder / "t.csv").read_text().splitlines()
    assert (done.returncode, done.stderr, rate, held.shape) == (0, "", RATE, (RATE, 2))
    assert db(held[40000, 0]) == pytest.approx(-27, abs=1e-5)
    assert rows[0] == "time_s,0_compressor.gain_db"
    assert len(rows) == 1001
    assert rows[801] == "0.800,-3.000000"
    # Lookahead is taken out: at 10 ms (the attack) of the source the detector is 12 ms in.
    assert float(rows[11].split(",")[1]) == pytest.approx(-3 * (1 - np.exp(-1.2)), abs=0.01)


@pytest.mark.parametrize("block", [1, 1000, 65536])
def test_block_size_makes_no_difference(folder, block):
    short = np.random.default_rng(1).standard_normal((4000, 2)) * 0.3
    soundfile.write(folder / "in.wav", short, RATE, subtype="DOUBLE")
    reins("process", "in.wav", "-o", "one.wav", "--chain", "chain.json", "--bits", "32f", cwd=folder)
    reins("process", "in.wav", "-o", "two.wav", "--chain", "chain.json", "--bits", "32f", "--block", block, cwd=folder)

    one, two = (soundfile.read(folder / name, dtype="float32")[0] for name in ("one.wav", "two.wav"))
    np.testing.assert_array_equal(one, two)


def test_a_key_at_another_rate_that_ends_early_drives_the_hold(folder):
    soundfile.write(folder / "key.wav", np.full(22050, 10 ** (-8 / 20)), 44100, subtype="FLOAT")
    write_chain(folder, threshold_db=-28, ratio=100, knee_db=0, attack_ms=0, release_ms=1, key={"source": "voice"})

    done = reins("process", "in.wav", "-o", "out.flac", "--chain", "chain.json", "--key", "voice=key.wav", cwd=folder)

    held, _ = soundfile.read(folder / "out.flac")
    assert done.returncode == 0
    assert db(held[12000, 0]) == pytest.approx(-44, abs=0.01)
    assert db(held[40000, 0]) == pytest.approx(-24, abs=0.01)


def test_a_chain_follows_the_hits_of_its_file_and_of_a_key(folder):
    """Down from so many ms before each stroke on, though nothing sounds there yet."""
    t = np.arange(RATE) / RATE
    drum = sum(0.5 * np.exp(-np.maximum(t - at, 0) / 0.02) * (t >= at) for at in (0.3, 0.7))
    drum *= np.random.default_rng(2).standard_normal(RATE).clip(-1, 1)
    soundfile.write(folder / "drum.wav", drum, RATE, subtype="PCM_24")
    settings = {"threshold_db": -40, "ratio": 100, "knee_db": 0, "attack_ms": 0, "release_ms": 5}
    for source, given, name in (("drum/hits:20", ["--key", "drum=drum.wav"], "in.wav"), ("hits:20", [], "drum.wav")):
        write_chain(folder, **settings, key={"source": source})
        done = reins("process", name, "-o", "out.wav", "--chain", "chain.json", *given, "--trace", "t.csv", cwd=folder)

        assert done.returncode == 0, done.stderr
        gain = np.loadtxt(folder / "t.csv", delimiter=",", skiprows=1)[:, 1]
        down = np.flatnonzero((gain[1:] < -6) & (gain[:-1] >= -6)) + 1
        np.testing.assert_allclose(down, [280, 680], atol=3)
    write_chain(folder, key={"source": "drum/hits"})
    refused = reins("process", "in.wav", "-o", "no.wav", "--chain", "chain.json", cwd=folder)
    assert refused.returncode == 2 and "“drum” is not given; keys given: none." in refused.stderr
    assert not (folder / "no.wav").exists()


def test_measure_prints_what_is_documented(folder):
    soundfile.write(folder / "none.wav", np.zeros((RATE, 1)), RATE)

    out = json.loads(reins("measure", "in.wav", "none.wav", "--json", cwd=folder).stdout)["files"]

    assert list(out[0]) == [
        "file", "sample_rate_hz", "channels", "frames", "integrated_lufs", "range_lu", "true_peak_dbtp",
        "sample_peak_dbfs", "rms_db", "crest_db",
    ]  # fmt: skip
    assert out[0]["rms_db"] == pytest.approx(-24, abs=1e-4)
    assert out[0]["crest_db"] == pytest.approx(0, abs=1e-6)
    assert [out[1][k] for k in ("integrated_lufs", "range_lu", "crest_db")] == [None] * 3
    assert [out[1][k] for k in ("true_peak_dbtp", "sample_peak_dbfs", "rms_db")] == [-120.0] * 3


def test_bench_prints_what_is_documented(folder):
    rows = json.loads(reins("bench", "--json", "--seconds", "0.2", cwd=folder).stdout)["processors"]

    row = rows[0]
    told = [r["type"] for r in rows]
    assert [name for name in told if "," not in name] == list(PROCESSORS)
    assert {name for name in told if "," in name} == {
        f"{kind}, colour on" for kind in ("fet", "optical", "variable_mu", "three_speed")
    } | {f"curve, at once, {times} times the rate" for times in (4, 16)}
    assert list(row) == ["type", "ns_per_stereo_frame", "times_real_time"]
    assert row["times_real_time"] == pytest.approx(1e9 / RATE / row["ns_per_stereo_frame"])


@pytest.mark.parametrize(
    ("arguments", "sentence"),
    [
        ("process in.wav -o out.wav --chain chain.json --bits 12", "bits 12: 16, 24, 32f are allowed"),
        ("process in.wav -o none/out.wav --chain chain.json", "folder none does not exist"),
        ("process in.wav -o out.wav --chain in.wav", "a chain file is JSON"),
        ("process chain.json -o out.wav --chain chain.json", "chain.json: this is not audio"),
        ("process gone.wav -o out.wav --chain chain.json", "gone.wav: cannot be opened"),
        ("process in.wav -o out.wav --chain chain.json --block 0", "--block is 0; allowed: 1 to"),
        ("process in.wav -o out.wav --chain chain.json --key nothing", "NAME=FILE"),
        ("process in.wav -o out.wav --chain chain.json --trace none/t.csv", "folder none does not exist"),
        ("process in.wav -o out.wav --chain chain.json --format mp3", "wav or flac is allowed"),
        ("process in.wav --wrong", "No such option"),
        ("measure", "Missing argument"),
        ("serve --port 0", "'--port': Input should be greater"),
    ],
)
def test_wrong_use_is_one_line_and_exit_2_and_loses_nothing(folder, arguments, sentence):
    (folder / "out.wav").write_bytes(b"precious")

    done = reins(*arguments.split(), cwd=folder)

    assert done.returncode == 2
    assert sentence in done.stderr
    assert len(done.stderr.strip().splitlines()) == 1
    assert (folder / "out.wav").read_bytes() == b"precious"
    assert sorted(p.name for p in folder.iterdir()) == ["chain.json", "in.wav", "out.wav"]


@pytest.mark.parametrize(
    ("chain", "sentence"),
    [
        ("[]", "must be an object with format"),
        ("{", "line 1 is not JSON"),
        ('{"format": "other", "version": 1}', "format is \"other\"; allowed: 'reins-chain'"),
        ('{"format": "reins-chain", "version": 9}', "version is 9; allowed: 1"),
    ],
)
def test_a_wrong_chain_file_is_refused(folder, chain, sentence):
    (folder / "chain.json").write_text(chain)

    done = reins("process", "in.wav", "-o", "out.wav", "--chain", "chain.json", cwd=folder)

    assert done.returncode == 2
    assert sentence in done.stderr
    assert not (folder / "out.wav").exists()


@pytest.mark.parametrize(
    ("processor", "sentence"),
    [
        ("7", "processor 0: it is 7; allowed: an object"),
        ('{"type": "hum"}', "no processor type “hum”"),
        ('{"type": "compressor", "on": "yes"}', 'on is "yes"'),
        ('{"type": "compressor", "settings": {"rato": 2}}', "no setting “rato”; allowed: threshold_db"),
        ('{"type": "compressor", "settings": {"ratio": NaN}}', "ratio is NaN; allowed: a number from 1 to 100"),
        (
            '{"type": "compressor", "settings": {"key": {"gain_db": 99}}}',
            "key.gain_db is 99; allowed: a number from -24",
        ),
        ('{"type": "compressor", "settings": {"key": {"source": "kick"}}}', "key.source “kick” is not given"),
    ],
)
def test_a_wrong_processor_names_place_setting_and_limits(processor, sentence):
    document = f'{{"format": "reins-chain", "version": 1, "processors": [{processor}]}}'

    with pytest.raises(SettingsError, match=re.escape(sentence)):
        Chain(parse_chain(document, "chain.json").entries, channels=1, sample_rate=RATE)


@pytest.mark.parametrize(
    ("arguments", "sentence"),
    [
        (["gone.json", "-o", "."], "gone.json: cannot be opened (No such file or directory)"),
        (["session.json", "-o", "nowhere"], "nowhere: this folder does not exist; make it first."),
        (["session.json", "-o", ".", "--rate", "5"], "rate is 5; allowed: 8000 to 384000 Hz"),
        (["session.json", "-o", ".", "--format", "mp3"], "format mp3: wav or flac is allowed"),
        (["session.json", "-o", "."], "session.json: in.mp3 is not there"),
        (["chain.json", "-o", "."], "chain.json: format is"),
    ],
)
def test_a_wrong_render_is_one_line_and_leaves_nothing(folder, arguments, sentence):
    session = {
        "format": "reins-session", "version": 1, "takes": {"a": {"name": "A", "file": "in.mp3"}},
        "session": {"name": "x", "tracks": {"t": {"name": "A", "take_id": "a"}}, "order": ["t"]},
    }  # fmt: skip
    if "mp3" in arguments:
        session["takes"]["a"]["file"] = "in.wav"
    (folder / "session.json").write_text(json.dumps(session))
    before = sorted(p.name for p in folder.iterdir())

    done = reins("render", *arguments, cwd=folder)

    assert (done.returncode, done.stdout) == (2, "")
    assert sentence in done.stderr
    assert done.stderr.count("\n") == 1
    assert sorted(p.name for p in folder.iterdir()) == before


def test_render_takes_a_session_written_by_hand(folder):
    chain = [{"type": "compressor", "settings": {"threshold_db": -28, "ratio": 4, "knee_db": 0, "attack_ms": 0}}]
    session = {
        "format": "reins-session", "version": 1, "takes": {"a": {"name": "A", "file": "in.wav"}},
        "session": {
            "name": "x", "tracks": {"t": {"name": "A", "take_id": "a", "bus": "b"}}, "order": ["t"],
            "buses": {"b": {"name": "B", "chain": chain}}, "bus_order": ["b"],
        },
    }  # fmt: skip
    (folder / "session.json").write_text(json.dumps(session))

    done = reins("render", "session.json", "-o", ".", "--stems", "--mix", cwd=folder)

    mix, rate = soundfile.read(folder / "mix.wav")
    assert (done.returncode, done.stderr, rate) == (0, "", RATE)
    assert db(np.abs(mix[1000]).max()) == pytest.approx(-27, abs=0.01)  # common practice: -24 in, -28, 4:1
    np.testing.assert_array_equal(soundfile.read(folder / "stem_01_B.wav")[0], mix)


def test_the_trace_of_a_gate_tells_its_gain_and_nothing_else(folder):
    write_chain(folder, kind="gate", threshold_db=-40, range_db=30, attack_ms=0)

    done = reins("process", "in.wav", "-o", "out.wav", "--chain", "chain.json", "--trace", "t.csv", cwd=folder)

    rows = (folder / "t.csv").read_text().splitlines()
    assert done.returncode == 0
    assert rows[0] == "time_s,0_gate.gain_db"
    assert rows[500].split(",")[1] == "0.000000"


def test_bands_follow_their_own_keys_and_each_has_a_column_in_the_trace(folder):
    soundfile.write(folder / "kick.wav", np.zeros(RATE // 2), RATE)
    bands = [
        {"motion": "compress", "threshold_db": -60, "attack_ms": 0, "watch": "whole"},
        {"gain_db": 3},
        {"motion": "compress", "threshold_db": -60, "attack_ms": 0, "key": {"source": "kick"}},
    ]
    write_chain(folder, kind="dynamic_eq", bands=bands, rest={"on": True, "threshold_db": 0})

    command = "process in.wav -o out.wav --chain chain.json --trace t.csv --key kick=kick.wav"
    done = reins(*command.split(), cwd=folder)

    assert (done.returncode, done.stderr) == (0, "")
    head, *rows = (folder / "t.csv").read_text().splitlines()
    assert head.split(",")[1:] == [f"0_dynamic_eq.{name}.gain_db" for name in ("band1", "band3", "rest")]
    held, keyed = ([float(row.split(",")[column]) for row in rows] for column in (1, 2))
    assert min(held) == -12
    assert min(keyed) == 0  # the key is silent, and silent when it has ended

    missing = reins("process", "in.wav", "-o", "out2.wav", "--chain", "chain.json", cwd=folder)
    assert missing.returncode == 2
    assert "key.source “kick” is not given" in missing.stderr


def test_version_completion_and_a_chain_file_that_is_not_there(folder):
    told = reins("--version", cwd=folder)
    assert told.returncode == 0 and told.stdout.strip() == f"reins {importlib.metadata.version('reins')}"
    assert "--show-completion" in reins("--help", cwd=folder).stdout
    missing = reins("process", "in.wav", "-o", "o.wav", "--chain", "nowhere.json", cwd=folder)
    assert missing.returncode == 2 and "nowhere.json: cannot be opened (No such file" in missing.stderr


def test_measure_tells_files_apart_that_lie_deep(folder):
    names = []
    for which in ("first", "second"):
        deep = folder / ("a long way down " * 4) / ("further " * 6) / which
        deep.mkdir(parents=True)
        (deep / "Voice.wav").write_bytes((folder / "in.wav").read_bytes())
        names.append(deep / "Voice.wav")

    told = reins("measure", *names, cwd=folder)

    rows = [line for line in told.stdout.splitlines() if "Voice.wav" in line]
    assert len(rows) == 2 and "first/" in rows[0] and "second/" in rows[1]


@pytest.mark.parametrize(
    ("dither", "differs"), [([], True), (["--dither", "tpdf"], True), (["--dither", "none"], False)]
)
def test_dither_is_chosen_on_the_command_line(folder, dither, differs):
    quiet = 0.001 * np.sin(np.arange(RATE) / 7)
    soundfile.write(folder / "tone.wav", quiet, RATE, subtype="FLOAT")
    (folder / "plain.json").write_text('{"format": "reins-chain", "version": 1, "processors": []}')
    made = reins("process", "tone.wav", "-o", "o.wav", "--chain", "plain.json", "--bits", "16", *dither, cwd=folder)
    assert made.returncode == 0, made.stderr
    source = soundfile.read(folder / "tone.wav")[0]
    error = soundfile.read(folder / "o.wav", dtype="int16")[0] - source * 32768
    assert (np.abs(error).max() > 0.6) == ("none" not in dither)


def test_a_second_server_on_a_folder_or_a_port_ends_with_2_and_one_line(folder):
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        busy = reins("serve", "--data", folder / "d", "--port", taken.getsockname()[1], cwd=folder)
    assert busy.returncode == 2 and busy.stdout == "" and busy.stderr.count("\n") == 1
    house = House(folder / "d")
    second = reins("serve", "--data", folder / "d", "--port", free_port(), cwd=folder)
    house.close()
    assert second.returncode == 2 and second.stdout == "" and "in use by process" in second.stderr
