"""Long attacks and load, bounded to twenty minutes; prints what each found and how much it did. Run by `make soak`.

    kills       the server is killed while changes are kept and takes are brought in: nothing confirmed is lost
    api         every operation of /api/openapi.json with what fits it and what does not (schemathesis)
    files       audio and session files with random bytes turned: refused with a sentence, or read; never a crash
    outputs     commands whose outputs are what they read, by any name: refused, and all is as it was
    processors  every type, random settings, nasty sound, random blocks: finite, and block by block the same
    load        as many desks as play, with what they cost (benchmarks.desks)
    tests       those that are too long for `make test`: workers of batches killed, and what hangs on them
    leaks       the same work again and again: memory, open files and threads stay

REINS_SOAK scales the time (1 is twenty minutes); short seeded forms of all of these are in the tests.
"""

import os
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from tests.attacks import attack_file, attack_outputs, attack_processor, kill_and_look, work_once
from tests.browser.driving import Server

from benchmarks import desks
from reins.core.processors import PROCESSORS

SCALE = float(os.environ.get("REINS_SOAK", "1"))


def until(minutes, attempt):
    """Call attempt(number) for so long; how often it was called."""
    end, count = time.monotonic() + 60 * minutes * SCALE, 0
    while time.monotonic() < end:
        attempt(count)
        count += 1
    return count


def kills():
    with tempfile.TemporaryDirectory() as folder:
        server, rng, confirmed = Server(folder), random.Random(1), []
        count = until(4, lambda number: confirmed.append(kill_and_look(server, rng)))
        server.kill()
    return f"{count} kills, {sum(confirmed)} changes confirmed, none lost"


def api():
    environment = os.environ | {"REINS_FUZZ": str(max(4, round(400 * SCALE)))}
    command = [sys.executable, "-m", "pytest", "-q", "tests/web/test_api_schema.py"]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    if done.returncode:
        raise SystemExit(done.stdout)
    return f"{environment['REINS_FUZZ']} requests an operation, no undocumented status, no 500"


def files():
    with tempfile.TemporaryDirectory() as folder:
        taken = []
        count = until(3, lambda number: taken.append(attack_file(Path(folder), number)))
    return f"{count} files, {taken.count('read')} read, {taken.count('refused')} refused with a sentence"


def outputs():
    with tempfile.TemporaryDirectory() as folder:
        made = []
        count = until(2, lambda number: made.append(attack_outputs(Path(folder), number)))
    return f"{count} commands, {made.count('refused')} refused, {made.count('written')} written; none over what it read"


def processors():
    kinds = list(PROCESSORS)
    count = until(4, lambda number: attack_processor(kinds[number % len(kinds)], number))
    return f"{count} random settings, all finite and the same however they are cut"


def tests():
    command = [sys.executable, "-m", "pytest", "-q", "-m", "soak"]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        raise SystemExit(done.stdout)
    return done.stdout.strip().splitlines()[-1]


def leaks():
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        rows = []
        until(2, lambda number: rows.append(work_once(server)))
        server.kill()
    early, late = rows[len(rows) // 3], rows[-1]
    if late.memory_mib > early.memory_mib + 60 or late.files > early.files + 8 or late.threads > early.threads + 8:
        raise SystemExit(f"leaks: {early} became {late}")
    return f"{len(rows)} rounds: {early} became {late}"


def main():
    for attack in (kills, api, files, outputs, processors, tests, leaks):
        began = time.monotonic()
        print(f"{attack.__name__:12}{attack()}  ({time.monotonic() - began:.0f} s)", flush=True)
    desks.main()


if __name__ == "__main__":
    main()
