"""Reins through the real interface: by the beat, by a key, by hand; the key's way; drafts with names."""

from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy.signal import butter, sosfilt
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from reins.core.takes import Take
from tests.browser.driving import choose_option, find, settled, wait_for, wait_until
from tests.browser.test_whole_session import exported
from tests.reference.moving import beat_values, key_values


def add_rein(desk, kind):
    desk.click('[data-do="add"]')
    desk.click(f'[data-add-rein="{kind}"]')
    wait_for(desk.driver, ".rein-chip.is-selected")
    settled(desk.driver)


def reins(desk, name):
    return desk.track(name)["reins"]


def rein_of(desk, setting, kind):
    """From a setting to a new rein over it."""
    line = wait_for(desk.driver, f'.bench [data-setting="{setting}"] .control-line')
    ActionChains(desk.driver).move_to_element(line).perform()  # what shows on the way to it
    find(desk.driver, f'.bench [data-rein-of="{setting}"]').click()
    desk.click(f'[data-move="{kind}"]')
    wait_for(desk.driver, ".rein-chip.is-selected")


def take_of(desk, name):
    """The recording of a track as it is kept."""
    take = Take(Path(desk.server.data_dir) / "takes" / desk.track(name)["take_id"])
    return take.read(0, take.facts.frames)


def points_of(desk, name):
    return reins(desk, name)[0]["by"]["points"]


@pytest.mark.at("Harmonium", "level")
def test_the_harmonium_is_ducked_to_the_beat_by_a_drawn_curve(desk, driver, downloads):
    rein_of(desk, "gain_db", "beat")
    wait_until(
        lambda: (
            driver.execute_script("return document.querySelectorAll('.beat-hand .curve-point:not([hidden])').length")
            == 4
        )
    )
    choose_option(driver, '[data-do="shape"] option', lambda text: text == "bounce")
    wait_until(lambda: points_of(desk, "Harmonium") == [[0, 1, 0.55], [1, 0, 0]])

    shown = "return document.querySelectorAll('.beat-hand .curve-point:not([hidden])').length"
    wait_until(lambda: driver.execute_script(shown) == 2)
    hand = find(driver, ".beat-hand")
    ActionChains(driver).double_click(hand).perform()
    wait_until(lambda: len(points_of(desk, "Harmonium")) == 3)
    desk.drag(find(driver, '.beat-hand .curve-point[data-point="1"]'), 110, -40)
    wait_until(lambda: points_of(desk, "Harmonium")[1][0] > 0.5)
    at, value, _ = points_of(desk, "Harmonium")[1]
    assert round(at * 4) == at * 4 and value > 0.5  # on the grid of a sixteenth
    middle = driver.execute_script("""const [, a, b] = [0, 1, 2].map((k) => document.querySelector(`.beat-hand .curve-point[data-point="${k}"]`).getBoundingClientRect());
        const h = document.querySelector(".beat-hand").getBoundingClientRect();
        return [(a.x + b.x) / 2 + 6 - h.x - h.width / 2, (a.y + b.y) / 2 + 6 - h.y - h.height / 2];""")
    ActionChains(driver, duration=40).move_to_element_with_offset(
        hand, *map(int, middle)
    ).click_and_hold().move_by_offset(0, 15).move_by_offset(0, 15).release().perform()
    wait_until(lambda: points_of(desk, "Harmonium")[1][2] != 0)

    desk.type("to 0", "-20", ".rein-bench ")
    wait_until(lambda: reins(desk, "Harmonium")[0]["moves"][0]["to"] == -20)
    points = points_of(desk, "Harmonium")
    file = exported(desk, downloads, "strip", "Harmonium*.wav")
    moved, _ = soundfile.read(file, dtype="float64", always_2d=True)
    source = take_of(desk, "Harmonium")[:, :200000]
    ideal = source * 10 ** (
        -20.0 * beat_values(points, 200000, rate=48000, tempo=desk.state()["document"]["tempo_bpm"]) / 20
    )
    assert np.abs(moved.T[:, :200000] - ideal).max() < 10 ** (-90 / 20)

    steps = desk.state()["step"]
    desk.undo()
    wait_until(lambda: desk.state()["step"] == steps - 1)


@pytest.mark.at("Harmonium")
def test_a_curve_is_taken_from_another_track_over_the_folded_sound(desk, driver):
    add_rein(desk, "beat")
    alone = desk.picture(".beat-canvas")
    choose_option(driver, '[data-do="fold-key"] option', lambda text: text == "Kick")
    desk.redrawn(alone, selector=".beat-canvas")

    choose_option(driver, '[data-do="curve-from"] option', lambda text: text == "Hats")
    wait_until(lambda: len(points_of(desk, "Harmonium")) > 4)

    points = points_of(desk, "Harmonium")
    assert len(points) <= 16 and points[0][0] == 0 and points[-1][0] == 1 and max(p[1] for p in points) == 1


