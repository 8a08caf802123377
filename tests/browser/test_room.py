"""Room for the picture: swapped, whole, the divider, the level axis; numbers of a list typed; what is seen and heard
of one processor among others.
"""

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.actions.wheel_input import ScrollOrigin
from selenium.webdriver.common.keys import Keys

from tests.browser.driving import find, settled, wait_for, wait_until


@pytest.fixture(autouse=True)
def room_as_it_came(desk, driver):
    yield
    driver.execute_script("localStorage.removeItem('reins-room')")


def size(driver, selector):
    return driver.execute_script(
        "const box = document.querySelector(arguments[0]).getBoundingClientRect(); return [box.width, box.height]",
        selector,
    )


def press(driver, key):
    ActionChains(driver).send_keys(key).perform()


@pytest.mark.at("Harmonium", "dynamic_eq")
def test_the_picture_of_bands_is_large_enough_and_the_table_whole(desk, driver):
    for count in range(1, 5):
        desk.click('[data-do="add-band"]')
        wait_until(lambda count=count: len(driver.find_elements("css selector", ".bands [data-remove-band]")) == count)
    settled(driver)

    assert size(driver, ".spectrum-canvas")[1] >= 220
    place = find(driver, ".bands-place")
    assert driver.execute_script("return arguments[0].scrollHeight <= arguments[0].clientHeight", place)


@pytest.mark.at("Bass", "compressor")
def test_a_key_and_a_click_swap_take_and_picture_and_it_stays_from_track_to_track(desk, driver):
    small = size(driver, ".curve-canvas")

    press(driver, "v")
    wait_until(lambda: size(driver, ".curve-canvas")[0] > 2 * small[0])
    settled(driver)
    canvas = "return document.querySelector('.curve-canvas').width"
    wait_until(lambda: driver.execute_script(canvas) > 2 * small[0])  # drawn anew, not stretched
    desk.choose("Harmonium")
    assert size(driver, ".bench-curve")[0] > 900 and find(driver, ".bench .take-canvas").is_displayed()
    desk.open()
    wait_until(lambda: size(driver, ".bench-curve")[0] > 900)
    find(driver, ".take [data-do=swap]").click()

    wait_until(lambda: size(driver, ".take-canvas")[0] > 900)
    desk.choose("Bass")
    assert size(driver, ".curve-canvas") == small


@pytest.mark.at("Harmonium", "filter")
def test_the_whole_takes_spectrum_leaves_the_pictures_where_they_are(desk, driver):
    before = size(driver, ".spectrum-canvas")

    desk.click("[data-do=whole-take]")

    wait_until(lambda: find(driver, "[data-do=whole-take]").get_attribute("aria-pressed") == "true")
    assert find(driver, ".bench-curve [data-do=whole]").get_attribute("aria-pressed") == "false"
    assert size(driver, ".spectrum-canvas") == before
    desk.click("[data-do=whole-take]")


@pytest.mark.at("Bass", "compressor")
def test_the_whole_side_is_given_to_one_picture_and_taken_back(desk, driver):
    before = size(driver, ".take-canvas")

    find(driver, ".bench-curve [data-do=whole]").click()
    wait_until(lambda: size(driver, ".curve-canvas")[1] > 500)
    assert not find(driver, ".bench").is_displayed() and find(driver, ".station").is_displayed()
    press(driver, "f")
    press(driver, "v")

    wait_until(lambda: size(driver, ".take-canvas") == before)
    press(driver, "f")
    wait_until(lambda: size(driver, ".take-canvas")[1] > 500)


@pytest.mark.at("Bass", "compressor")
def test_the_divider_is_dragged_stepped_and_remembered(desk, driver):
    divider = find(driver, ".divider")
    before = size(driver, ".take-canvas")[1]

    desk.drag(divider, 0, 80)
    wait_until(lambda: size(driver, ".take-canvas")[1] == pytest.approx(before + 80, abs=3))
    divider.send_keys(Keys.ARROW_DOWN)
    lower = wait_until(lambda: (h := size(driver, ".take-canvas")[1]) > before + 90 and h)
    desk.open()
    assert size(driver, ".take-canvas")[1] == lower
    divider = find(driver, ".divider")
    desk.drag(divider, 0, 40 - divider.location["y"])
    wait_until(lambda: size(driver, ".take")[1] == pytest.approx(140, abs=4))
    ActionChains(driver).double_click(find(driver, ".divider")).perform()

    wait_until(lambda: size(driver, ".take-canvas")[1] == before)


