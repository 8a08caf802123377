"""Measures what is asked of spectral work: what was held of a five-minute take as a map, and two of each kind playing.

Run by `make bench-spectral`. Takes about two minutes, 40 seconds of them playing.
"""

import tempfile
import time
from pathlib import Path

import numpy as np
from tests.browser.driving import DEMO, Server, find, make_driver, settled, wait_for

from benchmarks.desk import RATE, call, play_underruns
from benchmarks.finding import take_of
from reins.core.chainfile import parse_entry
from reins.core.trials.fight import fight
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span

MINUTES, VIEW_S, PLAYED_S = 5, 20, 40
LIVE = (("Hats", "fine_bands"), ("Room", "fine_bands"), ("Guitar L", "make_room"), ("Guitar R", "make_room"))


def timed(run):
    began = time.perf_counter()
    made = run()
    return made, time.perf_counter() - began


def maps():
    """Seconds until what was held of all of it is known, and of what is in view."""
    sound = 0.1 * np.random.default_rng(1).standard_normal((2, MINUTES * 60 * RATE))
    with tempfile.TemporaryDirectory() as folder:
        _maps(*(take_of(one, folder) for one in (sound, sound[:, ::-1])))


def _maps(take, key):
    frames = take.facts.frames
    for kind, more in (("fine_bands", {}), ("make_room", {"key": {"source": "k"}})):
        entry = parse_entry({"id": "p", "type": kind, "settings": more}, "bench")
        trial = Trial(take, [entry], {"k": key} if more else {})
        measure_span(trial, "p", 0, RATE)
        whole, whole_s = timed(lambda trial=trial: measure_span(trial, "p", 0, frames))
        _, view_s = timed(lambda trial=trial: measure_span(trial, "p", 100 * RATE, VIEW_S * RATE))
        mb = whole.held_map.codes.nbytes / 1e6
        print(f"{kind}: {MINUTES} minutes {whole_s:.2f} s, {VIEW_S} s in view {view_s:.2f} s, {mb:.1f} MB")
    _, fight_s = timed(lambda: fight(take, key))
    print(f"fight: {MINUTES} minutes {fight_s:.2f} s")


def live():
    """Underruns of the demo with two of each, while the page draws their spectrum."""
    with tempfile.TemporaryDirectory() as folder:
        server, driver = Server(Path(folder) / "data"), make_driver()
        try:
            ids = {t["name"]: k for k, t in call(server, f"/api{DEMO}")["document"]["tracks"].items()}
            for name, kind in LIVE:
                change = {"kind": "add_processor", "strip_id": ids[name], "type": kind, "processor_id": kind}
                call(server, f"/api{DEMO}/changes", change)
                if kind == "make_room":
                    tie = {"key.source": f"{ids['Singer']}/after"}
                    change = {"kind": "set_processor", "strip_id": ids[name], "processor_id": kind, "settings": tie}
                    call(server, f"/api{DEMO}/changes", change)
            driver.get(server.url + DEMO)
            wait_for(driver, ".take-canvas")
            settled(driver)
            find(driver, '.strip[aria-label="Guitar L"] .strip-name').click()
            settled(driver)
            underruns, least, usual, _ = play_underruns(driver, PLAYED_S)
            held = f"{1000 * least / RATE:.0f} ms held at least, {1000 * usual / RATE:.0f} usually"
            print(f"two of each in the demo, {PLAYED_S} s: {underruns} underruns, {held}")
        finally:
            driver.quit()
            server.kill()


if __name__ == "__main__":
    maps()
    live()
