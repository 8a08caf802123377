"""Makes docs/screenshots anew from the demo session, at 1280x800. Run by `make screenshots`."""

import tempfile
import time
from pathlib import Path

from selenium.webdriver.common.keys import Keys
from tests.browser.driving import DEMO, Server, choose_option, find, make_driver, settled, wait_for, wait_until

from benchmarks.desk import call

SHOTS = Path(__file__).parents[1] / "docs" / "screenshots"
SNARE = {"threshold_db": -27.0, "ratio": 4.0, "attack_ms": 12.0, "release_ms": 140.0, "makeup_db": 3.0}
DRUMS = {"threshold_db": -26.0, "ratio": 3.0, "attack_ms": 20.0, "release_ms": 160.0, "makeup_db": 2.0}


def keep(server, **change):
    call(server, f"/api{DEMO}/changes", change)


def prepare(server):
    """A compressor on the snare and one on the drum bus, with settings worth looking at."""
    tracks = call(server, f"/api{DEMO}")["document"]["tracks"]
    snare = next(k for k, t in tracks.items() if t["name"] == "Snare")
    keep(server, kind="add_processor", strip_id=snare, type="compressor", processor_id="held")
    keep(server, kind="set_processor", strip_id=snare, processor_id="held", settings=SNARE)
    drums = [k for k, t in tracks.items() if t["name"] in ("Kick", "Snare", "Hats", "Room")]
    keep(server, kind="add_bus", bus_id="drums", name="Drums", members=drums)
    keep(server, kind="add_processor", strip_id="drums", type="compressor", processor_id="bus")
    keep(server, kind="set_processor", strip_id="drums", processor_id="bus", settings=DRUMS)
    ids = {t["name"]: k for k, t in tracks.items()}
    for name, kind, point in (
        ("Announcer", "gate", "Speech, a quiet room between phrases"), ("Bass", "ducker", "Bass under kick"),
        ("Singer", "dynamic_eq", "Voice, lows and presence"), ("Singer", "deesser", "Voice, loud esses"),
        ("Room", "multiband", "Drum bus, three bands"),
    ):  # fmt: skip
        keep(server, kind="add_processor", strip_id=ids[name], type=kind, processor_id=kind)
        keep(server, kind="start_from", strip_id=ids[name], processor_id=kind, name=point)
    tie = {"key.source": f"{ids['Kick']}/after"}
    keep(server, kind="set_processor", strip_id=ids["Bass"], processor_id="ducker", settings=tie, lay=True)


def by_frequency(driver):
    """The bands of the singer on the map, the de-esser, and the multiband, while it plays."""
    driver.execute_script("reins.view.look(48000 * 20, 48000 * 8); reins.live.seek(48000 * 20)")
    wait_for(driver, '.strip[aria-label="Singer"] .strip-name').click()
    settled(driver)
    find(driver, '[data-do="map"]').click()
    wait_until(lambda: driver.execute_script("return reins.view.model.map?.tiles.length >= 4"))
    wait_until(lambda: driver.execute_script("return reins.live.position() > 48000 * 23.5"), 60)
    driver.save_screenshot(str(SHOTS / "map.png"))
    find(driver, '[data-do="level"]').click()
    wait_for(driver, '.station[data-type="deesser"] .station-name').click()
    settled(driver)
    time.sleep(0.5)
    settled(driver)  # the page may have turned meanwhile
    driver.save_screenshot(str(SHOTS / "deesser.png"))
    wait_for(driver, '.strip[aria-label="Room"] .strip-name').click()
    settled(driver)
    time.sleep(0.5)
    settled(driver)
    find(driver, '[data-do="tab-lean"]').click()
    settled(driver)
    grip = wait_for(driver, '[data-handle="lean_highs_db"]')
    for _ in range(12):
        grip.send_keys(Keys.ARROW_UP)
    time.sleep(1.5)
    settled(driver)
    driver.save_screenshot(str(SHOTS / "lean.png"))
    find(driver, '[data-do="tab-bands"]').click()


