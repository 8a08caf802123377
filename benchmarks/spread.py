"""Measures what is asked of a spread: its first tile and all nine, of eight seconds in view, from the press on.

python -m benchmarks.spread
"""

import statistics
import tempfile
from pathlib import Path

from tests.browser.driving import DEMO, Server, find, make_driver, settled, wait_for

from benchmarks.desk import add_compressor, call

TRIES, VIEW_S = 5, 8
PRESS = """const done = arguments[0], began = performance.now(); let first = null;
const look = () => {
  const figures = [...document.querySelectorAll(".tiles .tile-figures")];
  const told = figures.filter(e => e.textContent.includes("deepest")).length;
  if (told > 0) first ??= performance.now() - began;
  if (told === 9) done([first, performance.now() - began]); else requestAnimationFrame(look);
};
document.querySelector('[data-do="spread"]').click(); look()"""


def pressed(server, driver):
    """Milliseconds to the first tile and to the ninth, in a page that has just been opened."""
    driver.get(server.url + DEMO)
    wait_for(driver, ".take-canvas")
    find(driver, '.strip[aria-label="Snare"] .strip-name').click()
    wait_for(driver, '[data-do="spread"]')
    driver.execute_script(f"reins.view.look(48000 * 20, 48000 * {VIEW_S})")
    settled(driver)
    return driver.execute_async_script(PRESS)


def main():
    """Medians of five presses."""
    with tempfile.TemporaryDirectory() as folder:
        server, driver = Server(Path(folder) / "data"), make_driver()
        try:
            tracks = call(server, f"/api{DEMO}")["document"]["tracks"]
            snare = next(key for key, track in tracks.items() if track["name"] == "Snare")
            add_compressor(server, DEMO, snare, threshold_db=-24)
            times = [pressed(server, driver) for _ in range(TRIES)]
            first, nine = (statistics.median(column) for column in zip(*times, strict=True))
            print(f"spread over {VIEW_S} s: first tile {first:.0f} ms, nine {nine:.0f} ms")
        finally:
            driver.quit()
            server.kill()


if __name__ == "__main__":
    main()
