"""Found by typing, and heard with one key: the palette, sides, a part of the source, a pause before the loop."""

import numpy as np
import pytest
from selenium.webdriver.common.keys import Keys

from tests.browser.driving import find, settled, wait_for, wait_until

RATE = 48000


def jump(desk, text, *, enter=True):
    desk.keys("j")
    wait_for(desk.driver, "dialog[open] #jump-list")
    desk.driver.switch_to.active_element.send_keys(text)
    found = [row.text for row in desk.driver.find_elements("css selector", "#jump-list li")]
    if enter:
        desk.driver.switch_to.active_element.send_keys(Keys.ENTER)
    return found


@pytest.mark.at("Snare", "compressor")
def test_a_setting_is_found_by_what_people_call_it_and_set_with_its_value(desk, driver):
    assert jump(desk, "recovery 80 ms")[0].startswith("Release")
    wait_until(lambda: desk.settings("Snare")["release_ms"] == 80.0)
    assert not driver.find_elements("css selector", "dialog[open]")

    jump(desk, "thresh")
    wait_until(lambda: driver.execute_script("return document.activeElement.getAttribute('aria-label')") == "Threshold")
    driver.switch_to.active_element.send_keys(Keys.TAB)

    find(driver, ".take-hand").click()
    jump(desk, "ratio 5000")
    assert "Ratio" in wait_for(driver, ".control-error.is-plain").text
    assert desk.settings("Snare")["ratio"] == 4.0
    driver.switch_to.active_element.send_keys(Keys.ESCAPE)


def test_actions_tracks_and_processors_are_found_by_typing(desk, driver):
    jump(desk, "guitar l")
    wait_for(driver, '.strip.is-selected[aria-label="Guitar L"]')
    assert jump(desk, "sibilance")[0].startswith("De-esser")
    wait_until(lambda: [entry["type"] for entry in desk.track("Guitar L")["chain"]] == ["deesser"])
    settled(driver)
    jump(desk, "shortcuts")
    wait_until(lambda: find(driver, "dialog[open]").text.startswith("Keys"))
    driver.switch_to.active_element.send_keys(Keys.ESCAPE)
    assert jump(desk, "zzz", enter=False) == []
    driver.switch_to.active_element.send_keys(Keys.ESCAPE)


@pytest.mark.at("Bass")
def test_a_processor_is_found_in_add_by_what_one_wants(desk, driver):
    desk.click('[data-do="add"]')
    wait_until(lambda: driver.execute_script("return document.activeElement.dataset.do") == "add-find")
    driver.switch_to.active_element.send_keys("reverb")
    shown = [
        e.get_attribute("data-add") for e in driver.find_elements("css selector", "[data-add]") if e.is_displayed()
    ]
    assert shown == ["room"]
    driver.switch_to.active_element.send_keys(Keys.ENTER)
    wait_until(lambda: [entry["type"] for entry in desk.track("Bass")["chain"]] == ["room"])


CHANGE = """return fetch("/api" + location.pathname + "/changes", {
  method: "POST", headers: {"content-type": "application/json"}, body: JSON.stringify(arguments[0])})"""


@pytest.mark.at("Room")
def test_sides_source_and_pause_are_set_beside_match_and_by_keys(desk, driver):
    desk.keys("s")
    wait_until(lambda: find(driver, '[data-do="ear"]').text == "mono")
    desk.keys("s", "s")
    wait_until(lambda: find(driver, '[data-do="ear"]').text == "⋯")
    desk.click('[data-do="ear"]')
    desk.type("source_pct", "40", scope=".ear-panel ")
    desk.type("pause_s", "1.5", scope=".ear-panel ")
    wait_until(lambda: desk.state()["document"]["loop"]["pause_s"] == 1.5)
    assert "40 % source" in find(driver, '[data-do="ear"]').text
    desk.keys(Keys.ESCAPE)
    wait_until(lambda: not find(driver, ".ear-panel").is_displayed())

    loop = {"kind": "set_session", "loop": {"on": True, "start_frame": 10 * RATE, "end_frame": 11 * RATE}}
    driver.execute_script(CHANGE, loop)
    wait_until(lambda: desk.state()["document"]["loop"]["on"])
    assert desk.state()["document"]["loop"]["pause_s"] == 1.5
    driver.execute_script("reins.live.seek(48000 * 10)")
    desk.keys(" ")
    # For longer than half of the time it stands at the loop's end, silent.
    wait_until(lambda: driver.execute_script("return reins.live.played > 48000 * 1.2"))
    places = [driver.execute_script("return reins.live.position()") for _ in range(5)]
    assert np.all(np.array(places) <= 11 * RATE)
    wait_until(lambda: driver.execute_script("return reins.live.played > 48000 * 2.7"))
    wait_until(lambda: driver.execute_script("return reins.live.position()") < 10.9 * RATE)
    desk.keys(" ")


@pytest.mark.at("Room")
def test_the_picture_is_frozen_by_one_key_while_sound_goes_on(desk, driver):
    desk.keys(" ")
    wait_until(lambda: driver.execute_script("return reins.live.played > 48000"))
    desk.keys("z")
    wait_for(driver, '[data-do="frozen"]')
    meters = "return [...document.querySelectorAll('.strip-meter-rms')].map((m) => m.style.transform).join()"
    still, played = driver.execute_script(meters), driver.execute_script("return reins.live.played")
    wait_until(lambda: driver.execute_script("return reins.live.played > arguments[0] + 24000", played))
    assert driver.execute_script(meters) == still

    desk.keys("z")
    wait_until(lambda: driver.execute_script(meters) != still)
    desk.keys(" ")


@pytest.mark.at("Snare", "compressor")
def test_the_guide_opens_beside_the_work_at_the_place_of_a_control(desk, driver):
    find(driver, '.bench [data-setting="release_ms"] .control-line').click()
    desk.keys(Keys.F1)
    meant = wait_for(driver, ".book .is-meant")
    assert meant.text.startswith("Release\n") and "recovery" in meant.text

    desk.click('[data-do="book-contents"]')
    field = wait_for(driver, ".book-sheet [name=words]")
    field.send_keys("recovery", Keys.ENTER)
    wait_until(lambda: "“recovery”: Release" in find(driver, ".book-sheet").text)
    desk.click('.book-sheet a[href$="/guide"]')
    desk.click('.book-sheet a[href$="/guide/job_bass_kick"]')
    there = wait_until(lambda: driver.find_element("link text", "Take me there"))
    there.click()
    wait_for(driver, '.strip.is-selected[aria-label="Bass"]')
    assert driver.execute_script("return reins.live.frame") == 16 * RATE
    assert find(driver, ".book").is_displayed()  # one reads on
    desk.keys(Keys.ESCAPE)
    wait_until(lambda: not find(driver, ".book").is_displayed())
    desk.keys("g")
    wait_until(lambda: "Both live below 100 Hz" in find(driver, ".book-sheet").text)
