"""What those need who do not see, or do not use a mouse: axe-core finds nothing, few tab stops, words for pictures."""

import re
from pathlib import Path

import pytest
from selenium.webdriver.common.keys import Keys

from tests.browser.driving import DEMO, find, wait_for, wait_until

AXE = (Path(__file__).parents[2] / "node_modules/axe-core/axe.min.js").read_text()
# Handles on pictures stand where the sound puts them; each of their numbers can be typed on the bench or in the table,
# which WCAG 2.2 asks for instead of a size (2.5.8, "equivalent").
RUN = """const [within, rules, done] = arguments;
axe.run(document.querySelectorAll(within), { resultTypes: ["violations"], ...(rules && { runOnly: { type: "rule", values: rules } }) }).then(({ violations }) => done(violations.flatMap(({ id, nodes }) =>
  nodes.filter(({ target }) => id !== "target-size" || !document.querySelector(target[0]).matches(".handle, .curve-point"))
    .map(({ html, failureSummary }) => `${id}: ${html.slice(0, 120)} ${failureSummary}`))))"""
OF_LOOKS = ("color-contrast", "target-size", "link-in-text-block", "scrollable-region-focusable")
KINDS = ("compressor", "room", "curve", "multiband", "dynamic_eq")
DIALOGS = (
    "exporting",
    "bus",
    "removing",
    "points",
    "help",
    "history",
    "moving",
    "reinlist",
    "drafts",
    "sets",
    "wholechain",
)


def found(driver, within="html", rules=None):
    """What axe-core finds, in a part of the page: all that was not there when it was asked before; by some rules only,
    where nothing else than width and theme has changed.
    """
    if not driver.execute_script("return Boolean(window.axe)"):
        driver.execute_script(AXE)
    return driver.execute_async_script(RUN, within, rules)


@pytest.fixture
def seen(driver):
    """Set how wide the page is and its theme; afterwards as it was."""

    def see(width, theme):
        size = {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False}
        driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
        if driver.execute_script("return document.documentElement.dataset.theme") != theme:
            driver.execute_script("changeTheme()")

    yield see
    see(1280, "day")


def open_all_dialogs(driver, yes):
    """All of them in the page's flow, one below the other: one look sees them all."""
    driver.execute_script(
        """for (const name of arguments[0]) {
          const dialog = document.querySelector(`dialog[x-ref='${name}']`);
          dialog.open = arguments[1];
          dialog.style.position = arguments[1] ? "static" : "";
        }""",
        DIALOGS,
        yes,
    )


@pytest.mark.at("Singer", *KINDS, laid=False)
def test_nothing_is_found_on_the_desk(desk, driver, seen):
    # By night only what looks another way is looked at again.
    for rules, width, theme, kinds in ((None, 1920, "day", KINDS[:-1]), (OF_LOOKS, 1024, "night", ())):
        seen(width, theme)
        # By all rules at both widths: what has no room has another name, or none. One bench is among it, the last chosen.
        assert found(driver) == []
        for kind in kinds:
            desk.click(f'.station[data-type="{kind}"]')
            wait_for(driver, f'.station.is-selected[data-type="{kind}"]')
            assert found(driver, ".bench", rules) == [], (kind, theme)
        for place in ("spread", "blind"):
            desk.click(f'[data-do="{place}"]')
            assert found(driver, f".{place}-bench", rules) == [], (place, theme)
            desk.click(f'[data-do="{place}"]')
        desk.click('[data-do="aim"]')
        desk.keys("g")
        wait_until(lambda: find(driver, ".book").is_displayed())
        assert found(driver, ".aim-bench, .book", rules) == [], theme  # at once: half of a look is to read the page
        desk.keys(Keys.ESCAPE)
        desk.click('[data-do="aim"]')
        desk.keys("a")
        wait_until(lambda: find(driver, ".above").is_displayed())
        assert found(driver, ".above", rules) == [], theme
        desk.keys(Keys.ESCAPE)
        open_all_dialogs(driver, True)
        assert found(driver, "dialog[open]", rules) == [], theme
        open_all_dialogs(driver, False)
        desk.click('.station[data-type="multiband"]')  # the bench with the most kinds of controls is seen by night


@pytest.mark.parametrize("path", ["/", "/batch", "/guide", "/guide/compressor", f"{DEMO}/recall", "/nothing-here"])
def test_nothing_is_found_on_the_other_pages(server, driver, seen, path):
    driver.get(server.url + path)
    wait_for(driver, "h1")
    for width, theme in ((1280, "day"), (1024, "night")):
        seen(width, theme)
        assert found(driver) == [], (width, theme)
    driver.get_log("browser")  # a page that is not there is told of in the console


def focus(driver):
    script = """const e = document.activeElement;
    return e.getAttribute("aria-label") ?? e.textContent.trim() ?? e.tagName"""
    return driver.execute_script(script)


