"""Comparing as a person does it: a spread, starting points one by one, a blind test by keys, by turns, overdone, worst."""

import re

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.driving import find, settled, wait_for, wait_until

HELD = "return reins.live.meters?.gains[document.querySelector('.station.is-selected').dataset.processor]"
INK = """const c = document.querySelector(arguments[0]); const d = c.getContext("2d").getImageData(0, 0, c.width, c.height).data;
let n = 0; for (let i = 3; i < d.length; i += 4) n += d[i] > 0; return n"""


def measured(driver, count):
    def all_there():
        figures = [tile.text for tile in driver.find_elements("css selector", ".tiles .tile-figures")]
        return figures if len(figures) == count and all("deepest" in text for text in figures) else None

    return wait_until(all_there)


def pressed(driver):
    return [
        int(tile.get_attribute("data-tile"))
        for tile in driver.find_elements("css selector", '.tile[aria-pressed="true"]')
    ]


def playing(driver):
    return driver.execute_script("return reins.live.playing && reins.live.meters !== null")


@pytest.mark.at("Snare", "compressor")
def test_nine_of_attack_and_release_are_seen_heard_by_keys_and_one_is_kept(desk, driver):
    before, step = desk.settings("Snare"), desk.state()["step"]
    there = desk.picture()
    desk.click('[data-do="spread"]')
    figures = measured(driver, 9)
    assert len(set(figures)) == 9
    assert all(driver.execute_script(INK, f'[data-tile="{k}"] canvas') > 500 for k in range(-1, 9))
    assert desk.settings("Snare") == before and pressed(driver) == [-1]

    desk.keys("3")
    shown = desk.redrawn(there)
    assert pressed(driver) == [2] and "not kept" in find(driver, ".take-note").text
    desk.keys(Keys.ARROW_DOWN)
    desk.redrawn(there, shown)
    assert pressed(driver) == [5]
    desk.keys("0")
    wait_until(lambda: pressed(driver) == [-1])
    desk.redrawn(shown)
    desk.keys("6")
    words = find(driver, '[data-tile="5"] .tile-name').text
    desk.keys(Keys.ENTER)
    wait_until(lambda: desk.state()["step"] == step + 1)
    attack, release = (float(v) for v in re.findall(r"([\d.]+) ms", words))
    assert (desk.settings("Snare")["attack_ms"], desk.settings("Snare")["release_ms"]) == (attack, release)
    wait_for(driver, ".bench-controls")


@pytest.mark.at("Snare", "compressor")
def test_a_spread_takes_a_range_narrows_and_leaves_nothing_behind(desk, driver):
    step, there = desk.state()["step"], desk.picture()
    desk.click('[data-do="spread"]')
    measured(driver, 9)
    find(driver, '[data-do="spread-axis-1"] option[value=""]').click()
    find(driver, '[data-do="spread-axis-0"] option[value="threshold_db"]').click()
    wait_until(lambda: len({*measured(driver, 9)}) > 3)
    field = find(driver, '[data-do="spread-range-0"]')
    driver.execute_script("arguments[0].value = ''", field)
    field.send_keys("-40 … -20 dB\n")
    wait_until(lambda: "−40.0 dB" in find(driver, '[data-tile="0"] .tile-name').text)
    measured(driver, 9)
    desk.click('[data-tile="4"]')
    desk.click('[data-do="spread-narrow"]')
    wait_until(lambda: "−32.5 dB" in find(driver, '[data-tile="0"] .tile-name').text)
    driver.execute_script("arguments[0].value = ''", field)
    field.send_keys("tuba\n")
    wait_until(lambda: "Allowed" in find(driver, ".spread-said").text)
    driver.execute_script("document.activeElement.blur()")
    desk.keys(Keys.ESCAPE)
    wait_for(driver, ".bench-controls")
    wait_until(lambda: desk.picture() == there)
    assert desk.state()["step"] == step


