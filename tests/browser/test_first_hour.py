"""The first hour of the guide is true: each of its steps is gone to by its link and done, and what it says is looked for."""

import re
from pathlib import Path

import pytest

from reins.services import guide
from tests.browser.driving import DEMO, choose_option, find, settled, wait_for, wait_until
from tests.browser.test_gates_and_keys import draw_rein

RATE = 48000
TEXT = (guide.FOLDER / "first_hour.md").read_text()
STEPS = re.split(r"\n## \d+\. ", TEXT)[1:]
LINKS = [re.search(r"\[Take me there\]\((/sessions/last-boat-home#\S+)\)", step)[1] for step in STEPS]


def figure(desk, name):
    return float(re.search(r"[−\d.]+(?= dB)", wait_until(lambda: desk.fact(name)))[0].replace("−", "-"))


@pytest.fixture
def go(desk, driver, server):
    def go(step):
        """Take the link of a step, counted from 1, as a person who comes from the guide does."""
        driver.get(f"{server.url}/api/points")  # a link to another place of the same page would not load it
        driver.get(server.url + LINKS[step - 1])
        wait_for(driver, ".take-canvas")
        settled(driver)
        strip, at = re.search(r"strip=(\w+)&at=(\d+)", LINKS[step - 1]).groups()
        wait_for(driver, f'.strip.is-selected[aria-label="{strip}"]')
        wait_until(lambda: driver.execute_script("return reins.live.frame") == int(at) * RATE)

    return go


def test_every_step_has_a_button_what_to_look_at_and_what_to_listen_for():
    assert len(STEPS) == 10 and all(link.startswith(DEMO) for link in LINKS)
    assert all("*Look at*" in step and "*Listen for*" in step for step in STEPS)
    pages = {path.stem for path in Path(guide.FOLDER).glob("*.md")}
    assert pages == {kind for _, part in guide.contents() for kind, _ in part}


def test_the_first_half_hour_holds_and_closes_as_it_says(desk, driver, go):
    go(1)
    desk.row("Snare", ".strip-solo").click()
    wait_until(lambda: desk.track("Snare")["solo"])
    desk.row("Snare", ".strip-solo").click()
    wait_until(lambda: not desk.track("Snare")["solo"])

    go(2)
    wait_for(driver, ".add-list")  # the link has opened it
    desk.click('[data-add="compressor"]')
    wait_for(driver, ".threshold-handle")
    assert figure(desk, "usual") < -0.5 and desk.red_share() > 0.001  # it does something at once

    laid = figure(desk, "usual")
    desk.type("threshold_db", str(desk.settings("Snare")["threshold_db"] - 12))
    wait_until(lambda: figure(desk, "usual") < laid - 1.0)
    assert desk.settings("Snare")["ratio"] == 4.0
    desk.undo()

    deepest = {}
    for attack in ("30", "1"):
        before = desk.picture()
        desk.type("attack_ms", attack)
        desk.redrawn(before)
        deepest[attack] = figure(desk, "deepest")
    assert deepest["1"] < deepest["30"] - 2.0  # at 1 ms hits are lowered from their beginning, at 30 it passes

    go(5)
    wait_for(driver, ".add-list")
    desk.click('[data-add="gate"]')
    wait_for(driver, '.station.is-selected[data-type="gate"]')
    choose_option(driver, '[data-do="points"] option', lambda text: text.startswith("Snare, only its own hits"))
    wait_until(lambda: desk.settings("Snare", 1)["range_db"] == 40.0)
    wait_until(lambda: int(desk.fact("openings").split(",")[0]) > 25)  # it is kept before its picture is asked for


def test_the_second_half_hour_yields_aims_and_hands_over_as_it_says(desk, driver, go):
    go(6)
    desk.add("Singer", "deesser")
    choose_option(driver, '[data-do="points"] option', lambda text: text.startswith("Voice, loud esses"))
    wait_until(lambda: desk.settings("Singer")["relative"])
    settled(driver)
    assert int(desk.fact("times")) > 10
    desk.keys("3")
    wait_until(lambda: find(driver, '[data-hear="difference"]').get_attribute("aria-checked") == "true")
    desk.keys("1")

    go(7)
    draw_rein(desk, "Kick", "Bass")
    wait_until(lambda: [entry["type"] for entry in desk.track("Bass")["chain"]] == ["ducker"])
    wait_until(lambda: "Kick" in desk.row("Bass", ".strip-reins").text)

    go(8)
    choose_option(driver, '[data-do="aim-choice"] option', "Hold the hits".__eq__)
    desk.click('[data-do="aim-find"]')
    wait_for(driver, '[data-do="aim-take"]')
    assert re.search(r"\d", find(driver, ".aim-why").text)
    desk.click('[data-do="aim-take"]')
    wait_until(lambda: len(desk.track("Kick")["chain"]) == 1)

    desk.add_compressor("Snare")
    go(9)
    assert wait_for(driver, ".blind-bench").is_displayed()
    desk.click('[data-do="blind"]')
    desk.click('[data-do="match"]')
    wait_until(
        lambda: "LU" in find(driver, '[data-do="match"]').text and "…" not in find(driver, '[data-do="match"]').text
    )

    go(10)
    wait_for(driver, "dialog[open] [data-do='measure-mix']")
    desk.click('input[value="mix"]')
    desk.click('[data-do="measure-mix"]')
    assert "LUFS" in wait_for(driver, ".measured").text


def test_the_book_is_searched_by_words_people_know_and_has_an_index(server, driver):
    driver.get(server.url + "/guide?words=zzzz")
    find(driver, ".guide-search input").clear()
    find(driver, ".guide-search input").send_keys("recovery\n")
    wait_until(lambda: "“recovery”: Release" in find(driver, ".guide-found").text)
    driver.find_element("link text", "All of the guide").click()
    assert "Threshold" in find(driver, ".guide-index").text
    find(driver, '.guide-contents a[href$="/guide/first_hour"]').click()
    assert wait_for(driver, "h1").text == "The first hour"
    driver.get(server.url + "/guide?words=zzzz")
    assert "Nothing in the guide" in find(driver, ".guide-found").text
