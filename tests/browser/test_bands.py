"""Several bands as a person sets them: by the level each has had, together, as a whole, and by a line that leans."""

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.driving import find, settled, wait_for, wait_until


@pytest.mark.at("Room", "multiband")
def test_a_threshold_is_set_by_the_level_its_band_has_had_and_has_now(desk, driver):
    settled(driver)
    share = "return reins.spectrum.model.heard?.['band2.gain_db']?.above_pct"
    before = wait_until(lambda: driver.execute_script(share))
    grip = wait_for(driver, '[data-handle="bands.1.threshold_db"]')
    desk.drag(grip, 0, 60)  # lower: more lies above it
    wait_until(lambda: driver.execute_script(share) > before + 5)
    desk.keys(Keys.ESCAPE)
    driver.execute_script("document.activeElement.blur()")
    desk.keys(" ")
    wait_until(lambda: driver.execute_script("return reins.spectrum.model.heardNow?.['band2.gain_db'] > -60"))
    desk.keys(" ")


@pytest.mark.at("Room", "multiband")
def test_bands_chosen_together_move_and_are_heard_together_and_the_chosen_crossover_goes(desk, driver):
    before = desk.settings("Room")["bands"]
    for number in ("1", "3"):
        hand = ActionChains(driver).key_down(Keys.CONTROL) if number == "3" else ActionChains(driver)
        hand.click(find(driver, f'.bands [data-row="{number}"] .band-number')).key_up(Keys.CONTROL).perform()
    wait_until(lambda: len(driver.find_elements("css selector", ".bands tr.is-chosen")) == 2)

    desk.type("bands.0.threshold_db", f"{before[0]['threshold_db'] - 6:.1f}")
    wait_until(
        lambda: desk.settings("Room")["bands"][2]["threshold_db"] == pytest.approx(before[2]["threshold_db"] - 6)
    )
    desk.type("bands.2.release_ms", f"{2 * before[2]['release_ms']:.0f}")
    wait_until(lambda: desk.settings("Room")["bands"][0]["release_ms"] == pytest.approx(2 * before[0]["release_ms"]))
    after = desk.settings("Room")["bands"]
    assert after[1] == before[1] and after[2]["release_ms"] == 2 * before[2]["release_ms"]

    desk.click('[data-hear-band="3"]')
    pressed = '[data-hear-band][aria-pressed="true"]'
    wait_until(lambda: len(driver.find_elements("css selector", pressed)) == 2)
    desk.keys(Keys.ESCAPE)
    desk.click('[data-hear-band="3"]')
    wait_until(lambda: not driver.find_elements("css selector", pressed))

    ActionChains(driver).click(find(driver, '.bands [data-row="1"] .band-number')).perform()
    wait_until(lambda: len(driver.find_elements("css selector", ".bands tr.is-chosen")) == 1)
    crossovers = desk.settings("Room")["crossovers_hz"]
    desk.click('[data-do="join-bands"]')
    wait_until(lambda: desk.settings("Room")["crossovers_hz"] == crossovers[1:])
    assert [band["threshold_db"] for band in desk.settings("Room")["bands"]] == [
        after[0]["threshold_db"],
        after[2]["threshold_db"],
    ]


@pytest.mark.at("Singer", "deesser")
def test_the_deessers_band_is_moved_as_a_whole_and_heard_meanwhile(desk, driver):
    before = desk.settings("Singer")
    body = wait_for(driver, '[data-handle="body gain_db"]')
    driver.execute_script(
        "const plain = reins.live.listen; window.heard = [];"
        "reins.live.listen = function (to) { window.heard.push(to.what); return plain.call(this, to); }"
    )
    hand = ActionChains(driver, duration=40).click_and_hold(body).move_by_offset(-10, 0).move_by_offset(-10, 0)
    hand.perform()
    wait_until(lambda: driver.execute_script("return window.heard") == ["band"])
    ActionChains(driver).release().perform()
    wait_until(lambda: driver.execute_script("return window.heard") == ["band", "result"])
    wait_until(lambda: desk.settings("Singer")["low_hz"] < 0.95 * before["low_hz"])
    after = desk.settings("Singer")
    assert after["high_hz"] / after["low_hz"] == pytest.approx(before["high_hz"] / before["low_hz"], rel=1e-3)
    body.send_keys(Keys.ARROW_RIGHT * 3)
    wait_until(lambda: desk.settings("Singer")["low_hz"] > after["low_hz"])


@pytest.mark.at("Room", "multiband")
def test_a_drum_room_is_squeezed_by_leaning_one_line_over_what_was_found(desk, driver):
    desk.click('[data-do="tab-lean"]')
    step = desk.state()["step"]
    laid = [band["threshold_db"] for band in desk.settings("Room")["bands"]]
    desk.click('[data-do="find-bands"]')
    wait_until(lambda: desk.state()["step"] == step + 1)
    found = [band["threshold_db"] for band in desk.settings("Room")["bands"]]
    assert found != laid
    usual = "return reins.spectrum.model.bands?.['band3.gain_db']?.usual_db"
    before = wait_until(
        lambda: driver.execute_script(usual) and settled(driver) is None and driver.execute_script(usual)
    )

    desk.drag(wait_for(driver, '[data-handle="lean_highs_db"]'), 0, -40)
    wait_until(lambda: desk.settings("Room")["lean_highs_db"] > 3)
    wait_until(lambda: driver.execute_script(usual) < before - 1)  # more is held there
    assert [band["threshold_db"] for band in desk.settings("Room")["bands"]] == found
    shown = [row.text for row in driver.find_elements("css selector", ".control-group") if row.is_displayed()]
    assert any("Amount" in text for text in shown) and any("Mix" in text for text in shown)

    desk.click('[data-do="tab-bands"]')
    field = wait_for(driver, '.bands [data-setting="bands.0.threshold_db"]')
    wait_until(lambda: f"{found[0]:.1f}".replace("-", "−") in field.text)  # nothing is lost
