"""A big session: 64 tracks of five minutes, four processors each. Made, played in the browser, and measured.

`make bench-big`. Prints the underruns of a minute, memory, how soon sound starts again after a seek, and how long the
engine takes for a block. Needs 5 GB of disk for as long as it runs.
"""

import asyncio
import json
import shutil
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np
import websockets
from tests.browser.driving import Server, find, make_driver, settled, wait_for, wait_until

from reins.core.chainfile import parse_entry
from reins.core.engine.mixer import BLOCK_FRAMES, Mixer
from reins.core.sessions import Bus, Document, Track, new_id
from reins.core.time import Stream
from reins.services.bringing_in import new_takes
from reins.services.editing import document_of, keep_session
from reins.services.house import House

RATE, SECONDS, TRACKS = 48000, 300, 64
SETTINGS = [
    ("compressor", {"threshold_db": -30.0, "release_ms": 200.0}),
    ("compressor", {"threshold_db": -24.0, "auto_release": True, "rms_pct": 50.0}),
    ("compressor", {"threshold_db": -20.0, "lookahead_ms": 3.0, "key": {"low_cut_hz": 90.0}}),
    ("limiter", {"ceiling_db": -3.0}),
]
SEEKS = 40


def blocks(index, channels):
    """Five minutes of noise in bursts, one second at a time."""
    rng = np.random.default_rng(index)
    for _ in range(SECONDS):
        shape = np.repeat(rng.random(8) ** 2, RATE // 8)
        yield rng.standard_normal((channels, RATE)).clip(-4, 4) * 0.1 * shape


def make_session(data_dir):
    """Write the session; a quarter of its tracks is stereo, half of them go through a bus. Returns its id."""
    house = House(data_dir)
    with new_takes(house) as takes:
        tracks, rows = write_tracks(takes)
        takes.move_in()
        document = Document(
            name="A big session", sample_rate=RATE, tracks=tracks, order=list(tracks), buses={"half": Bus(name="Half")},
            bus_order=["half"],
        )  # fmt: skip
        session_id = keep_session(house, document, rows)
    engine = engine_ms(document_of(house, session_id), house)
    house.close()
    return session_id, engine


def write_tracks(takes):
    """The tracks with their chains, and the rows of their takes."""
    tracks, rows = {}, []
    for index in range(TRACKS):
        channels = 2 if index % 4 == 0 else 1
        sound = blocks(index, channels)
        take_id, facts = takes.write(sound, channels=channels, sample_rate=RATE, progress=lambda frames: None)
        rows.append((take_id, f"Take {index + 1}", facts))
        chain = [parse_entry({"type": kind, "id": new_id(), "settings": s}, "x") for kind, s in SETTINGS]
        tracks[new_id()] = Track(
            name=f"Take {index + 1}", take_id=take_id, chain=chain, fader_db=-12.0, bus="half" if index % 2 else ""
        )
    return tracks, rows


def engine_ms(document, house):
    """Milliseconds the engine takes for a block of 1024 frames, median of 200."""
    mixer = Mixer(document, house.takes(document))
    mixer.start(Stream(30 * RATE))
    spent = []
    for _ in range(200):
        began = time.perf_counter()
        mixer.process(BLOCK_FRAMES)
        spent.append(1000 * (time.perf_counter() - began))
    return statistics.median(spent)


async def seek_ms(server, session_id, pause_s):
    """Milliseconds from a seek sent to the first sound of the new place received, with a pause before each; and those
    from the first one, with which the desk's players are made.
    """
    url = f"ws://127.0.0.1:{server.port}/api/sessions/{session_id}/live"
    spent = []
    rng = np.random.default_rng(2)
    async with websockets.connect(url, origin=server.url, max_size=None) as socket:
        for frame in rng.integers(RATE * 5, RATE * (SECONDS - 5), SEEKS + 1):
            await asyncio.sleep(pause_s)
            began = time.perf_counter()
            await socket.send(json.dumps({"type": "seek", "frame": int(frame)}))
            started = False
            while True:
                message = await socket.recv()
                if isinstance(message, str):
                    started = started or json.loads(message)["type"] == "started"
                elif started:
                    break
            spent.append(1000 * (time.perf_counter() - began))
    return spent[1:], spent[0]


def memory_mb(server):
    """(resident, without pages of files) of the server in MB."""
    rows = dict(
        line.split(":", 1)
        for line in Path(f"/proc/{server.process.pid}/status").read_text().splitlines()
        if ":" in line
    )
    return tuple(int(rows[name].split()[0]) / 1000 for name in ("VmRSS", "RssAnon"))


def cores_time():
    """What the host has taken away of the cores' time since the machine started, and all of it."""
    values = [int(v) for v in Path("/proc/stat").read_text().splitlines()[0].split()[1:9]]
    return values[7], sum(values)


def stolen_pct(since):
    """Share of the cores' time taken away by the host since an earlier reading of it."""
    stolen, whole = (now - then for now, then in zip(cores_time(), since, strict=True))
    return 100 * stolen / max(1, whole)


def main():
    data_dir = Path(tempfile.mkdtemp(prefix="reins-big-"))
    began = time.perf_counter()
    session_id, engine = make_session(data_dir)
    print(
        f"made in {time.perf_counter() - began:.0f} s: {TRACKS} tracks of {SECONDS} s, {len(SETTINGS)} processors each"
    )
    print(f"engine, a block of 1024 frames (21.3 ms of sound): median {engine:.1f} ms")
    server = Server(data_dir)
    driver = make_driver()
    try:
        driver.get(f"{server.url}/sessions/{session_id}")
        wait_for(driver, ".take-canvas")
        settled(driver)
        before = cores_time()
        find(driver, '[data-do="play"]').click()
        wait_until(lambda: driver.execute_script("return reins.live.played > 48000"))
        begin = driver.execute_script("return reins.live.underruns")
        wait_until(lambda: driver.execute_script("return reins.live.played > 61 * 48000"), 120)
        underruns = driver.execute_script("return reins.live.underruns") - begin
        stolen = stolen_pct(before)
        resident, own = memory_mb(server)
        find(driver, '[data-do="play"]').click()
        print(
            f"a minute in the browser: {underruns} underruns (quanta of 128 frames), {stolen:.1f} % of the cores stolen"
        )
        print(f"memory after it: {resident:.0f} MB resident, {own:.0f} MB without pages of files (< 600 MB)")
        driver.get("about:blank")
        for pause_s in (1.0, 0.0):
            before = cores_time()
            spent, first = asyncio.run(seek_ms(server, session_id, pause_s))
            print(
                f"seek to first sound, {pause_s:g} s apart: median {statistics.median(spent):.0f} ms, "
                f"worst {max(spent):.0f} (< 150 ms), {stolen_pct(before):.1f} % of the cores stolen; "
                f"{first:.0f} with the desk's players made anew"
            )
    finally:
        driver.quit()
        server.kill()
        shutil.rmtree(data_dir, ignore_errors=True)


if __name__ == "__main__":
    main()
