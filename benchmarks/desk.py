"""Measures what issue and architecture ask of the desk, on a server and a Chromium of its own; prints one table.

Run by `make bench-desk`. Takes about four minutes, one of them playing.
"""

import itertools
import json
import os
import statistics
import struct
import subprocess
import tempfile
import time
import urllib.request
from pathlib import Path

import numpy as np
import soundfile
from tests.browser.driving import DEMO, Server, find, make_driver, settled, wait_for
from tests.conftest import sound_of
from websockets.sync.client import connect

from reins.core.chainfile import parse_entry
from reins.core.changes import SetProcessor
from reins.core.engine.graph import only_retuned
from reins.core.engine.live import LiveClock
from reins.core.processors.making import prepare
from reins.core.sessions import Document, Track
from reins.services.processing import bench_processors

RATE = 48000


def call(server, path, body=None):
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(server.url + path, data, {"content-type": "application/json"})
    with urllib.request.urlopen(request) as answer:
        return json.load(answer)


def add_compressor(server, session, track_id, **settings):
    change = {"kind": "add_processor", "strip_id": track_id, "type": "compressor", "processor_id": "bench"}
    call(server, f"/api{session}/changes", change)
    if settings:
        change = {"kind": "set_processor", "strip_id": track_id, "processor_id": "bench", "settings": settings}
        call(server, f"/api{session}/changes", change)


def memory_mib(server):
    """(resident, of it not backed by files) of the server."""
    lines = Path(f"/proc/{server.process.pid}/status").read_text().splitlines()
    fields = dict(line.split(":", 1) for line in lines)
    return tuple(int(fields[name].split()[0]) / 1024 for name in ("VmRSS", "RssAnon"))