@pytest.mark.at("Harmonium", "level")
def test_the_kick_moves_three_settings_of_the_harmonium_at_once(desk, driver, downloads):
    desk.add("Harmonium", "filter")
    desk.click('.station[data-type="level"] .station-name')
    settled(driver)
    rein_of(desk, "gain_db", "key")
    wait_until(lambda: reins(desk, "Harmonium")[0]["by"]["key"]["source"] != "self")
    for words in ("Level: sides", "Filter: high cut"):
        choose_option(driver, '[data-do="also-move"] option', lambda text, words=words: text == words)
        wait_until(lambda words=words: words.split(": ")[1].split()[0] in str(reins(desk, "Harmonium")[0]["moves"]))
    settled(driver)

    desk.drag(wait_for(driver, ".rein-floor"), 0, -30)
    wait_until(lambda: reins(desk, "Harmonium")[0]["by"]["floor_db"] > -50)
    by = reins(desk, "Harmonium")[0]["by"]
    assert len(reins(desk, "Harmonium")[0]["moves"]) == 3
    assert "Kick" in desk.row("Harmonium", ".strip-reins").text

    # Of the gain alone: filter and width are taken away by hand, and the samples read.
    for what in ("sides", "high_cut"):
        desk.click(f'[data-remove-move*="{what}"]')
        wait_until(lambda what=what: what not in str(reins(desk, "Harmonium")[0]["moves"]))
    file = exported(desk, downloads, "strip", "Harmonium*.wav")
    moved, _ = soundfile.read(file, dtype="float64", always_2d=True)
    heard = take_of(desk, "Kick")[:, :200000]
    names = ("floor_db", "ceiling_db", "attack_ms", "hold_ms", "release_ms")
    value = key_values(heard, rate=48000, **{name: by[name] for name in names})
    ideal = take_of(desk, "Harmonium")[:, :200000] * 10 ** (reins(desk, "Harmonium")[0]["moves"][0]["to"] * value / 20)
    assert np.abs(moved.T[:, :200000] - ideal).max() < 10 ** (-90 / 20)


@pytest.mark.at("Harmonium", "filter")
def test_the_hats_open_a_filter_on_the_harmonium(desk, driver, downloads):
    desk.type("high_cut_hz", "400 Hz", ".bench ")
    wait_until(lambda: desk.settings("Harmonium")["high_cut_hz"] == 400)
    rein_of(desk, "high_cut_hz", "key")
    choose_option(driver, '.rein-bench [data-setting="key.source"] option', lambda text: text == "Hats")
    wait_until(lambda: reins(desk, "Harmonium")[0]["by"]["key"]["source"].startswith(desk.id_of("Hats")))
    assert "laid by what it follows" in desk.state()["undo"]
    desk.type("to 0", "12k", ".rein-bench ")
    wait_until(lambda: reins(desk, "Harmonium")[0]["moves"][0]["to"] == 12000)
    assert reins(desk, "Harmonium")[0]["moves"][0]["what"].endswith(".high_cut_hz")

    file = exported(desk, downloads, "strip", "Harmonium*.wav")
    by, frames = reins(desk, "Harmonium")[0]["by"], 400000
    names = ("floor_db", "ceiling_db", "attack_ms", "hold_ms", "release_ms")
    value = key_values(take_of(desk, "Hats")[:, :frames], rate=48000, **{name: by[name] for name in names})
    above = butter(4, 1500.0, "high", fs=48000, output="sos")
    moved = sosfilt(above, soundfile.read(file, dtype="float64", always_2d=True)[0].T[:, :frames])
    source = sosfilt(above, take_of(desk, "Harmonium")[:, :frames])

    def passed_db(where):
        """Of what lies above 1.5 kHz, how much comes through."""
        return 10 * np.log10(np.mean(moved[:, where] ** 2) / np.mean(source[:, where] ** 2))

    opened, shut = passed_db(value > 0.7), passed_db(value < 0.05)
    assert opened > -2.0 and shut < -15.0, (opened, shut)


@pytest.mark.at("Singer", "compressor")
def test_the_singers_fader_is_ridden_on_the_take(desk, driver):
    add_rein(desk, "line")
    hand = wait_for(driver, ".line-hand")
    for count, (x, y) in enumerate(((-200, 30), (0, -20), (150, 40)), 2):
        ActionChains(driver).move_to_element_with_offset(hand, x, y).click().perform()
        wait_until(lambda count=count: len(points_of(desk, "Singer")) == count)
    at = [point[0] for point in points_of(desk, "Singer")]
    assert at == sorted(at) and desk.track("Singer")["reins"][0]["moves"] == [{"what": "strip.fader_db", "to": None}]

    before = points_of(desk, "Singer")[2]
    desk.drag(find(driver, '.line-hand .curve-point[data-point="2"]'), 20, 30)
    wait_until(lambda: points_of(desk, "Singer")[2][1] < before[1] - 1)
    find(driver, '.line-hand .curve-point[data-point="1"]').send_keys(Keys.DELETE)
    wait_until(lambda: len(points_of(desk, "Singer")) == 3)
    desk.undo()
    wait_until(lambda: len(points_of(desk, "Singer")) == 4)

    desk.click('[data-do="play"]')
    ghost = "const g = document.querySelector('.strip.is-selected > .control .control-ghost'); return g && !g.hidden && g.style.left"
    first = wait_until(lambda: driver.execute_script(ghost))
    wait_until(lambda: driver.execute_script(ghost) not in (None, first))
    desk.click('[data-do="play"]')


