"""A mix by hand: strips chosen together, found by typing, meters that remember, whole chains, sets of solos and drafts."""

import re

import numpy as np
import pytest
import soundfile
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.driving import find, settled, wait_for, wait_until
from tests.conftest import RATE
from tests.shorter import SECONDS


def hold_and_click(desk, key, *names):
    for name in names:
        hand = ActionChains(desk.driver).key_down(key).click(desk.row(name, ".strip-name"))
        hand.key_up(key).perform()


def chosen(driver):
    return [strip.get_attribute("aria-label") for strip in driver.find_elements("css selector", ".strip.is-chosen")]


@pytest.mark.at("Kick")
def test_strips_chosen_together_move_together_in_one_step(desk, driver):
    hold_and_click(desk, Keys.CONTROL, "Hats")
    hold_and_click(desk, Keys.SHIFT, "Snare")
    assert chosen(driver) == ["Kick", "Snare", "Hats"]
    assert "3 move together" in find(driver, ".side-chosen").text
    faders = {name: desk.track(name)["fader_db"] for name in ("Kick", "Snare", "Hats", "Room")}

    desk.row("Snare", '[aria-label="Snare Fader"]').send_keys(Keys.ARROW_LEFT * 4)
    wait_until(lambda: desk.track("Snare")["fader_db"] == faders["Snare"] - 2.0)
    moved = {name: desk.track(name)["fader_db"] - before for name, before in faders.items()}
    assert moved == {"Kick": -2.0, "Snare": -2.0, "Hats": -2.0, "Room": 0.0}
    desk.undo()  # one step takes all back
    wait_until(lambda: all(desk.track(name)["fader_db"] == before for name, before in faders.items()))

    desk.row("Hats", ".strip-mute").click()
    wait_until(lambda: all(desk.track(name)["mute"] for name in ("Kick", "Snare", "Hats")))
    desk.row("Kick", '[data-value="moss"]').click()
    wait_until(lambda: desk.track("Hats")["colour"] == "moss")
    assert desk.row("Hats", "").get_attribute("data-colour") == "moss"
    desk.keys(Keys.ESCAPE)
    assert chosen(driver) == []
    desk.row("Kick", ".strip-mute").click()
    wait_until(lambda: not desk.track("Kick")["mute"])
    assert desk.track("Snare")["mute"]


def test_a_track_is_found_by_typing(desk, driver):
    desk.keys("/")
    driver.switch_to.active_element.send_keys("guitar r")
    shown = [s.get_attribute("aria-label") for s in driver.find_elements("css selector", ".strip") if s.is_displayed()]
    assert shown == ["Guitar R", "Master"]
    driver.switch_to.active_element.send_keys(Keys.ENTER)

    wait_for(driver, '.strip.is-selected[aria-label="Guitar R"]')
    assert desk.row("Kick", ".strip-name").is_displayed()
    desk.keys("/")
    driver.switch_to.active_element.send_keys("zz", Keys.ESCAPE)
    assert desk.row("Kick", ".strip-name").is_displayed()


@pytest.mark.at("Kick")
def test_what_was_over_stays_marked_until_it_is_clicked(desk, driver):
    desk.type("trim_db", "24", scope='.strip[aria-label="Kick"] ')
    wait_until(lambda: desk.track("Kick")["trim_db"] == 24.0)
    driver.execute_script("reins.live.seek(48000 * 8)")
    desk.keys(" ")
    mark = wait_for(driver, '.strip[aria-label="Kick"] .strip-clip')
    wait_until(
        lambda: "L with R" in desk.row("Kick", ".strip-alike").text and "–" not in desk.row("Kick", ".strip-alike").text
    )
    desk.keys(" ")
    wait_until(lambda: not driver.execute_script("return reins.live.playing"))

    assert mark.is_displayed() and float(mark.text) > 0.0
    mark.click()
    assert not desk.row("Kick", ".strip-clip").is_displayed()


@pytest.mark.at("Bass", "compressor")
def test_all_thresholds_of_a_strip_go_deeper_by_one_control(desk, driver):
    desk.add("Bass", "gate")
    before = [desk.settings("Bass", place)["threshold_db"] for place in (0, 1)]
    step = desk.state()["step"]

    desk.row("Bass", '[aria-label="Bass All deeper"]').send_keys(Keys.ARROW_RIGHT * 6)
    wait_until(lambda: desk.state()["step"] != step)

    after = [desk.settings("Bass", place)["threshold_db"] for place in (0, 1)]
    assert after == [pytest.approx(before[0] - 3.0), pytest.approx(before[1] + 3.0)]
    wait_until(lambda: desk.row("Bass", '[aria-label="Bass All deeper"]').get_attribute("aria-valuenow") == "0")


@pytest.mark.at("Guitar L", "compressor")
def test_a_whole_chain_is_copied_kept_and_laid_elsewhere(desk, driver):
    desk.add("Guitar L", "deesser")
    wanted = [entry["settings"] for entry in desk.track("Guitar L")["chain"]]

    desk.click('[data-do="whole-chain"]')
    desk.click('[data-copy-to="Guitar R"]')
    desk.click('[data-do="copy-chain"]')
    wait_until(lambda: [entry["settings"] for entry in desk.track("Guitar R")["chain"]] == wanted)

    desk.click('[data-do="whole-chain"]')
    wait_for(driver, '[data-do="chain-name"]').send_keys("Strings, tidy")
    desk.click('[data-do="keep-chain"]')
    wait_for(driver, '[data-lay-chain="Strings, tidy"]')
    driver.switch_to.active_element.send_keys(Keys.ESCAPE)
    desk.choose("Harmonium")
    desk.click('[data-do="add"]')
    desk.click('[data-lay="Strings, tidy"]')
    wait_until(lambda: [entry["settings"] for entry in desk.track("Harmonium")["chain"]] == wanted)
    wait_until(lambda: len(driver.find_elements("css selector", ".station")) == 2)