def spectral(server, driver):
    """Where guitar and singer fight on the map, and the hats under a drawn threshold with what was held."""
    tracks = call(server, f"/api{DEMO}")["document"]["tracks"]
    ids = {t["name"]: k for k, t in tracks.items()}
    drawn = [[1500, -30], [3000, -56], [9000, -56], [14000, -66]]
    hats = {"threshold_points": drawn, "hold_ratio": 6.0, "from_hz": 2000.0}
    keep(server, kind="add_processor", strip_id=ids["Hats"], type="fine_bands", processor_id="fine", settings=hats)
    driver.execute_script("reins.view.look(0, 48000 * 40); reins.live.seek(48000 * 21)")
    wait_for(driver, '.strip[aria-label="Guitar R"] .strip-name').click()
    settled(driver)
    choose_option(driver, '[data-do="beside"] option', "Singer".__eq__)
    find(driver, '[data-do="fight"]').click()
    wait_for(driver, '[data-do="fight-map"]').click()
    time.sleep(2.0)
    driver.save_screenshot(str(SHOTS / "fight.png"))
    find(driver, '[data-do="fight"]').click()
    choose_option(driver, '[data-do="beside"] option', lambda name: "Singer" not in name)
    driver.execute_script("reins.view.look(48000 * 16, 48000 * 10)")
    wait_for(driver, '.strip[aria-label="Hats"] .strip-name').click()
    settled(driver)
    find(driver, ".bench-curve [data-do=swap]").click()
    time.sleep(2.0)
    settled(driver)
    driver.save_screenshot(str(SHOTS / "fine-bands.png"))
    find(driver, ".take [data-do=swap]").click()
    find(driver, '[data-do="level"]').click()


def batch(server, driver):
    """All takes held, each by an aim of its own."""
    driver.get(f"{server.url}/batch")
    wait_for(driver, ".batch-asked")
    choose_option(driver, '[data-do="session-takes"] option', lambda name: name.startswith("All"))
    wait_until(lambda: len(driver.find_elements("css selector", ".batch-files li")) == 10)
    find(driver, "input[value=aim]").click()
    find(driver, '[data-do="run"]').click()
    wait_until(lambda: len(driver.find_elements("css selector", ".batch-rows tbody tr")) == 10, 120)
    driver.save_screenshot(str(SHOTS / "batch.png"))


def moving(server, driver):
    """The harmonium ducked to the beat and by the kick, while it plays."""
    tracks = call(server, f"/api{DEMO}")["document"]["tracks"]
    ids = {t["name"]: k for k, t in tracks.items()}
    curve = [[0, 1, 0.1], [0.25, 0.82, -0.5], [0.75, 0.1, 0], [1, 0, 0]]
    keep(server, kind="add_processor", strip_id=ids["Harmonium"], type="filter", processor_id="door")
    high_cut = {"what": "door.high_cut_hz", "to": 900.0}
    put = {"kind": "put_rein", "strip_id": ids["Harmonium"]}
    moves = [{"what": "strip.fader_db", "to": -18.0}]
    keep(server, **put, rein_id="beat", rein={"moves": moves, "by": {"kind": "beat", "points": curve}})
    key = {"kind": "key", "key": {"source": f"{ids['Kick']}/after"}, "floor_db": -38.0, "ceiling_db": -9.0}
    keep(server, **put, rein_id="key", rein={"moves": [high_cut], "by": key | {"release_ms": 180.0}})
    driver.execute_script("reins.view.look(0, 48000 * 40); reins.live.seek(48000 * 21)")
    wait_for(driver, '.strip[aria-label="Harmonium"] .strip-name').click()
    wait_for(driver, '.rein-chip[data-rein="beat"] .rein-chip-name').click()
    settled(driver)
    choose_option(driver, '[data-do="fold-key"] option', "Kick".__eq__)
    time.sleep(1.5)  # for the folded sound and the key's level to be there
    driver.save_screenshot(str(SHOTS / "beat.png"))


def colours(server, driver):
    """A guitar by the FET compressor, and one with colour."""
    tracks = call(server, f"/api{DEMO}")["document"]["tracks"]
    ids = {t["name"]: k for k, t in tracks.items()}
    for strip, kind, point in (
        ("Guitar L", "fet", "Acoustic guitar, forward"), ("Guitar R", "colour", "Harmonium, brighter reeds"),
    ):  # fmt: skip
        keep(server, kind="add_processor", strip_id=ids[strip], type=kind, processor_id=kind)
        keep(server, kind="start_from", strip_id=ids[strip], processor_id=kind, name=point)
        wait_for(driver, f'.strip[aria-label="{strip}"] .strip-name').click()
        wait_for(driver, f'.station[data-type="{kind}"] .station-name').click()
        settled(driver)
        time.sleep(1.0)
        driver.save_screenshot(str(SHOTS / f"{kind}.png"))


