"""Batches: how much faster two workers are than one, what a small file costs, memory for takes of an hour, what Dask
adds; and from these, on paper, what a thousand machines would do and what would hold them back.

`make bench-batch`. Needs 4 GB of disk for as long as it runs; some minutes.
"""

import json
import multiprocessing
import resource
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from dataclasses import asdict
from pathlib import Path

import numpy as np
import soundfile

from reins.services.batch.running import Asked, run_batch
from reins.services.batch.tasks import Row, Task, Wish, Written, hold

RATE = 48000
CHAIN = {"format": "reins-chain", "version": 1, "processors": [
    {"type": "compressor", "settings": {"threshold_db": -24}}, {"type": "deesser"}, {"type": "limiter"},
]}  # fmt: skip
SMALL, SMALL_FRAMES = 10000, 2400
MINUTES, TAKES = 2.0, 12
MACHINES, CORES = 1000, 16  # of the model
NETWORK_GB_S, STORAGE_GB_S = 1.2, 20.0  # of each machine, and of what all read from together: assumed


def speech(path: Path, minutes: float, seed: int = 0, channels: int = 2) -> None:
    """Noise in syllables, in pieces, so that an hour of it needs no memory."""
    rng = np.random.default_rng(seed)
    with soundfile.SoundFile(path, "w", RATE, channels, "PCM_24") as file:
        for _ in range(max(1, round(minutes * 6))):
            loud = np.repeat(rng.random(80) ** 2, RATE // 8)[:, None]
            file.write((0.2 * rng.standard_normal((RATE * 10, channels)) * loud).clip(-1.0, 1.0))


def timed(asked: Asked) -> tuple[float, list[Row], float]:
    """Seconds for a batch, its rows, and when the first of them came."""
    began, first = time.perf_counter(), []
    rows = run_batch(asked, lambda row, progress: first.append(time.perf_counter() - began))
    problems = [row.problem for row in rows if row.problem]
    assert not problems, problems[0]
    return time.perf_counter() - began, rows, first[0]


def held_and_memory(task: Task) -> tuple[Row, float]:
    return hold(task), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def cluster_cost(folder: Path, tasks: int) -> float:
    """Milliseconds that a scheduler and two workers of Dask take for a task with nothing to do."""
    from distributed import Client, LocalCluster

    with LocalCluster(2, threads_per_worker=1, dashboard_address=None) as cluster, Client(cluster) as client:
        client.gather(client.map(nothing, range(100), pure=False))
        given = [
            Task(f"{folder}/{k}.wav", f"{folder}/out/{k}.wav", json.dumps(CHAIN), str(folder)) for k in range(tasks)
        ]
        began = time.perf_counter()
        client.gather(client.map(nothing, given, pure=False, batch_size=1000))
        return (time.perf_counter() - began) / tasks * 1000.0


def nothing(task: Task) -> Task:
    return task


def run(folder: Path) -> dict[str, float]:
    found: dict[str, float] = {}
    chain = folder / "chain.json"
    chain.write_text(json.dumps(CHAIN))
    (folder / "takes").mkdir()
    for k in range(TAKES):
        speech(folder / "takes" / f"{k}.wav", MINUTES, k)
    asked = Asked((folder / "takes",), folder / "out", chain=chain, again=True)
    sound_s = TAKES * MINUTES * 60.0
    for workers in (1, 2):
        took, rows, _ = timed(Asked(**{**vars(asked), "workers": workers}))
        found[f"{workers} workers, times real time"] = sound_s / took
        found[f"{workers} workers, times real time once started"] = workers * sound_s / sum(row.took_s for row in rows)
    found["two workers over one"] = found["2 workers, times real time"] / found["1 workers, times real time"]

    (folder / "small").mkdir()
    rng = np.random.default_rng(1)
    for k in range(SMALL):
        sound = 0.2 * rng.standard_normal(SMALL_FRAMES)
        soundfile.write(folder / "small" / f"{k}.wav", sound, RATE, subtype="PCM_16")
    took, rows, first = timed(Asked((folder / "small",), folder / "out_small", chain=chain, workers=2))
    found["10,000 small files, first row after s"] = first
    found["10,000 small files, ms each"] = took / SMALL * 1000.0
    found["10,000 small files, ms of sound each, as fast as long ones"] = (
        SMALL_FRAMES / RATE / found["2 workers, times real time once started"] * 1000.0
    )
    took, _, _ = timed(Asked((folder / "small",), folder / "out_small", chain=chain, workers=2))
    found["10,000 small files there already, ms each"] = took / SMALL * 1000.0

    speech(folder / "hour.wav", 60.0)
    common = {"source": str(folder / "hour.wav"), "output": str(folder / "hour out.wav"), "folder": str(folder)}
    by_chain = Task(**common, chain=json.dumps(CHAIN), written=Written("flac"))
    by_aim = Task(**common, chain=None, wishes=(Wish("esses"),), written=Written("flac"))
    for name, task in (("chain", by_chain), ("aim", by_aim)):
        with ProcessPoolExecutor(1, multiprocessing.get_context("spawn")) as pool:
            row, megabytes = pool.submit(held_and_memory, task).result()
        assert row.problem is None, asdict(row)
        found[f"an hour by {name}, MB"], found[f"an hour by {name}, s"] = megabytes, row.took_s
    found["Dask, ms a task"] = cluster_cost(folder, 5000)
    return found


def model(found: dict[str, float]) -> list[str]:
    """What a thousand machines would do, from what was measured and what is assumed of network and storage."""
    per_core = found["2 workers, times real time once started"] / 2.0
    cores = MACHINES * CORES
    bytes_s = RATE * 2 * 3 * 2  # a second of stereo sound of 24 bits, read and written
    compute = per_core * cores
    network, storage = MACHINES * NETWORK_GB_S * 1e9 / bytes_s, STORAGE_GB_S * 1e9 / bytes_s
    lines = [
        f"by the cores: {compute:,.0f} times real time ({cores:,} cores of {per_core:.0f})",
        f"by each machine's network ({NETWORK_GB_S} GB/s): {network:,.0f}",
        f"by storage that gives {STORAGE_GB_S:.0f} GB/s in all: {storage:,.0f}",
    ]
    for seconds in (0.05, 10.0, 300.0, 3600.0):
        by_scheduler = seconds / (found["Dask, ms a task"] / 1000.0)
        lines.append(f"by one scheduler, for files of {seconds:g} s: {by_scheduler:,.0f}")
    return lines


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as place:
        figures = run(Path(place))
    for name, value in figures.items():
        print(f"{name}: {value:.2f}")
    print("\n".join(model(figures)))