@pytest.mark.at("Bass", "compressor")
def test_the_level_axis_goes_down_to_what_is_quiet_and_what_is_held_is_magnified(desk, driver):
    hand = find(driver, ".take-hand")
    driver.execute_script("arguments[0].focus()", hand)
    levels = "return reins.view.model.levels"
    handle = find(driver, ".threshold-handle")
    before = handle.location["y"]

    hand.send_keys(Keys.ARROW_DOWN * 9)
    wait_until(lambda: driver.execute_script(levels)["floor"] == -100)
    assert handle.location["y"] < before  # the threshold stays on its level
    curve = "return document.querySelector('.curve-canvas').toDataURL()"
    deep = driver.execute_script(curve)
    hand.send_keys(Keys.SHIFT, Keys.ARROW_UP * 9)
    wait_until(lambda: driver.execute_script(levels)["held"] == 3)
    axis = ScrollOrigin.from_element(hand, -hand.size["width"] // 2 + 12, hand.size["height"] // 2 - 20)
    ActionChains(driver).scroll_from_origin(axis, 0, -120).perform()
    wait_until(lambda: driver.execute_script(levels)["floor"] == -94)
    assert driver.execute_script(curve) != deep  # the in-out picture goes with it
    desk.open()
    assert driver.execute_script(levels) == {"top": 0, "floor": -94, "held": 3}
    desk.choose("Bass")
    desk.drag(wait_for(driver, ".threshold-handle"), 0, 30)

    wait_until(lambda: desk.settings("Bass", len(desk.track("Bass")["chain"]) - 1)["threshold_db"] < -25)


@pytest.mark.at("Bass", "multiband")
def test_a_crossover_is_typed_and_put_back_like_any_other_number(desk, driver):
    place = len(desk.track("Bass")["chain"]) - 1

    desk.type("crossovers_hz.1", "3.2k")
    wait_until(lambda: desk.settings("Bass", place)["crossovers_hz"] == [200, 3200])
    desk.type("crossovers_hz.0", "3k")
    wait_until(lambda: "third of an octave" in find(driver, '[data-note="problem"]').text)

    assert desk.settings("Bass", place)["crossovers_hz"] == [200, 3200]
    desk.refused()


def test_the_second_processor_is_seen_on_what_it_hears_and_heard_by_itself(desk, driver):
    for _ in range(2):
        desk.add("Bass", "compressor")
    first, second = driver.find_elements("css selector", ".station-name")[-2:]
    first.click()
    settled(driver)
    desk.type("threshold_db", "-40")
    wait_until(lambda: desk.settings("Bass", -2)["threshold_db"] == -40)
    second.click()
    settled(driver)
    picture = "return reins.view.model.picture"

    seen = wait_until(lambda: (p := driver.execute_script(picture)) and p["before_db"] and p)
    loudest = max(range(len(seen["source_db"])), key=lambda k: seen["source_db"][k])
    assert seen["before_db"][loudest] < seen["source_db"][loudest] - 6  # the first holds that back
    assert seen["after_db"] is None  # it is the last: what it makes is the strip's result
    wait_until(lambda: desk.fact("strip-crest"))
    wait_until(lambda: desk.fact("crest") != desk.fact("strip-crest") and "dB" in desk.fact("quietest"))
    desk.type("makeup_db", "12")
    wait_until(lambda: desk.fact("quietest") == "+12.0 dB")

    reach = find(driver, '[data-do="reach"]')
    for word in ("Strip", "Processor"):
        reach.click()
        wait_until(lambda word=word: reach.text == word)
    desk.click('[data-hear="source"]')
    desk.click('[data-do="play"]')
    peak = """const b = reins.live.blocks.findLast((b) => b.meters && b.frame > 200000);
      return b ? [Math.max(...b.meters.master.peak_db), b.meters.strips[arguments[0]][2]] : null"""
    bass = next(k for k, t in desk.state()["document"]["tracks"].items() if t["name"] == "Bass")
    heard, strip = wait_until(lambda: driver.execute_script(peak, bass))
    desk.click('[data-do="play"]')
    assert heard < strip - 6  # what comes to it, before its makeup of 12 dB
    reach.click()
    desk.click('[data-hear="result"]')
