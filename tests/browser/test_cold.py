"""On a machine that has compiled nothing yet: sound goes on without what is added, and it comes in by itself."""

import shutil
from pathlib import Path

import pytest

from tests.browser.conftest import Desk, lay
from tests.browser.driving import Server, find, wait_for, wait_until


@pytest.fixture
def cold(demo_data, tmp_path, monkeypatch, driver):
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path / "kernels"))
    server = Server(shutil.copytree(demo_data, tmp_path / "data"))
    yield server
    driver.get("about:blank")
    server.kill()


def at_work(folder):
    """Processes that keep their kernels in a folder."""
    found = []
    for place in Path("/proc").glob("[0-9]*/environ"):
        try:
            if f"NUMBA_CACHE_DIR={folder}".encode() in place.read_bytes():
                found.append(place.parent.name)
        except OSError:
            continue
    return found


@pytest.mark.soak
def test_what_is_added_before_it_is_compiled_comes_in_by_itself_while_it_plays(cold, driver, tmp_path):
    desk = Desk(driver, cold, at="#strip=Bass")
    desk.click('[data-do="play"]')
    wait_until(lambda: driver.execute_script("return reins.live.played > 20000"))
    underruns = driver.execute_script("return reins.live.underruns")

    desk.click('[data-do="add"]')
    desk.click('[data-add="compressor"]')
    wait_for(driver, '.station[data-type="compressor"]', 300)  # laid by the take, which wants its kernel
    wait_until(lambda: "dB" in find(driver, ".station-gain").text, 300)

    lay(cold, "Singer", "make_room", laid=False)
    desk.click('.strip[aria-label="Singer"] .strip-name')
    wait_until(lambda: find(driver, ".station-gain").text == "getting ready")
    wait_until(lambda: find(driver, ".station").get_attribute("data-awaited") == "", 300)

    assert driver.execute_script("return reins.live.underruns") == underruns
    assert driver.execute_script("return reins.live.playing")
    cold.kill()
    wait_until(lambda: not at_work(tmp_path / "kernels"), 20)  # the helper ends with its server
    cold.start()