@pytest.mark.at("Kick", "compressor")
def test_starting_points_are_walked_while_it_plays_equally_loud_and_one_is_kept_as_one_step(desk, driver):
    step = desk.state()["step"]
    desk.click('[data-do="try-points"]')
    wait_until(lambda: len(driver.find_elements("css selector", ".tiles .tile")) >= 8)
    measured(driver, len(driver.find_elements("css selector", ".tiles .tile")))
    desk.click('[data-do="play"]')
    wait_until(lambda: playing(driver))
    desk.keys("1", Keys.ARROW_RIGHT)
    wait_until(lambda: pressed(driver) == [1])
    desk.keys("4")
    name = find(driver, '[data-tile="3"] .tile-name').text.split(maxsplit=1)[1]
    wait_until(lambda: (driver.execute_script(HELD) or 0) < -1)
    assert desk.state()["step"] == step and playing(driver)
    desk.keys(Keys.ENTER)
    wait_until(lambda: desk.state()["step"] == step + 1)
    assert f"from “{name}”" in desk.state()["undo"]


def hold_the_snare(desk):
    desk.add_compressor("Snare")
    desk.type("threshold_db", "-35 dB")
    wait_until(lambda: desk.settings("Snare")["threshold_db"] == -35)


def test_a_blind_test_by_keys_alone_is_told_at_its_end_and_kept(desk, driver):
    hold_the_snare(desk)
    desk.click('[data-do="blind"]')
    desk.click('[data-do="blind-start"]')
    wait_for(driver, '[data-blind="x"]')
    wait_until(lambda: playing(driver))
    wait_until(lambda: driver.execute_script("return Object.keys(reins.live.meters?.gains ?? {a: 1}).length") == 0)
    for turn in range(5):
        desk.keys("1", "2", "3")
        wait_until(lambda: find(driver, '[data-blind="x"]').get_attribute("aria-pressed") == "true")
        desk.keys(Keys.ARROW_LEFT if turn % 2 else Keys.ARROW_RIGHT)
        wait_until(lambda turn=turn: find(driver, ".blind-asks").text == f"Round {turn + 2}")
        assert "right" not in driver.title and desk.state()["document"]["judged"] == []
    desk.keys("b", Keys.ENTER)  # what could tell is not to be had
    said = wait_for(driver, ".blind-result").text
    assert "of 5 right" in said and "LU" in said
    kept = desk.state()["document"]["judged"][0]
    assert kept["rounds"] == 5 and kept["strip"] == "Snare" and kept["said"] in said
    assert desk.track("Snare")["chain"][0]["on"]
    wait_until(lambda: (driver.execute_script(HELD) or 0) < -0.5)  # meters tell again
    desk.click('[data-do="blind-leave"]')


def test_a_lost_connection_breaks_a_blind_test_off_and_says_so(desk, driver):
    hold_the_snare(desk)
    desk.click('[data-do="blind"]')
    desk.click('[data-do="blind-start"]')
    wait_for(driver, '[data-blind="x"]')
    wait_until(lambda: playing(driver))
    desk.loses_server()
    desk.server.kill()
    wait_until(lambda: find(driver, ".head-kept").text == "connection lost")
    desk.server.start()
    wait_until(lambda: "nothing was kept" in find(driver, ".blind-bench").text)
    wait_until(lambda: not find(driver, ".blind-round").is_displayed())
    wait_until(lambda: (driver.execute_script(HELD) or 0) < -0.5)  # all is heard, and told, as it is
    assert desk.state()["document"]["judged"] == []
    desk.click('[data-do="blind-leave"]')
    desk.refused()  # its end is of a test that the server, begun anew, does not know