def test_solos_and_drafts_of_the_session_are_kept_and_recalled(desk, driver):
    for name in ("Guitar L", "Guitar R"):
        desk.row(name, ".strip-solo").click()
        wait_until(lambda name=name: desk.track(name)["solo"])
    desk.click('[data-do="sets"]')
    wait_for(driver, '[data-do="set-name"]').send_keys("both guitars")
    desk.click('[data-do="keep-solos"]')
    wait_for(driver, '[data-use-solos="both guitars"]')
    find(driver, '[data-do="set-name"]').send_keys("as it was")
    desk.click('[data-do="keep-drafts"]')
    wait_for(driver, '[data-use-drafts="as it was"]')
    driver.switch_to.active_element.send_keys(Keys.ESCAPE)

    for name in ("Guitar L", "Guitar R"):
        desk.row(name, ".strip-solo").click()
        wait_until(lambda name=name: not desk.track(name)["solo"])
    desk.choose("Bass")
    desk.click('[data-draft="2"]')
    wait_until(lambda: desk.track("Bass")["draft"] == 2)

    desk.click('[data-do="sets"]')
    desk.click('[data-use-solos="both guitars"]')
    wait_until(lambda: desk.track("Guitar L")["solo"] and desk.track("Guitar R")["solo"])
    desk.click('[data-use-drafts="as it was"]')
    wait_until(lambda: desk.track("Bass")["draft"] == 1)
    settled(driver)


def test_the_whole_session_from_above_goes_where_it_is_clicked(desk, driver):
    """Told and drawn of each strip is what its own picture tells; Enter goes to where it is held deepest."""
    desk.add_compressor("Snare")
    held, deepest = (desk.fact(name).split(" ")[0] for name in ("held", "deepest"))
    desk.choose("Kick")
    desk.click('[data-do="above"]')
    row = lambda name: find(driver, f'.above-row[aria-label^="{name}:"]')  # noqa: E731
    wait_until(lambda: f"held {held} %, deepest {deepest} dB at" in row("Snare").text)
    wait_until(lambda: all("held" in row.text for row in driver.find_elements("css selector", ".above-row")))
    assert "nothing is held" in row("Kick").text and "nothing is held" in row("Master").text
    assert desk.red_share('.above-row[aria-label^="Snare:"] canvas') > 0.05
    assert desk.red_share('.above-row[aria-label^="Kick:"] canvas') == 0.0

    strip = find(driver, '.above-row[aria-label^="Singer:"] canvas')
    ActionChains(driver).move_to_element_with_offset(strip, strip.size["width"] // 4, 0).click().perform()
    wait_for(driver, '.strip.is-selected[aria-label="Singer"]')
    assert not find(driver, ".above").is_displayed()
    seconds = lambda: float(find(driver, ".head-clock").text.split(":")[1])  # noqa: E731
    wait_until(lambda: abs(seconds() - 0.75 * SECONDS) < 0.3)

    desk.keys("a")
    at = wait_until(lambda: re.search(r"at 0:(\d+\.\d+)", row("Snare").text))
    row("Snare").send_keys(Keys.ENTER)
    wait_for(driver, '.strip.is-selected[aria-label="Snare"]')
    wait_until(lambda: abs(seconds() - float(at[1])) < 0.02)
    desk.keys("a", Keys.ESCAPE)
    assert not find(driver, ".above").is_displayed()


def test_a_reference_is_heard_in_the_mixs_place_as_loud_as_that(desk, driver, tmp_path):
    path = tmp_path / "Harbour lights.wav"
    soundfile.write(path, np.random.default_rng(1).uniform(-0.9, 0.9, (RATE * 2, 2)), RATE)
    desk.keys("r")
    wait_until(lambda: "no reference yet" in find(driver, '[data-note="problem"]').text)
    find(driver, '[data-do="bring-reference"]').send_keys(str(path))
    wait_until(lambda: (desk.state()["document"]["reference"] or {}).get("name") == "Harbour lights")
    desk.click('[data-do="reference"]')
    wait_until(lambda: find(driver, '[data-do="ear"]').text == "reference")
    assert find(driver, '[data-hear="result"]').get_attribute("aria-checked") == "false"
    desk.click('[data-do="play"]')
    now = wait_until(lambda: re.search(r"now\n−(\d+\.\d) LUFS", find(driver, ".readings").text))
    told = desk.ask("/reference/gain", {"desk": "test", "number": 1})
    assert abs(float(now[1]) + told["mix_lufs"]) < 0.5  # even noise is as loud in 400 ms as all of it

    desk.keys("r")
    wait_until(lambda: find(driver, '[data-hear="result"]').get_attribute("aria-checked") == "true")
    desk.keys(" ", "r")
    wait_until(lambda: find(driver, '[data-do="ear"]').text == "reference")
    desk.click('[data-do="ear"]')
    desk.click('[data-do="remove-reference"]')
    wait_until(lambda: desk.state()["document"]["reference"] is None)
    assert find(driver, '[data-do="ear"]').text == "⋯"