def aim(server, driver):
    """The kick aimed at: its hits held by what is asked."""
    tracks = call(server, f"/api{DEMO}")["document"]["tracks"]
    kick = next(k for k, t in tracks.items() if t["name"] == "Kick")
    keep(server, kind="add_processor", strip_id=kick, type="compressor", processor_id="aimed")
    wait_for(driver, '.strip[aria-label="Kick"] .strip-name').click()
    wait_for(driver, '.station[data-processor="aimed"] .station-name').click()
    settled(driver)
    find(driver, '[data-do="aim"]').click()
    wait_for(driver, ".found-mark")
    find(driver, '[data-do="aim-find"]').click()
    wait_for(driver, '[data-do="aim-take"]')
    time.sleep(0.5)
    settled(driver)
    driver.save_screenshot(str(SHOTS / "aim.png"))
    find(driver, '[data-do="aim-leave"]').click()


def judging(driver):
    """Nine of attack and release on the snare, and a round of a blind test."""
    wait_for(driver, '.strip[aria-label="Snare"] .strip-name').click()
    settled(driver)
    find(driver, '[data-do="spread"]').click()
    wait_until(lambda: sum("deepest" in t.text for t in driver.find_elements("css selector", ".tile-figures")) == 10)
    find(driver, '[data-tile="7"]').click()
    settled(driver)
    time.sleep(0.3)
    driver.save_screenshot(str(SHOTS / "spread.png"))
    find(driver, '[data-do="spread-leave"]').click()
    find(driver, '[data-do="blind"]').click()
    find(driver, '[data-do="blind-start"]').click()
    wait_for(driver, '[data-blind="x"]').click()
    time.sleep(0.3)
    driver.save_screenshot(str(SHOTS / "blind.png"))
    find(driver, '[data-do="blind-give-up"]').click()
    find(driver, '[data-do="blind-leave"]').click()


def beside(driver):
    """The whole session from above, and the guide at the place of a control."""
    wait_for(driver, '.strip[aria-label="Snare"] .strip-name').click()
    settled(driver)
    find(driver, '[data-do="above"]').click()
    wait_until(lambda: all("held" in row.text for row in driver.find_elements("css selector", ".above-row")))
    driver.save_screenshot(str(SHOTS / "above.png"))
    find(driver, '[data-do="above-leave"]').click()
    find(driver, '.bench [data-setting="release_ms"] .control-line').send_keys(Keys.F1)
    wait_for(driver, ".book .is-meant")
    driver.save_screenshot(str(SHOTS / "guide.png"))
    find(driver, '[data-do="book-close"]').click()


def main():
    server = Server(tempfile.mkdtemp(prefix="reins-shots-"))
    prepare(server)
    driver = make_driver()
    SHOTS.mkdir(parents=True, exist_ok=True)
    driver.get(server.url)
    wait_for(driver, ".card-link")
    driver.save_screenshot(str(SHOTS / "shelf.png"))
    driver.get(server.url + DEMO)
    wait_for(driver, '.strip[aria-label="Snare"]').click()
    settled(driver)
    zoom = "document.querySelector('.take-hand').dispatchEvent(new WheelEvent('wheel', { deltaY: -1, clientX: 720 }))"
    for _ in range(6):
        driver.execute_script(zoom)
    settled(driver)
    find(driver, '[data-do="play"]').click()
    wait_until(lambda: driver.execute_script("return reins.live.position() > 48000 * 19.42"), 60)
    driver.save_screenshot(str(SHOTS / "desk.png"))
    wait_for(driver, '.strip[aria-label="Drums"] .strip-name').click()
    settled(driver)
    for _ in range(12):
        driver.execute_script(zoom.replace("-1", "1"))
    for name, shot in (("Announcer", "gate"), ("Bass", "ducker")):
        wait_for(driver, f'.strip[aria-label="{name}"] .strip-name').click()
        settled(driver)
        time.sleep(0.5)  # for the meters to stand on the new strip
        driver.save_screenshot(str(SHOTS / f"{shot}.png"))
    by_frequency(driver)
    spectral(server, driver)
    moving(server, driver)
    colours(server, driver)
    aim(server, driver)
    judging(driver)
    beside(driver)
    wait_for(driver, '.strip[aria-label="Snare"] .strip-name').click()
    settled(driver)
    find(driver, '[data-do="theme"]').click()
    driver.save_screenshot(str(SHOTS / "desk-night.png"))
    find(driver, '[data-do="theme"]').click()
    batch(server, driver)
    driver.quit()
    server.kill()


if __name__ == "__main__":
    main()