def test_by_turns_and_overdone_are_heard_and_not_kept(desk, driver):
    hold_the_snare(desk)
    step = desk.state()["step"]
    desk.click('[data-do="play"]')
    deepest = lambda: driver.execute_script(HELD)  # noqa: E731
    wait_until(lambda: (deepest() or 0) < -3)
    every = find(driver, '[data-do="turns-every"]')
    driver.execute_script("arguments[0].value = ''", every)
    every.send_keys("1 s\n")
    driver.execute_script("document.activeElement.blur()")
    desk.keys("y")
    wait_until(lambda: "away" in find(driver, '[data-do="turns"]').text)
    wait_until(lambda: deepest() is None)  # passed by: no gain is told
    wait_until(lambda: "there" in find(driver, '[data-do="turns"]').text)
    wait_until(lambda: (deepest() or 0) < -3)
    desk.keys("y")

    lowest = "const now = " + HELD.removeprefix("return ") + "; return window.low = Math.min(window.low ?? 0, now ?? 0)"
    wait_until(lambda: driver.execute_script(lowest) < -6)
    plain = driver.execute_script("const low = window.low; window.low = 0; return low")
    ActionChains(driver).key_down("o").perform()
    wait_until(lambda: driver.execute_script(lowest) < 1.5 * plain)
    ActionChains(driver).key_up("o").perform()
    wait_until(lambda: find(driver, '[data-do="overdone"]').get_attribute("aria-pressed") == "false")
    lu = wait_until(lambda: find(driver, ".station.is-selected .station-lu").text)
    assert re.fullmatch(r"[−+]\d+\.\d LU", lu)
    assert desk.state()["step"] == step and desk.track("Snare")["chain"][0]["on"]


@pytest.mark.at("Kick", "compressor")
def test_the_worst_places_are_stepped_through(desk, driver):
    settled(driver)
    desk.keys("n")
    first = wait_until(lambda: find(driver, ".why-note").text)
    assert "held" in first and "1 of" in first
    wait_until(lambda: driver.execute_script("return reins.live.playing"))
    wait_until(lambda: not driver.execute_script("return reins.live.playing"))
    desk.keys("n")
    wait_until(lambda: "2 of" in find(driver, ".why-note").text)
    find(driver, '[data-do="worst-kind"] option[value="restless"]').click()
    driver.execute_script("document.activeElement.blur()")
    desk.keys("n")
    wait_until(lambda: "up and down" in find(driver, ".why-note").text)
    desk.click('[data-do="play"]')


@pytest.mark.at("Snare", "compressor")
def test_makeup_follows_the_threshold_and_is_a_plain_number_again(desk, driver):
    desk.click('[data-do="follow-makeup"]')
    wait_until(lambda: find(driver, '[data-do="follow-makeup"]').get_attribute("aria-pressed") == "true")
    settled(driver)
    step, before = desk.state()["step"], desk.settings("Snare")["makeup_db"]
    bead = find(driver, '[data-setting="threshold_db"] .control-bead')
    desk.drag(bead, -35, 0)
    wait_until(lambda: desk.state()["step"] == step + 1)
    settings = desk.settings("Snare")
    assert settings["makeup_db"] > before + 0.5
    settled(driver)
    come, gone = (float(v.replace("−", "-")) for v in desk.fact("loudness").split("→"))
    assert gone == pytest.approx(come, abs=0.3)
    desk.type("makeup_db", "1")
    wait_until(
        lambda: find(driver, '[data-do="follow-makeup"]').get_attribute("aria-pressed") == "false"
    )  # by hand again
    desk.add("Snare", "gate")
    assert not driver.find_elements("css selector", '[data-do="follow-makeup"]')  # it is meant to make quieter


@pytest.mark.at("Snare", "compressor")
def test_with_match_a_draft_and_bypass_are_as_loud(desk, driver):
    desk.type("output_db", "-9 dB")
    wait_until(lambda: desk.settings("Snare")["output_db"] == -9)
    desk.click('[data-do="match"]')
    desk.click('[data-do="play"]')
    snare = next(k for k, t in desk.state()["document"]["tracks"].items() if t["name"] == "Snare")
    peak = lambda: driver.execute_script("return reins.live.meters?.strips[arguments[0]]?.[2] ?? -99", snare)  # noqa: E731
    wait_until(lambda: peak() > -40)
    loud = max(peak() for _ in range(60))
    driver.execute_script("document.activeElement.blur()")
    wait_until(
        lambda: "LU" in find(driver, '[data-do="match"]').text and "…" not in find(driver, '[data-do="match"]').text
    )
    settled(driver)
    desk.keys("b")  # 9 dB louder, were it not matched
    wait_until(lambda: not desk.track("Snare")["chain"][0]["on"])
    assert max(peak() for _ in range(60)) < loud + 7
    desk.click('[data-do="match"]')
    wait_until(lambda: peak() > loud + 7)
    desk.click('[data-do="play"]')