@pytest.mark.at("Bass", "compressor")
def test_a_threshold_moves_and_one_click_leads_there_and_back_and_all_reins_are_listed(desk, driver):
    usual = desk.fact("held")
    rein_of(desk, "threshold_db", "line")
    ActionChains(driver).move_to_element_with_offset(wait_for(driver, ".line-hand"), 100, 60).click().perform()
    wait_until(lambda: len(points_of(desk, "Bass")) == 2)

    desk.click(".rein-what")
    wait_for(driver, '.station.is-selected[data-type="compressor"]')
    wait_until(lambda: desk.fact("held") not in ("", usual))
    driver.execute_script("document.querySelector('.bench .is-moved [data-rein-of=threshold_db]').click()")
    wait_for(driver, ".rein-chip.is-selected")

    desk.choose("Kick")
    desk.click('[data-do="add"]')
    desk.click('[data-add-rein="beat"]')
    wait_for(driver, ".rein-chip.is-selected")
    desk.click('[data-do="all-reins"]')
    wait_until(lambda: len(driver.find_elements("css selector", "[data-visit]")) == 2)
    driver.find_elements("css selector", "[data-visit]")[-1].click()
    wait_until(lambda: find(driver, ".take-head h2").text == "Bass")
    desk.click(".rein-chip.is-selected [title=Remove]")
    wait_until(lambda: reins(desk, "Bass") == [])


@pytest.mark.at("Harmonium")
def test_a_key_that_goes_with_its_track_is_asked_for_and_leaves_the_rein_off(desk, driver):
    add_rein(desk, "key")
    followed = reins(desk, "Harmonium")[0]["by"]["key"]["source"].split("/")[0]
    name = desk.state()["document"]["tracks"][followed]["name"]

    desk.choose(name)
    desk.click('[data-do="remove-track"]')
    assert "Harmonium" in wait_for(driver, "dialog[open]").text
    find(driver, 'dialog[open] [data-do="really-remove"]').click()
    wait_until(lambda: not reins(desk, "Harmonium")[0]["on"])
    desk.undo()
    wait_until(lambda: reins(desk, "Harmonium")[0]["on"])


@pytest.mark.at("Bass", "compressor")
def test_a_key_has_a_ready_curve_more_sounds_and_is_heard_while_its_control_is_in_the_hand(desk, driver):
    desk.click(".key-filter summary")
    choose_option(driver, '[data-do="key-curve"] option', lambda text: text == "voice")
    wait_until(lambda: desk.settings("Bass")["key"]["bell_db"] == 6)
    assert desk.settings("Bass")["key"]["low_cut_hz"] == 150

    desk.click(".bench-did h3")  # a click beside it closes what has opened
    desk.click('[data-do="add-source"]')
    wait_until(lambda: desk.settings("Bass")["key"]["also"] == [{"source": "before", "gain_db": 0}])
    choose_option(driver, ".source-row option", lambda text: text == "Kick, after its fader")
    wait_until(lambda: desk.settings("Bass")["key"]["also"][0]["source"].endswith("/fader"))

    desk.click('[data-do="play"]')
    wait_until(lambda: driver.execute_script("return reins.live.played > 12000"))
    line = wait_for(driver, '[data-setting="key.gain_db"] .control-line')
    hand = ActionChains(driver, duration=40).click_and_hold(line).move_by_offset(10, 0)
    hand.perform()
    wait_until(lambda: find(driver, '[data-hear="key"]').get_attribute("aria-checked") == "true")
    ActionChains(driver).release().perform()
    wait_until(lambda: find(driver, '[data-hear="result"]').get_attribute("aria-checked") == "true")
    desk.click('[data-do="latch-key"]')
    wait_until(lambda: find(driver, '[data-hear="key"]').get_attribute("aria-checked") == "true")
    desk.click('[data-do="play"]')
    desk.click('[data-hear="result"]')


@pytest.mark.at("Bass", "compressor")
def test_drafts_are_an_open_list_with_names(desk, driver):
    desk.click('[data-do="drafts"]')
    field = wait_for(driver, '[data-draft-name="1"]')
    field.send_keys("even")
    field.send_keys(Keys.TAB)
    wait_until(lambda: desk.track("Bass")["draft_name"] == "even")
    for number in (5, 6):
        desk.click('[data-do="new-draft"]')
        wait_until(lambda number=number: desk.track("Bass")["draft"] == number)
    wait_until(lambda: find(driver, '[data-draft="6"]'))
    desk.click('[data-compare-draft="1"]')
    wait_until(lambda: "They are equal." in find(driver, ".compared").text)
    desk.click('[data-remove-draft="5"]')
    wait_until(lambda: set(desk.track("Bass")["drafts"]) == {"1"})
