"""Many takes at once: called as a person calls it, with real worker processes where those are what matters."""

import csv
import json
import os
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile

from reins.core.processors import PROCESSORS
from reins.services.batch import running
from reins.services.batch.record import NAME, Record
from reins.services.batch.running import Asked, run_batch
from reins.services.batch.tasks import FAILED, HELD, KEPT, hold
from reins.services.processing import measure_file
from tests.browser.driving import wait_until
from tests.conftest import RATE
from tests.test_cli import reins

CHAIN = {"format": "reins-chain", "version": 1, "processors": [
    {"type": "compressor", "settings": {"threshold_db": -30, "ratio": 4, "attack_ms": 5}},
    {"type": "limiter", "settings": {"ceiling_db": -6}},
]}  # fmt: skip
NAMES = ["one.wav", "more/two.wav", "more/three.flac"]


def bursts(seconds=1.0, seed=1, channels=1):
    rng = np.random.default_rng(seed)
    frames = round(seconds * RATE)
    return (
        0.3 * rng.standard_normal((frames, channels)) * np.repeat(rng.random(-(-frames // 4800)), 4800)[:frames, None]
    )


@pytest.fixture
def takes(tmp_path, monkeypatch):
    for seed, name in enumerate(NAMES):
        path = tmp_path / "in" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        soundfile.write(path, bursts(seed=seed, channels=1 + seed % 2), RATE, subtype="PCM_24")
    (tmp_path / "chain.json").write_text(json.dumps(CHAIN))
    monkeypatch.chdir(tmp_path)
    return tmp_path


@pytest.fixture
def here(monkeypatch):
    """Tasks are done in this process: to start others takes longer than a test has."""

    def held_here(tasks, workers, check):
        for task in tasks:
            yield hold(task)

    monkeypatch.setattr(running, "held_here", held_here)


def batch(folder, *more):
    return reins("batch", "in", "-o", "out", "--chain", "chain.json", "--report", "rows.json", *more, cwd=folder)


def rows_of(folder):
    return json.loads((folder / "rows.json").read_text())["files"]


def outputs(folder):
    return sorted(str(p.relative_to(folder / "out")) for p in (folder / "out").rglob("*") if p.is_file())


def test_each_file_is_held_as_process_holds_it_and_keeps_name_and_place(takes, here):
    done = batch(takes)

    assert (done.returncode, done.stdout) == (0, "3 files: 3 held.\n")
    assert outputs(takes) == [NAME, "more/three.wav", "more/two.wav", "one.wav"]
    for row, name in zip(rows_of(takes), ["more/three", "more/two", "one"], strict=True):
        source = next((takes / "in").glob(f"{name}.*"))
        reins("process", source, "-o", "alone.wav", "--chain", "chain.json", cwd=takes)
        made, _ = soundfile.read(takes / "out" / f"{name}.wav", always_2d=True)
        np.testing.assert_array_equal(made, soundfile.read(takes / "alone.wav", always_2d=True)[0])
        assert (row["done"], row["problem"], row["seconds"]) == (HELD, None, 1.0)
        before, after = measure_file(source), measure_file(takes / "out" / f"{name}.wav")
        for told, measured in (("lufs", "integrated_lufs"), ("true_peak", "true_peak_dbtp"), ("crest", "crest_db")):
            unit = {"lufs": "", "true_peak": "_dbtp", "crest": "_db"}[told]
            assert row[f"{told}_before{unit}"] == pytest.approx(before[measured], abs=1e-6)
            assert row[f"{told}_after{unit}"] == pytest.approx(after[measured], abs=1e-2)
        assert row["deepest_db"] <= row["usual_db"] < -0.5 and 0 < row["held_pct"] <= 100


def test_what_is_there_is_not_done_again_unless_it_is_made_of_something_else(takes, here):
    batch(takes)
    was = rows_of(takes)
    first = {name: (takes / "out" / name).stat().st_mtime_ns for name in outputs(takes)}

    assert batch(takes).stdout == "3 files: 3 there already.\n"
    assert [row | {"done": HELD, "took_s": 0} for row in rows_of(takes)] == [row | {"took_s": 0} for row in was]
    assert {name: (takes / "out" / name).stat().st_mtime_ns for name in outputs(takes)} == first

    soundfile.write(takes / "in" / "one.wav", bursts(seed=9), RATE)
    (takes / "out" / "more" / "two.wav").unlink()
    batch(takes)
    assert [row["done"] for row in rows_of(takes)] == [KEPT, HELD, HELD]
    assert batch(takes, "--bits", "16").stdout == "3 files: 3 held.\n"
    assert batch(takes, "--bits", "16", "--again").stdout == "3 files: 3 held.\n"
    (takes / "chain.json").write_text(json.dumps(CHAIN).replace("-30", "-31"))
    assert batch(takes, "--bits", "16").stdout == "3 files: 3 held.\n"


def test_an_output_that_is_not_what_was_written_is_made_again(takes, here):
    batch(takes)
    good = (takes / "out" / "one.wav").read_bytes()
    for damaged in (b"", good[:2000], good[:-4] + b"\x00\x01\x02\x03"):
        (takes / "out" / "one.wav").write_bytes(damaged)

        assert batch(takes).stdout == "3 files: 2 there already, 1 held.\n"

        assert (takes / "out" / "one.wav").read_bytes() == good


def test_a_name_that_is_not_utf_8_is_held_noted_and_told(takes, here):
    odd = takes / "in" / os.fsdecode(b"caf\xe9.wav")
    soundfile.write(os.fsencode(odd), bursts(), RATE, format="WAV")

    done = batch(takes)

    assert done.returncode == 0 and (takes / "out" / odd.name).is_file()
    assert "in/caf?.wav" in [row["file"] for row in rows_of(takes)]
    assert batch(takes).stdout == "4 files: 4 there already.\n"


def test_no_text_of_a_report_is_run_by_a_table_program(takes, here):
    for name in ("=1+1.wav", "@sum.wav", "-1.wav"):
        soundfile.write(takes / name, bursts(), RATE)
    (takes / "chain.json").write_text(json.dumps(CHAIN))

    done = reins(
        "batch", "--chain", "chain.json", "-o", "out", "--report", "rows.csv", "--", "=1+1.wav", "@sum.wav", "-1.wav",
        cwd=takes,
    )  # fmt: skip

    assert done.returncode == 0, done.stderr
    with (takes / "rows.csv").open() as file:
        rows = list(csv.DictReader(file))
    assert [row["file"] for row in rows] == ["'=1+1.wav", "'@sum.wav", "'-1.wav"]
    assert all(float(row["deepest_db"]) < 0 for row in rows)  # a number stays one


def test_a_record_with_lines_that_are_none_is_read_as_far_as_it_can_be(takes, here):
    batch(takes)
    record = takes / "out" / NAME
    lines = ['{"output": 5, "file": [], "done": null}', "[]", '{"output": "x"}', "\\xff", record.read_text()]
    record.write_text("\n".join(lines))

    assert batch(takes).stdout == "3 files: 3 there already.\n"


def test_a_folder_within_which_it_writes_is_no_source_of_itself(takes, here):
    given = ["batch", ".", "-o", "held", "--chain", "chain.json"]

    assert [reins(*given, cwd=takes).stdout for _ in range(2)] == ["3 files: 3 held.\n", "3 files: 3 there already.\n"]
    assert not (takes / "held" / "held").exists()


def test_a_name_as_long_as_a_name_may_be_is_written(takes, here):
    name = "a" * 240 + ".wav"
    soundfile.write(takes / "in" / name, bursts(), RATE)

    assert batch(takes).returncode == 0
    assert (takes / "out" / name).is_file()


def test_a_file_that_fails_is_told_and_the_others_go_on(takes, here):
    (takes / "in" / "bad.wav").write_text("no sound at all")

    done = batch(takes)

    assert (done.returncode, done.stdout) == (1, "4 files: 1 failed, 3 held.\n")
    assert done.stderr.startswith("in/bad.wav: ")
    failed, *others = rows_of(takes)
    assert failed["file"] == "in/bad.wav" and failed["problem"] in done.stderr and failed["lufs_before"] is None
    assert {row["done"] for row in others} == {HELD}
    assert not list((takes / "out").rglob("bad*"))


def test_with_an_aim_each_file_has_settings_of_its_own_beside_it(takes, here):
    done = reins(
        "batch", "in/one.wav", "in/more/two.wav", "-o", "out", "--aim", "hits", "--by", "5", "--report", "rows.csv",
        cwd=takes,
    )  # fmt: skip

    assert done.returncode == 0, done.stderr
    with (takes / "rows.csv").open() as file:
        rows = list(csv.DictReader(file))
    chains = [json.loads(Path(row["chain_file"]).read_text()) for row in rows]
    assert [row["chain_file"] for row in rows] == ["out/one.chain.json", "out/two.chain.json"]
    assert chains[0]["processors"][0]["settings"] != chains[1]["processors"][0]["settings"]
    for row, name in zip(rows, ["one", "more/two"], strict=True):
        alone = reins("aim", "hits", f"in/{name}.wav", "--by", "5", cwd=takes)
        assert row["reason"] == alone.stdout.strip() and float(row["deepest_db"]) < -3


def test_every_type_holds_a_take_of_one_channel_and_is_told(takes, here):
    chain = {"format": "reins-chain", "version": 1, "processors": [{"type": kind} for kind in PROCESSORS]}
    (takes / "chain.json").write_text(json.dumps(chain))

    done = reins("batch", "in/one.wav", "-o", "out", "--chain", "chain.json", "--report", "rows.json", cwd=takes)

    assert done.returncode == 0, done.stderr
    assert soundfile.info(takes / "out" / "one.wav").frames == RATE and rows_of(takes)[0]["lufs_after"] is not None


def test_aims_follow_each_other(takes, here):
    done = reins(
        "batch", "in/one.wav", "-o", "out", "--aim", "bands", "--by", "3", "--aim", "hits", "--by", "4", cwd=takes
    )

    assert done.returncode == 0, done.stderr
    chain = json.loads((takes / "out" / "one.chain.json").read_text())
    assert [entry["type"] for entry in chain["processors"]] == ["multiband", "compressor"]


def test_each_file_finds_its_own_key(takes, here):
    chain = {"format": "reins-chain", "version": 1, "processors": [
        {"type": "ducker", "settings": {"threshold_db": -60, "amount_db": 20, "key": {"source": "voice"}}},
    ]}  # fmt: skip
    (takes / "duck.json").write_text(json.dumps(chain))
    (takes / "keys").mkdir()
    soundfile.write(takes / "keys" / "one voice.wav", bursts(seed=5), RATE)
    given = ["in/one.wav", "-o", "out", "--chain", "duck.json", "--key-from"]

    found = reins("batch", *given, str(takes / "keys" / "{stem} voice.wav"), cwd=takes)
    missing = reins("batch", *given, "voice={folder}/{stem} gone.wav", cwd=takes)
    wrong = reins("batch", *given, "{take}.wav", cwd=takes)

    assert found.returncode == 0, found.stderr
    made = soundfile.read(takes / "out" / "one.wav")[0]
    assert np.abs(made).mean() < 0.5 * np.abs(soundfile.read(takes / "in" / "one.wav")[0]).mean()
    assert missing.returncode == 1 and "one gone.wav: cannot be opened" in missing.stderr
    assert wrong.returncode == 2 and "{folder}, {stem} and {name}" in wrong.stderr


@pytest.mark.parametrize(
    ("given", "says"),
    [
        (["in", "-o", "out"], "Give either --chain or --aim"),
        (["in", "-o", "out", "--chain", "chain.json", "--aim", "hits"], "Give either --chain or --aim"),
        (
            ["gone", "-o", "out", "--chain", "chain.json"],
            "gone: there is no such file or folder; give one that is there.",
        ),
        (["empty", "-o", "out", "--chain", "chain.json"], "empty: there is no sound in this folder"),
        (["in", "-o", "in", "--chain", "chain.json"], "that is what is read (in/"),
        (["in", "in/one.wav", "-o", "out", "--chain", "chain.json"], "would both become out/one.wav"),
        (["in", "-o", "out", "--aim", "loud"], "There is no aim “loud”"),
        (["in", "-o", "out", "--aim", "hits", "--by", "400"], "“hits” is asked for by 400 dB; allowed: "),
        (["in", "-o", "out", "--aim", "hits", "--by", "4", "--by", "5"], "--by is given 2 times; allowed: 1 times"),
        (["in", "-o", "out", "--chain", "gone.json"], "gone.json: cannot be opened"),
        (["in", "-o", "out", "--chain", "chain.json", "--bits", "20"], "bits 20: "),
        (["in", "-o", "out", "--chain", "chain.json", "--workers", "0"], "--workers is 0; allowed: 1 to 256."),
        (
            ["in", "-o", "out", "--chain", "chain.json", "--report", "rows.txt"],
            "allowed: one that ends in .csv or .json.",
        ),
        (["in", "-o", "out", "--chain", "chain.json", "--key-from", "x.wav"], "nothing listens to a key"),
        (["in", "-o", "out", "--chain", "chain.json", "--on", " "], "--on is empty; allowed: the address"),
        (["in", "-o", "in/one.wav/x", "--chain", "chain.json"], "the folder cannot be made there"),
    ],
)
def test_what_is_given_wrongly_is_told_in_a_line_and_nothing_is_written(takes, here, given, says):
    (takes / "empty").mkdir()

    done = reins("batch", *given, cwd=takes)

    assert done.returncode == 2 and says in done.stderr and done.stderr.count("\n") == 1
    assert not list(takes.rglob("*.json*"))[1:] and not list((takes / "out").rglob("*.wav"))


def test_a_batch_that_was_cut_off_goes_on_where_it_was(takes, here):
    def stop(row, progress):
        raise KeyboardInterrupt

    asked = Asked((takes / "in",), takes / "out", chain=takes / "chain.json", report=takes / "rows.json")
    with pytest.raises(KeyboardInterrupt):
        run_batch(asked, stop)
    assert [row["done"] for row in rows_of(takes)] == [HELD]
    record = takes / "out" / NAME
    record.write_text(record.read_text() + '{"output": "more/two.wav", "file": "x", "done": "he')  # killed while noting
    gone = takes / "out" / f".two.wav.{os.uname().nodename}.999999999.partial"
    others = takes / "out" / ".two.wav.elsewhere.1.partial"
    for left in (gone, others):
        left.write_text("half a file")

    run_batch(asked)

    assert [row["done"] for row in rows_of(takes)] == [KEPT, HELD, HELD]
    assert not gone.exists() and others.exists()
    assert set(Record(takes / "out").rows) == {"more/three.wav", "more/two.wav", "one.wav"}


def many(folder, count, seconds=4.0):
    (folder / "many").mkdir()
    for seed in range(count):
        soundfile.write(folder / "many" / f"{seed}.wav", bursts(seconds, seed), RATE)
    return Asked((folder / "many",), folder / "out", chain=folder / "chain.json", workers=2)


def kills_the_first():
    """What is told of a batch's rows, and kills the worker of the first."""
    killed = []

    def seen(row, progress):
        if not killed:
            killed.append(int(row.worker.rpartition(":")[2]))
            os.kill(killed[0], signal.SIGKILL)

    return seen, killed


def check_all_held(rows, folder, killed):
    assert [row.problem for row in rows] == [None] * len(rows) and {row.done for row in rows} == {HELD}
    assert {int(row.worker.rpartition(":")[2]) for row in rows} - set(killed)
    assert len(list((folder / "out").glob("*.wav"))) == len(rows)


def test_a_worker_that_is_killed_loses_no_file(takes):
    seen, killed = kills_the_first()

    rows = run_batch(many(takes, 3, seconds=1.0), seen)

    check_all_held(rows, takes, killed)
    assert not list((takes / "out").glob(".*.partial"))


@pytest.mark.soak
def test_a_file_that_takes_its_worker_with_it_each_time_is_given_up(takes, monkeypatch):
    from reins.services.batch import workers

    monkeypatch.setattr(workers, "hold", end_of_process)
    asked = Asked((takes / "in" / "one.wav",), takes / "out", chain=takes / "chain.json", workers=1)

    (row,) = run_batch(asked)

    assert row.done == FAILED and "its worker stopped three times" in row.problem


@pytest.mark.soak
def test_workers_end_with_a_batch_that_is_killed_and_the_next_one_goes_on(takes):
    asked = many(takes, 8)
    command = [
        sys.executable,
        "-m",
        "reins.cli",
        "batch",
        "many",
        "-o",
        "out",
        "--chain",
        "chain.json",
        "--workers",
        "2",
    ]
    killed = subprocess.Popen(command, cwd=takes)
    wait_until(lambda: (takes / "out" / NAME).exists())
    known = (takes / "out" / NAME).read_text().splitlines()
    workers = {int(json.loads(line)["worker"].rpartition(":")[2]) for line in known}

    killed.kill()
    killed.wait()

    wait_until(lambda: not any(Path(f"/proc/{pid}").exists() for pid in workers))
    done = [row.done for row in run_batch(asked)]
    assert done.count(KEPT) >= len(known) and set(done) <= {KEPT, HELD}


def end_of_process(task):
    os._exit(1)


@pytest.mark.soak
@pytest.mark.filterwarnings("default")
def test_on_a_cluster_a_worker_that_is_killed_loses_no_file(takes):
    distributed = pytest.importorskip("distributed")
    seen, killed = kills_the_first()
    with distributed.LocalCluster(2, threads_per_worker=1, processes=True, dashboard_address=None) as cluster:
        asked = many(takes, 6)

        rows = run_batch(Asked(asked.files, asked.folder, chain=asked.chain, on=cluster.scheduler_address), seen)

    check_all_held(rows, takes, killed)


def test_a_scheduler_that_vanishes_is_told_in_a_sentence_for_each_file(takes, monkeypatch):
    distributed = pytest.importorskip("distributed")
    from reins.services.batch import workers

    class Vanishing:
        """A client whose scheduler goes after the first file."""

        def map(self, work, tasks, **how):
            return [Future(work, task, "finished" if k == 0 else "cancelled") for k, task in enumerate(tasks)]

        def close(self):
            pass

    class Future:
        def __init__(self, work, task, status):
            self.key, self.status, self.result = task.source, status, lambda: work(task)

        def release(self):
            pass

    monkeypatch.setattr(workers, "_client", lambda address: Vanishing())
    monkeypatch.setattr(distributed, "as_completed", iter)

    done = batch(takes, "--on", "tcp://127.0.0.1:9")

    assert (done.returncode, done.stdout) == (1, "3 files: 1 held, 2 failed.\n")
    assert done.stderr.count("the scheduler at tcp://127.0.0.1:9 is no more") == done.stderr.count("\n") == 2
    assert "None" not in done.stderr and "Traceback" not in done.stderr


def test_a_scheduler_that_does_not_answer_is_told(takes, monkeypatch):
    distributed = pytest.importorskip("distributed")

    def refuses(address, timeout):
        raise OSError("Timed out")

    monkeypatch.setattr(distributed, "Client", refuses)

    done = batch(takes, "--on", "tcp://127.0.0.1:9")

    assert done.returncode == 2 and done.stderr == (
        "--on is “tcp://127.0.0.1:9”: no scheduler answers there; allowed: tcp://host:8786.\n"
    )