def write_take(path, minutes):
    """Stereo noise in bursts: nothing about it is easy to compress or to draw."""
    rng = np.random.default_rng(1)
    with soundfile.SoundFile(path, "w", RATE, 2, subtype="PCM_24") as file:
        for second in range(minutes * 60):
            swell = np.repeat(rng.random(8) ** 2, RATE // 8)[:, None]
            file.write(rng.standard_normal((RATE, 2)).clip(-3, 3) * 0.3 * swell * (0.3 + 0.7 * (second % 7) / 6))


def first_changed_sample_ms(server, track_id, tries=60):
    """From a setting sent on the socket to the first block made with it arriving, the listener playing in real time."""
    times = []
    with connect(server.url.replace("http", "ws") + f"/api{DEMO}/live", max_size=None) as socket:
        socket.send(json.dumps({"type": "watch", "strip_id": track_id}))
        socket.send(json.dumps({"type": "play", "frame": 0}))
        began, sent_at, up, stream = time.perf_counter(), None, False, 1
        next_try = began + 1.0
        while len(times) < tries:
            try:
                message = socket.recv(timeout=0.005)
            except TimeoutError:
                message = None
            now = time.perf_counter()
            if isinstance(message, bytes):
                stream = struct.unpack_from("<I", message)[0]
                socket.send(json.dumps({"type": "played", "stream": stream, "frames": int((now - began) * RATE)}))
            elif message and (told := json.loads(message))["type"] == "meters" and sent_at is not None:
                loud_in, loud_out = told["points"]["bench"]
                if (loud_out - loud_in > 5) == up:
                    times.append((now - sent_at) * 1000)
                    sent_at, next_try = None, now + 0.2
            elif message is None:
                socket.send(json.dumps({"type": "played", "stream": stream, "frames": int((now - began) * RATE)}))
            if sent_at is None and now > next_try:
                up = not up
                settings = {"makeup_db": 20.0 if up else 0.0, "threshold_db": 0.0, "knee_db": 0.0}
                command = {"type": "try", "strip_id": track_id, "processor_id": "bench", "settings": settings}
                socket.send(json.dumps(command))
                sent_at = time.perf_counter()
            if now - began > 36:
                socket.send(json.dumps({"type": "play", "frame": 0}))
                began, next_try = now, now + 1.0
    return times


DRAWN = """
const [setting, count, whole, done] = arguments;
const line = document.querySelector(`.bench [data-setting="${setting}"] .control-line`);
const times = [];
const { previews } = reins;
const draw = previews.draw;
let began = 0;
previews.draw = (answer) => {
  draw(answer);
  if (answer.whole !== whole || !began) return;
  requestAnimationFrame(() => { times.push(performance.now() - began); began = 0; });
};
const next = () => {
  if (times.length === count) { previews.draw = draw; done(times); return; }
  began = performance.now();
  line.dispatchEvent(new KeyboardEvent("keydown", { key: "ArrowDown", shiftKey: true, bubbles: true }));
  const wait = () => (began ? setTimeout(wait, 2) : previews.settled().then(() => setTimeout(next, 700)));
  wait();
};
previews.settled().then(next);
"""


def drawn_ms(driver, *, count, whole):
    """From a step of the threshold, to a value not seen before, to the frame that shows it."""
    driver.set_script_timeout(120)
    return driver.execute_async_script(DRAWN, "threshold_db", count, whole)


def play_underruns(driver, seconds):
    """(underruns, fewest and most frames held) while playing, the song looping."""
    driver.execute_script(
        """reins.held = [];
        reins.seen = setInterval(() => { if (reins.live.played > 9600) reins.held.push(reins.live.ahead); }, 20);
        document.querySelector('[data-do="play"]').click();"""
    )
    time.sleep(seconds)
    underruns, held = driver.execute_script("clearInterval(reins.seen); return [reins.live.underruns, reins.held]")
    driver.execute_script("document.querySelector('[data-do=\"play\"]').click()")
    return underruns, min(held), statistics.median(held), max(held)


def drag_step_us(kind, settings, name):
    """What one step of a drag costs the player, over ten tracks: taking the document over, the changed chain copied."""
    entry = parse_entry({"id": "p", "type": kind, "settings": settings}, kind)
    noise = sound_of(0.1 * np.random.default_rng(1).standard_normal((2, RATE * 30)))
    tracks = {f"t{k}": Track(name=f"T{k}", take_id="a", chain=[entry]) for k in range(10)}
    document = Document(name="x", sample_rate=RATE, tracks=tracks, order=list(tracks))
    clock, times = LiveClock(document, {"a": noise}), []
    clock.play(0)
    for step in range(200):
        change = SetProcessor(kind="set_processor", strip_id="t9", processor_id="p", settings={name: -20 - step / 100})
        before, document = document, change.tried(document)
        retuned = only_retuned(before, document)  # as the socket's thread does
        prepare(kind, document.tracks["t9"].chain[0].settings, RATE)
        began = time.perf_counter()
        clock.change(document, retuned)
        clock._mixer._take_over()
        clock._mixer.graph.players["t9"]._take_over()
        times.append((time.perf_counter() - began) * 1e6)
        for _ in range(2):  # until the fade is over
            clock.next_block()
            clock.played(clock.stream, clock._sent)
    return times


def start_ms(server):
    server.kill()
    began = time.perf_counter()
    server.start()
    return (time.perf_counter() - began) * 1000


def report(what, wanted, value):
    print(f"  {what:<60} {wanted:<14} {value}", flush=True)


def median(values):
    return f"{statistics.median(values):.0f} ms (worst {max(values):.0f} of {len(values)})"


def main():
    folder = Path(tempfile.mkdtemp(prefix="reins-bench-"))
    print(f"{os.cpu_count()} cores")
    wanted = {
        "compressor": 25,
        "gate": 30,
        "expander": 30,
        "ducker": 30,
        "deesser": 80,
        "dynamic_eq": 250,
        "multiband": 250,
    }
    for row in bench_processors():
        limit = f"<= {wanted[row['type']]} ns" if row["type"] in wanted else ""
        report(f"{row['type']}, a stereo frame, blocks of 1024", limit, f"{row['ns_per_stereo_frame']:.1f} ns")
    eight = {"bands": [{"motion": "compress", "freq_hz": 60.0 * 2**k} for k in range(8)]}
    for what, kind, settings, name in (
        ("a compressor", "compressor", {}, "threshold_db"), ("eight bands", "dynamic_eq", eight, "bands.3.gain_db")
    ):  # fmt: skip
        told = f"{statistics.median(drag_step_us(kind, settings, name)):.0f} us"
        report(f"a drag step of {what}, on the player's thread", "<= 100 us", told)
    began = time.perf_counter()
    server = Server(folder / "data")
    report("first start, kernels cached, demo made", "< 15 s", f"{time.perf_counter() - began:.1f} s")
    report("second start to first page", "< 3 s", f"{start_ms(server):.0f} ms")
    state = call(server, f"/api{DEMO}")
    tracks = state["document"]["order"]
    for track_id in tracks:
        add_compressor(server, DEMO, track_id, threshold_db=-30.0)
    report("setting sent to first changed sample sent", "< 60 ms", median(first_changed_sample_ms(server, tracks[-1])))
    whole = {"on": True, "start_frame": 0, "end_frame": state["frames"]}
    call(server, f"/api{DEMO}/changes", {"kind": "set_session", "loop": whole})
    driver = make_driver()
    driver.get(server.url + DEMO)
    wait_for(driver, ".take-canvas")
    settled(driver)
    underruns, fewest, usual, most = play_underruns(driver, 60)
    report("underruns in 60 s of ten tracks with ten compressors", "0", underruns)
    in_ms = " / ".join(f"{frames / 48:.0f}" for frames in (fewest, usual, most))
    report("ring buffer, fewest / usual / most", "about 150 ms", f"{in_ms} ms")
    tie_all(server, tracks)
    report("underruns in 60 s with ten keyed processors", "0", play_underruns(driver, 60)[0])
    spectra_cost(server, driver, tracks[0])
    page_cost(driver)
    long_takes(server, driver, folder)
    driver.quit()
    server.kill()


def tie_all(server, tracks):
    """Key every compressor by the track before it, and add a ducker at the end: ten keyed processors."""
    for key, held in itertools.pairwise(tracks):
        tie = {"kind": "set_processor", "strip_id": held, "processor_id": "bench"}
        tie["settings"] = {"key.source": f"{key}/after"}
        call(server, f"/api{DEMO}/changes", tie)
    last = {"strip_id": tracks[-1], "processor_id": "duck"}
    call(server, f"/api{DEMO}/changes", {"kind": "add_processor", "type": "ducker", **last})
    tie = {"kind": "set_processor", "settings": {"key.source": f"{tracks[0]}/before"}, **last}
    call(server, f"/api{DEMO}/changes", tie)


def long_takes(server, driver, folder):
    session = "/sessions/" + call(server, "/api/sessions", {"name": "Long"})["id"]
    driver.get(server.url + session)
    before = memory_mib(server)
    for minutes in (5, 10):
        write_take(folder / f"{minutes} minutes.wav", minutes)
        wait_for(driver, ".side-foot")
        driver.find_element("css selector", '[aria-label="Bring in audio"]').send_keys(
            str(folder / f"{minutes} minutes.wav")
        )
        wait_for(driver, f'.strip[aria-label="{minutes} minutes"]', 60)
        track_id = call(server, f"/api{session}")["document"]["order"][-1]
        add_compressor(server, session, track_id, threshold_db=-24.0)
        if minutes == 5:
            before_long = memory_mib(server)
    play_underruns(driver, 5)
    after = memory_mib(server)
    resident, own = (f"{a:.0f} -> {b:.0f} MiB" for a, b in zip(before_long, after, strict=True))
    told = f"{resident} resident, {own} without file pages (at start {before[0]:.0f})"
    report("10 minutes (220 MiB of samples) brought in and played", "", told)
    driver.get(server.url + session)
    wait_for(driver, ".strip").click()
    settled(driver)
    whole = median(drawn_ms(driver, count=15, whole=True))
    report("five minutes, stereo, drawn whole after a change", "<= 600 ms", whole)
    zoom = "document.querySelector('.take-hand').dispatchEvent(new WheelEvent('wheel', { deltaY: -1 }))"
    for _ in range(16):
        driver.execute_script(zoom)
    settled(driver)
    visible = median(drawn_ms(driver, count=25, whole=False))
    report("eight seconds in view, drawn after a change", "<= 100 ms", visible)
    maps(driver)


def maps(driver):
    """The map of a part never seen, from the press to the last piece drawn."""
    look = "reins.view.look(48000 * arguments[0], 48000 * arguments[1])"
    for seconds, places, wanted in ((8, range(20, 240, 20), "<= 250 ms"), (300, (0,), "<= 2000 ms")):
        times = []
        for place in places:
            find(driver, '[data-do="level"]').click()
            driver.execute_script(look, place, seconds)
            settled(driver)
            script = """const done = arguments[0]; const began = performance.now();
                document.querySelector('[data-do="map"]').click();
                reins.mapper.busy.then(() => requestAnimationFrame(() => done(performance.now() - began)));"""
            times.append(driver.execute_async_script(script))
        report(f"map of {seconds} s of a five-minute stereo take, first drawn", wanted, median(times))


def spectra_cost(server, driver, track_id):
    """Processor time of the server a second while it plays, with spectra of now and without."""
    shares = []
    for spectra in ("true", "false"):
        watch = f"reins.live.watch({{strip_id: '{track_id}', processor_id: '', spectra: {spectra}, beside: ''}})"
        driver.execute_script(watch)
        used = cpu_s(server)
        play_underruns(driver, 20)
        shares.append((cpu_s(server) - used) / 20)
    report("spectra of now, source and result, of a core", "< 5 %", f"{100 * (shares[0] - shares[1]):.1f} %")


def page_cost(driver):
    """Processor time the page takes a second, left alone while it plays and while it does not."""
    report("the page while nobody is at it, of a core", "", f"{page_pct():.1f} %")
    find(driver, '[data-do="play"]').click()
    report("the page while it plays, of a core", "< 25 %", f"{page_pct():.1f} %")
    find(driver, '[data-do="play"]').click()


def page_pct():
    """Of a core, over 20 s: the browser's process of the page, all threads."""
    time.sleep(2)
    pages = subprocess.check_output(["pgrep", "-f", "type=renderer"], text=True).split()
    before = {pid: used_s(pid) for pid in pages}
    time.sleep(20)
    return 100 / 20 * max(used_s(pid) - before[pid] for pid in pages if Path(f"/proc/{pid}").exists())


def cpu_s(server):
    """Processor time the server has used."""
    return used_s(server.process.pid)


def used_s(pid):
    """Processor time a process has used."""
    fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


if __name__ == "__main__":
    main()
