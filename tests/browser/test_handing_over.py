"""Bringing in and handing over as a person does it: marks on the ruler, parts, another take, pairs, a loudness target."""

import numpy as np
import pytest
import soundfile
from selenium.webdriver.common.keys import Keys

from tests.browser.driving import choose_option, find, settled, wait_for, wait_until

RATE = 48000


def flags(driver):
    return [flag.text for flag in driver.find_elements("css selector", ".place-flag")]


def put_mark(desk, seconds, name):
    desk.driver.execute_script("reins.live.seek(arguments[0])", int(seconds * RATE))
    before = len(desk.state()["document"]["places"])
    desk.keys("p")
    wait_until(lambda: len(desk.state()["document"]["places"]) == before + 1)
    desk.click('[data-do="marks"]')
    field = wait_for(desk.driver, f'[data-place-name^="Mark {before + 1}"]')
    field.clear()
    field.send_keys(name, Keys.TAB)
    wait_until(lambda: name in [place["name"] for place in desk.state()["document"]["places"]])
    desk.driver.switch_to.active_element.send_keys(Keys.ESCAPE)


@pytest.mark.at("Snare")
def test_marks_lie_on_the_ruler_and_one_press_loops_from_one_to_the_next(desk, driver):
    put_mark(desk, 2, "Verse")
    put_mark(desk, 6, "Chorus")
    wait_until(lambda: flags(driver) == ["Verse", "Chorus"])

    find(driver, ".place-flag").click()
    wait_until(
        lambda: (
            desk.state()["document"]["loop"]
            == {"on": True, "start_frame": 2 * RATE, "end_frame": 6 * RATE, "pause_s": 0.0}
        )
    )
    wait_until(lambda: driver.execute_script("return reins.live.position()") == 2 * RATE)
    assert driver.execute_script("return document.activeElement.textContent") == "Verse", "painting took the flag away"
    desk.drag(driver.find_elements("css selector", ".place-flag")[1], 60, 0)
    wait_until(lambda: desk.state()["document"]["places"][1]["at_frame"] > 6.2 * RATE)
    assert desk.state()["document"]["loop"]["end_frame"] == 6 * RATE

    wait_until(lambda: len(flags(driver)) == 2)
    driver.find_elements("css selector", ".place-flag")[1].send_keys(Keys.DELETE)
    wait_until(lambda: flags(driver) == ["Verse"])


def exported(desk, downloads, name):
    desk.click('[data-do="export-now"]')
    wait_until((downloads / name).exists)
    return soundfile.read(downloads / name)[0]


@pytest.mark.at("Snare")
def test_a_part_between_marks_is_exported_under_a_name_of_ones_own(desk, driver, downloads):
    put_mark(desk, 5, "Verse")
    put_mark(desk, 7, "Chorus")
    desk.click('[data-do="export"]')
    desk.click('input[value="strip"]')
    choose_option(driver, '[data-do="export-part"] option', lambda text: "Verse" in text)
    find(driver, '[data-do="export-names"]').send_keys("{name} verse only")

    sound = exported(desk, downloads, "Snare verse only.wav")
    assert len(sound) == 2 * RATE and np.abs(sound).max() > 0.01


def test_the_mix_is_brought_to_a_loudness_by_its_fader_only_when_asked(desk, driver):
    before = desk.state()["document"]["master"]["fader_db"]
    desk.click('[data-do="export"]')
    desk.click('input[value="mix"]')
    target = wait_for(driver, '[data-do="target"]')
    target.clear()
    target.send_keys("-20")
    desk.click('[data-do="measure-mix"]')
    wait_for(driver, ".measured")
    assert "LUFS" in find(driver, ".measured").text
    assert desk.state()["document"]["master"]["fader_db"] == before

    desk.click('[data-do="set-fader"]')
    wait_until(lambda: desk.state()["document"]["master"]["fader_db"] != before)
    assert -4.0 < desk.state()["document"]["master"]["fader_db"] < -0.5  # the demo's mix has 16 to 20 LUFS


@pytest.fixture
def keys(tmp_path):
    n = np.arange(2 * RATE)
    for name, hz in (("Keys L", 220), ("Keys R", 330)):
        soundfile.write(tmp_path / f"{name}.wav", 0.2 * np.sin(2 * np.pi * hz * n / RATE), RATE, subtype="PCM_24")
    return tmp_path


def test_two_sides_are_offered_as_one_track_and_a_take_is_replaced(desk, driver, keys):
    entry = find(driver, '.side-foot input[type="file"]')
    entry.send_keys("\n".join(str(keys / f"{name}.wav") for name in ("Keys L", "Keys R")))
    wait_until(lambda: "one stereo track?" in find(driver, ".side-chosen").text)
    assert "Guitar" not in find(driver, ".side-chosen").text  # what was there before is left alone
    desk.click('[data-do="join-pair"]')
    wait_until(lambda: any(t["name"] == "Keys" for t in desk.state()["document"]["tracks"].values()))
    names = [t["name"] for t in desk.state()["document"]["tracks"].values()]
    assert "Keys L" not in names and "Keys R" not in names
    wait_until(lambda: not find(driver, ".side-chosen").is_displayed())

    desk.add_compressor("Snare")
    before = desk.track("Snare")
    soundfile.write(keys / "other.wav", 0.1 * np.ones(RATE), 44100)
    find(driver, '[data-do="replace-take"]').send_keys(str(keys / "other.wav"))
    wait_until(lambda: desk.track("Snare")["take_id"] != before["take_id"])
    assert desk.track("Snare")["chain"] == before["chain"]
    wait_until(lambda: "44.1 kHz" in find(driver, '[data-note="told"]').text)
    settled(driver)