@pytest.mark.at("Snare", "compressor")
def test_what_belongs_together_is_one_tab_stop_with_arrows_inside(desk, driver):
    find(driver, '[data-do="find"]').click()
    stops = []
    while "Starting points" not in stops and len(stops) < 40:
        desk.keys(Keys.TAB)
        stops.append(
            driver.execute_script("return document.activeElement.closest('label')?.firstChild.textContent.trim()")
            or focus(driver)
        )
    assert len(stops) < 40, stops
    assert stops[:3] == ["Sets", "Snare", "mute Snare"]

    desk.row("Snare", ".strip-name").click()
    desk.keys(Keys.ARROW_DOWN)
    wait_for(driver, '.strip.is-selected[aria-label="Hats"]')
    assert focus(driver) == "Hats"
    desk.keys(Keys.ARROW_UP)
    wait_for(driver, '.strip.is-selected[aria-label="Snare"]')

    wait_for(driver, '.bench [data-setting="threshold_db"]')
    find(driver, '.bench [aria-label="Threshold"]').click()
    before, step = desk.settings("Snare"), desk.state()["step"]
    desk.keys(Keys.ARROW_DOWN)
    assert focus(driver) == "Ratio"
    desk.keys(Keys.ARROW_RIGHT)
    wait_until(lambda: desk.state()["step"] > step)
    assert desk.settings("Snare")["ratio"] > before["ratio"]
    one_stop = "return [...arguments[0].querySelectorAll('button, select, input, [role=slider]')].filter((e) => e.tabIndex === 0).length"
    for group in driver.find_elements("css selector", ".bench-controls > .control-group"):
        assert driver.execute_script(one_stop, group) == 1


@pytest.mark.at("Snare", "multiband")
def test_the_table_of_bands_is_one_stop_and_its_cells_are_reached_by_arrows(desk, driver):
    stops = "return [...document.querySelectorAll('.bands :is(button, select, input)')].filter((e) => e.tabIndex === 0).length"
    assert driver.execute_script(stops) == 1

    find(driver, '.bands [data-row="1"] [data-setting="bands.0.threshold_db"] .control-number').send_keys(
        Keys.ARROW_DOWN
    )
    place = "return document.activeElement.closest('[data-setting]').dataset.setting"
    assert driver.execute_script(place) == "bands.1.threshold_db"
    desk.keys(Keys.ARROW_RIGHT)
    assert driver.execute_script(place) == "bands.1.ratio"
    desk.keys(Keys.ENTER)
    driver.switch_to.active_element.send_keys("4", Keys.ENTER)
    wait_until(lambda: desk.settings("Snare")["bands"][1]["ratio"] == 4.0)
    assert driver.execute_script(place) == "bands.1.ratio"


@pytest.mark.at("Snare", "compressor")
def test_pictures_say_their_numbers_and_controls_whose_they_are(desk, driver):
    label = "return document.querySelector(arguments[0]).getAttribute('aria-label')"
    wait_until(lambda: "held for" in driver.execute_script(label, ".take-canvas"))
    said = driver.execute_script(label, ".take-canvas")
    assert said.startswith("Snare over time: held for") and "LUFS" in said
    assert desk.fact("usual").replace(" dB", "") in said
    assert "most often" in driver.execute_script(label, ".histogram-canvas")
    assert "0.0 dB in" in driver.execute_script(label, ".curve-canvas")
    assert "100 ms" in driver.execute_script(label, ".burst-canvas")
    names = [e.get_attribute("aria-label") for e in driver.find_elements("css selector", ".strip [role=slider]")]
    assert len(set(names)) == len(names) and "Kick Fader" in names


def test_spectrum_and_map_say_what_they_show(desk, driver):
    label = "return document.querySelector(arguments[0]).getAttribute('aria-label')"
    desk.choose("Kick")
    said = wait_until(
        lambda: re.search(r"source loudest at (\d+) Hz", driver.execute_script(label, ".spectrum-canvas"))
    )
    answer = {"desk": "test", "number": 1, "what": "source"}
    levels = desk.ask(f"/strips/{desk.id_of('Kick')}/spectrum", answer)["db"]
    hz = driver.execute_script("return JSON.parse(document.getElementById('desk-data').textContent).frequencies.hz")
    assert int(said[1]) == round(hz[levels.index(max(levels))])

    desk.click('[data-do="map"]')
    told = wait_until(
        lambda: re.search(r"loudest near (\d+) Hz with (−\d+)", driver.execute_script(label, ".take-canvas"))
    )
    assert 40 < int(told[1]) < 80 and -20 < int(told[2].replace("−", "-")) < 0
    desk.click('[data-do="level"]')
    wait_until(lambda: "over time" in driver.execute_script(label, ".take-canvas"))


def test_at_twice_the_size_nothing_is_lost(desk, driver, seen):
    """At 200 % a window of 1280 by 800 holds 640 by 400: the desk is scrolled, dialogs scroll within themselves."""
    desk.add_compressor("Snare")
    half = {"width": 640, "height": 400, "deviceScaleFactor": 2, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", half)
    desk.type("output_db", "-3")  # the last control of the bench, at the right below
    wait_until(lambda: desk.settings("Snare")["output_db"] == -3.0)
    desk.click('[data-do="export"]')
    desk.click('[data-do="export-now"]')  # at the foot of its dialog
    wait_until(lambda: not driver.find_elements("css selector", "dialog[open]"))
    desk.keys(Keys.F1)
    sheet = wait_for(driver, ".book")
    assert 0 <= sheet.rect["x"] - driver.execute_script("return scrollX") <= 640 - sheet.rect["width"] + 1
    seen(1280, "day")


@pytest.mark.fresh
def test_the_skip_links_lead_to_take_bench_and_tracks(desk, driver):
    driver.execute_script("document.body.focus()")
    desk.keys(Keys.TAB)
    assert focus(driver) == "To the take" and find(driver, ".skip-links").location["y"] >= 0
    desk.keys(Keys.TAB, Keys.ENTER)
    wait_until(lambda: driver.execute_script("return document.activeElement.id") == "bench")
