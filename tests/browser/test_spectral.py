"""Fine bands, make room and a curve, as a person uses them: chosen, typed, exported and measured."""

import numpy as np
import pytest
import scipy.signal
import soundfile
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from tests.browser.driving import choose_option, find, settled, wait_for, wait_until
from tests.browser.test_reins import take_of
from tests.browser.test_whole_session import exported


def band_db(sound, low_hz, high_hz, begin_s, end_s):
    sections = scipy.signal.butter(6, [low_hz, high_hz], "bandpass", fs=48000, output="sos")
    part = scipy.signal.sosfiltfilt(sections, sound)[round(begin_s * 48000) : round(end_s * 48000)]
    return 10 * np.log10(np.mean(part**2))


@pytest.mark.at("Guitar L", "make_room")
def test_the_guitar_gives_way_to_the_singer_only_where_and_while_she_sings(desk, driver, downloads):
    choose_option(driver, '[data-do="points"] option', lambda text: text.startswith("Guitars under a voice"))
    wait_until(lambda: desk.settings("Guitar L")["from_hz"] == 1000)
    assert "follows nobody yet" in wait_for(driver, ".bench-offer").text
    choose_option(driver, '[data-do="follow"] option', "Singer".__eq__)  # who is asked for first of all
    wait_until(lambda: desk.settings("Guitar L")["key"]["source"].endswith("/after"))
    wait_until(lambda: not find(driver, '[data-do="follow"]').is_displayed())
    wait_until(lambda: desk.fact("held"))

    made, _ = soundfile.read(exported(desk, downloads, "strip", "Guitar L*.wav"), dtype="float64")
    made = made if made.ndim == 1 else made.mean(axis=1)
    source = take_of(desk, "Guitar L")[0]
    changes = {
        span: band_db(made, 2000, 4000, *span) - band_db(source, 2000, 4000, *span) for span in ((4, 16), (18.2, 19.8))
    }
    lows = band_db(made, 150, 500, 4, 16) - band_db(source, 150, 500, 4, 16)
    level = changes[18.2, 19.8]  # what fader and pan do to all of it
    assert changes[4, 16] < level - 4 and abs(lows - level) < 0.3


@pytest.mark.at("Hats", "fine_bands")
def test_a_threshold_is_drawn_by_typing_points_and_a_wrong_one_says_what_is_allowed(desk, driver):
    there = desk.picture()
    field = find(driver, '[data-setting="threshold_points"] input')

    def typed(text):
        driver.execute_script("arguments[0].value = ''", field)
        field.send_keys(text + "\n")

    typed("2k -50, 8k -66 dB")
    wait_until(lambda: desk.settings("Hats")["threshold_points"] == [[2000, -50, 0], [8000, -66, 0]])
    desk.redrawn(there)
    typed("2k")
    assert "frequency and a level" in wait_for(driver, '[data-setting="threshold_points"] .control-error').text
    assert len(desk.settings("Hats")["threshold_points"]) == 2
    choose_option(driver, '[data-setting="window"] option', "4096".__eq__)
    wait_until(lambda: desk.settings("Hats")["window"] == 4096)


@pytest.mark.at("Singer", "curve")
def test_a_curve_is_seen_over_the_levels_and_moved_by_its_points(desk, driver):
    settled(driver)
    before = desk.picture(".curve-canvas")
    field = find(driver, '[data-setting="points"] input')
    driver.execute_script("arguments[0].value = ''", field)
    field.send_keys("-60 -60, -30 -24, 0 -12\n")
    wait_until(lambda: [p[:2] for p in desk.settings("Singer")["points"]] == [[-60, -60], [-30, -24], [0, -12]])
    desk.redrawn(before, selector=".curve-canvas")


AMBER = """const c = document.querySelector(arguments[0]);
    const d = c.getContext("2d").getImageData(0, 0, c.width, c.height).data;
    let n = 0;
    for (let i = 0; i < d.length; i += 4) if (d[i + 3] > 150 && d[i] > 140 && d[i + 2] < 90 && d[i + 1] > 80) n++;
    return n / (d.length / 4);"""


