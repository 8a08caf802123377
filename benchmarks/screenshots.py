"""Makes docs/screenshots anew from the demo session, at 1280x800. Run by `make screenshots`."""

import tempfile
from pathlib import Path

from tests.browser.driving import DEMO, Server, find, make_driver, settled, wait_for, wait_until

from benchmarks.desk import call

SHOTS = Path(__file__).parents[1] / "docs" / "screenshots"
SNARE = {"threshold_db": -27.0, "ratio": 4.0, "attack_ms": 12.0, "release_ms": 140.0, "makeup_db": 3.0}


def keep(server, **change):
    call(server, f"/api{DEMO}/changes", change)


def prepare(server):
    """A compressor on the snare, with settings worth looking at."""
    tracks = call(server, f"/api{DEMO}")["document"]["tracks"]
    snare = next(k for k, t in tracks.items() if t["name"] == "Snare")
    keep(server, kind="add_processor", track_id=snare, type="compressor", processor_id="held")
    keep(server, kind="set_processor", track_id=snare, processor_id="held", settings=SNARE)


def main():
    server = Server(tempfile.mkdtemp(prefix="reins-shots-"))
    prepare(server)
    driver = make_driver()
    SHOTS.mkdir(parents=True, exist_ok=True)
    driver.get(server.url)
    wait_for(driver, ".card-link")
    driver.save_screenshot(str(SHOTS / "shelf.png"))
    driver.get(server.url + DEMO)
    wait_for(driver, '.track[aria-label="Snare"]').click()
    settled(driver)
    zoom = "document.querySelector('.take-hand').dispatchEvent(new WheelEvent('wheel', { deltaY: -1, clientX: 720 }))"
    for _ in range(6):
        driver.execute_script(zoom)
    settled(driver)
    find(driver, '[data-do="play"]').click()
    wait_until(lambda: driver.execute_script("return reins.live.position() > 48000 * 19.42"), 60)
    driver.save_screenshot(str(SHOTS / "desk.png"))
    find(driver, '[data-do="theme"]').click()
    driver.save_screenshot(str(SHOTS / "desk-night.png"))
    driver.quit()
    server.kill()


if __name__ == "__main__":
    main()