@pytest.mark.at("Guitar L")
def test_where_two_fight_is_said_and_one_click_makes_room_there(desk, driver):
    choose_option(driver, '[data-do="beside"] option', "Singer".__eq__)
    step = desk.state()["step"]
    desk.click('[data-do="fight"]')
    said = wait_until(
        lambda: [row.text for row in driver.find_elements("css selector", ".fights li") if "of the time" in row.text]
    )
    assert len(said) == 3 and all("Guitar L" in one and "Singer" in one for one in said)
    desk.click('[data-do="fight-map"]')
    desk.redrawn("")
    assert driver.execute_script(AMBER, ".take-canvas") > 0.02
    desk.click('[data-do="fight-room"]')
    wait_until(lambda: desk.state()["step"] != step)
    (made,) = desk.track("Guitar L")["chain"]
    singer = next(k for k, t in desk.state()["document"]["tracks"].items() if t["name"] == "Singer")
    assert made["type"] == "make_room" and made["settings"]["key"]["source"] == f"{singer}/after"
    assert made["settings"]["from_hz"] < made["settings"]["to_hz"]


def point(driver, index, scope):
    return wait_for(driver, f'{scope} [data-point="{index}"]')


def add_point(driver, ground, dx, dy, added):
    """Double click beside the points until it is taken for one: on a busy machine two clicks may lie too far apart. Once
    there, it is on a point, and adds none.
    """

    def clicked():
        ActionChains(driver).move_to_element_with_offset(find(driver, ground), dx, dy).double_click().perform()
        return added()

    wait_until(clicked)


@pytest.mark.at("Hats", "fine_bands")
def test_the_threshold_is_drawn_across_the_spectrum_and_the_map_shows_what_was_held(desk, driver):
    desk.drag(point(driver, 0, ".spectrum"), 40, -20)
    wait_until(lambda: desk.settings("Hats")["threshold_points"][0][0] > 1300)
    (at, level, _) = desk.settings("Hats")["threshold_points"][0]
    assert -40 < level < -30

    # A double click beside the point adds one where it is, arrows move it, Delete takes it away.
    add_point(driver, ".spectrum-hand", 80, 60, lambda: len(desk.settings("Hats")["threshold_points"]) == 2)
    second = desk.settings("Hats")["threshold_points"][1]
    assert second[0] > at
    point(driver, 1, ".spectrum").send_keys(Keys.ARROW_UP)
    wait_until(lambda: desk.settings("Hats")["threshold_points"][1] == [second[0], second[1] + 1, 0])
    assert "dB" in point(driver, 1, ".spectrum").get_attribute("aria-label")
    point(driver, 1, ".spectrum").send_keys(Keys.DELETE)
    wait_until(lambda: desk.settings("Hats")["threshold_points"] == [[at, level, 0]])

    desk.click('[data-do="map"]')
    wait_until(lambda: driver.execute_script("return reins.view.model.map?.tiles.length >= 4"))
    held = desk.red_share(".take-canvas")
    desk.type("threshold_db", "-40 dB")
    wait_until(lambda: desk.settings("Hats")["threshold_db"] == -40)
    wait_until(lambda: desk.red_share(".take-canvas") > held + 0.02)


@pytest.mark.at("Singer", "curve")
def test_a_curves_points_are_dragged_over_the_histogram_and_what_comes_out_follows(desk, driver, downloads):
    desk.drag(point(driver, 2, ".curve-place"), 0, 60)
    wait_until(lambda: desk.settings("Singer")["points"][2][1] < -10)
    add_point(driver, ".curve-points", -20, 40, lambda: len(desk.settings("Singer")["points"]) == 4)
    points = desk.settings("Singer")["points"]
    assert len(driver.find_elements("css selector", ".curve-place [data-point]")) == 4  # shown at once
    assert [p[0] for p in points] == sorted(p[0] for p in points)
    point(driver, 1, ".curve-place").send_keys(Keys.DELETE)
    wait_until(lambda: len(desk.settings("Singer")["points"]) == 3)
    point(driver, 2, ".curve-place").send_keys(Keys.ARROW_DOWN * 6)
    wait_until(lambda: desk.settings("Singer")["points"][2][1] == points[3][1] - 6)
    wait_until(lambda: desk.fact("deepest"))

    made, _ = soundfile.read(exported(desk, downloads, "strip", "Singer*.wav"), dtype="float64")
    source = take_of(desk, "Singer")[0]
    settings = desk.settings("Singer")
    entry = parse_entry({"type": "curve", "settings": settings}, "x")
    own = Chain([entry], channels=1, sample_rate=48000).process(source[None])[0]
    made = made if made.ndim == 1 else made.mean(axis=1)
    made, own = (sound[48000 * 2 : 48000 * 12] for sound in (made, own))
    assert np.abs(made / np.abs(made).max() - own / np.abs(own).max()).max() < 1e-3  # but for fader and pan
