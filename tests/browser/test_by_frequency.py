"""By frequency, as a person works: bands on the spectrum and in the table, the map, esses, booms and crossovers."""

import numpy as np
import pytest
import scipy.signal
import soundfile
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from reins.demo import strings, voices
from tests.browser.driving import choose_option, find, settled, wait_for, wait_until
from tests.browser.test_gates_and_keys import start_from
from tests.browser.test_whole_session import exported
from tests.core.test_by_frequency import note_level
from tests.reference.by_frequency import level_db
from tests.shorter import shorter, within

RATE = 48000


def handle(desk, name):
    return wait_for(desk.driver, f'[data-handle="{name}"]')


def on_spectrum(desk, hz, gain=0.0):
    """Offsets in pixels from the middle of the spectrum of a frequency and a gain."""
    x, y, width, height = desk.driver.execute_script(
        "const p = reins.spectrum.place; const c = reins.spectrum.canvas;"
        "return [p.x(arguments[0]), p.gainY(arguments[1]), c.clientWidth, c.clientHeight]", hz, gain,
    )  # fmt: skip
    return round(x - width / 2), round(y - height / 2)


def bands(desk, name, index=0):
    return desk.settings(name, index)["bands"]


def cell(desk, row, setting, text):
    desk.type(setting, text, scope=f'.bands [data-row="{row}"] ')


def choose(desk, row, setting, word):
    choose_option(desk.driver, f'.bands [data-row="{row}"] select[data-setting="{setting}"] option', word.__eq__)


def deepest_db(desk, fact):
    """The second figure of "usual / deepest / mean" as it is shown."""
    return float(desk.fact(fact).split(" / ")[1].replace("−", "-"))


def add_to_master(desk, kind):
    """Behind the limiter that is there from the beginning."""
    desk.choose("Master")
    desk.click('[data-do="add"]')
    desk.click(f'[data-add="{kind}"]')
    wait_until(lambda: len(desk.state()["document"]["master"]["chain"]) == 2)


@pytest.fixture
def eq(desk):
    """A dynamic EQ alone on the bass."""
    desk.add("Bass", "dynamic_eq")
    return desk


def test_a_band_is_put_on_the_boom_and_pulls_it_down_only_when_it_booms(eq, driver, downloads):
    desk = eq
    hand = find(driver, ".spectrum-hand")
    ActionChains(driver).move_to_element_with_offset(hand, *on_spectrum(desk, 43.65)).double_click().perform()
    wait_until(lambda: len(bands(desk, "Bass")) == 1)
    assert bands(desk, "Bass")[0]["freq_hz"] == pytest.approx(43.65, rel=0.03)

    cell(desk, "1", "bands.0.freq_hz", "43.7")
    wait_until(lambda: bands(desk, "Bass")[0]["freq_hz"] == 43.7)
    choose(desk, "1", "bands.0.motion", "compress")
    for setting, text, value in (
        ("q", "4", 4),
        ("threshold_db", "-17 dB", -17),
        ("ratio", "12", 12),
        ("attack_ms", "4 ms", 4),
    ):
        cell(desk, "1", f"bands.0.{setting}", text)
        wait_until(lambda setting=setting, value=value: bands(desk, "Bass")[0][setting] == value)
    settled(driver)
    wait_until(lambda: deepest_db(desk, "band1.gain_db") < -6)
    file = exported(desk, downloads, "strip", "Bass*.wav")

    before, after = shorter(strings.make_bass()), soundfile.read(file)[0].T
    after = np.atleast_2d(after)[:1] * (np.abs(before).max() / np.abs(before).max())
    for at, length, midi in within(strings.bass_notes()):
        if length > 0.3 and midi == strings.BOOM_MIDI:
            boom = note_level(after, at, midi) - note_level(before, at, midi)
        elif length > 0.3:
            other = note_level(after, at, midi) - note_level(before, at, midi)
    assert boom < -6
    assert abs(other) < 0.5


def test_a_peg_is_dragged_turned_and_given_reach(eq, driver):
    desk = eq
    desk.click('[data-do="add-band"]')
    wait_until(lambda: len(bands(desk, "Bass")) == 1)
    steps = desk.state()["step"]

    desk.drag(handle(desk, "bands.0"), 60, -20)
    wait_until(lambda: bands(desk, "Bass")[0]["freq_hz"] > 1500)
    band = bands(desk, "Bass")[0]
    assert band["gain_db"] > 3
    assert desk.state()["step"] == steps + 1

    desk.drag(handle(desk, "bands.0"), 60, 0, shift=True)
    wait_until(lambda: bands(desk, "Bass")[0]["freq_hz"] != band["freq_hz"])
    assert bands(desk, "Bass")[0]["freq_hz"] / band["freq_hz"] < 1.15

    driver.execute_script(
        "arguments[0].dispatchEvent(new WheelEvent('wheel', {deltaY: -100, bubbles: true, cancelable: true}))",
        handle(desk, "bands.0"),
    )
    wait_until(lambda: bands(desk, "Bass")[0]["q"] > 1)

    pull = handle(desk, "pull")  # from rest: the way it is pulled, as far, from where its region sounds
    assert "is still: pull" in pull.get_attribute("aria-label")
    desk.drag(pull, 0, 60)
    wait_until(lambda: bands(desk, "Bass")[0]["motion"] == "compress")
    held = bands(desk, "Bass")[0]
    assert held["range_db"] > 3 and held["threshold_db"] != -30.0
    assert "laid by what is there" in desk.state()["undo"]
    desk.undo()
    wait_until(lambda: "is still" in handle(desk, "pull").get_attribute("aria-label"))
    desk.drag(handle(desk, "pull"), 0, -60)
    wait_until(lambda: bands(desk, "Bass")[0]["motion"] == "expand")
    reach = bands(desk, "Bass")[0]["range_db"]
    peg = handle(desk, "bands.0")
    ActionChains(driver, duration=40).key_down(Keys.ALT).click_and_hold(peg).move_by_offset(0, -15).release().key_up(
        Keys.ALT
    ).perform()
    wait_until(lambda: bands(desk, "Bass")[0]["range_db"] > reach + 1)
    assert bands(desk, "Bass")[0]["gain_db"] == pytest.approx(band["gain_db"], abs=0.5)

    gain = bands(desk, "Bass")[0]["gain_db"]
    peg.send_keys(Keys.ARROW_UP)
    wait_until(lambda: bands(desk, "Bass")[0]["gain_db"] > gain)


def test_a_band_follows_another_track_whose_key_is_filtered_heard_and_seen(eq, driver):
    desk = eq
    desk.click('[data-do="add-band"]')
    wait_until(lambda: len(bands(desk, "Bass")) == 1)
    choose(desk, "1", "bands.0.motion", "compress")
    wait_until(lambda: bands(desk, "Bass")[0]["motion"] == "compress")
    desk.click('[data-do="tab-keys"]')
    choose(desk, "1", "bands.0.key.source", "Hats")
    wait_until(lambda: bands(desk, "Bass")[0]["key"]["source"].endswith("/after"))
    wait_until(lambda: "Hats" in desk.row("Bass", ".strip-reins").text)
    desk.click('[data-seen="key"]')
    key_at = "const {hz, shown} = reins.spectrum.model; return shown.key?.[hz.findIndex((f) => f > arguments[0])]"
    plain = wait_until(lambda: driver.execute_script(key_at, 8000))
    assert plain > driver.execute_script(key_at, 100) + 10  # hats, not bass

    cell(desk, "1", "bands.0.key.gain_db", "-24")
    cell(desk, "1", "bands.0.key.low_cut_hz", "1k")
    wait_until(lambda: bands(desk, "Bass")[0]["key"]["low_cut_hz"] == 1000)
    assert bands(desk, "Bass")[0]["key"]["gain_db"] == -24
    wait_until(lambda: driver.execute_script(key_at, 8000) == pytest.approx(plain - 24, abs=0.3))

    desk.click('[data-hear="key"]')
    driver.execute_script("reins.live.seek(48000 * 12)")
    desk.click('[data-do="play"]')
    peak = "return Math.max(...(reins.live.meters?.master.hold_db ?? [-200]))"
    wait_until(lambda: driver.execute_script("return reins.live.played > 48000"))
    assert -60 < driver.execute_script(peak) < -26  # hats, cut and turned down, not the mix
    desk.click('[data-do="play"]')
    desk.click('[data-hear="result"]')
    desk.click('[data-do="tab-bands"]')


def test_several_pegs_move_together_and_are_sorted(eq, driver):
    desk = eq
    for _ in range(2):
        before = len(bands(desk, "Bass"))
        desk.click('[data-do="add-band"]')
        wait_until(lambda before=before: len(bands(desk, "Bass")) == before + 1)
    cell(desk, "2", "bands.1.freq_hz", "250")
    cell(desk, "2", "bands.1.gain_db", "-6")
    wait_until(lambda: bands(desk, "Bass")[1]["gain_db"] == -6)

    hand = find(driver, ".spectrum-hand")
    start, end = on_spectrum(desk, 120, 12), on_spectrum(desk, 2500, -12)
    away = (end[0] - start[0], end[1] - start[1])
    ActionChains(driver, duration=40).move_to_element_with_offset(hand, *start).click_and_hold().move_by_offset(
        *away
    ).release().perform()
    wait_until(lambda: len(driver.find_elements("css selector", ".peg.is-chosen")) == 2)
    desk.drag(handle(desk, "bands.0"), 50, 10)
    wait_until(lambda: bands(desk, "Bass")[0]["freq_hz"] > 1300)

    one, other = bands(desk, "Bass")
    assert one["freq_hz"] / other["freq_hz"] == pytest.approx(4, rel=0.02)
    assert one["gain_db"] - other["gain_db"] == pytest.approx(6, abs=0.3)

    desk.click('[data-do="sort-bands"]')
    wait_until(lambda: bands(desk, "Bass")[0]["freq_hz"] < bands(desk, "Bass")[1]["freq_hz"])
    desk.click('[data-do="serial"]')
    wait_until(lambda: desk.settings("Bass")["topology"] == "serial")


def test_the_spectrum_is_read_and_another_laid_over_it(eq, driver):
    desk = eq
    wait_until(lambda: driver.execute_script("return Boolean(reins.spectrum.model.shown.source)"))
    hand = find(driver, ".spectrum-hand")
    ActionChains(driver).move_to_element_with_offset(hand, *on_spectrum(desk, 440)).perform()
    wait_until(lambda: "A4" in find(driver, ".spectrum-read").text)
    assert "440.0 Hz" in find(driver, ".spectrum-read").text
    # The bass's strongest note lies where the score puts it: its lowest fundamentals, 43 to 74 Hz.
    loudest = driver.execute_script(
        "const {hz, shown: {source: s}} = reins.spectrum.model; return hz[s.indexOf(Math.max(...s))]"
    )
    assert 40 < loudest < 80

    before = desk.picture(".spectrum-canvas")
    choose_option(driver, '[data-do="beside"] option', "Kick".__eq__)
    wait_until(lambda: driver.execute_script("return Boolean(reins.spectrum.model.shown.beside)"))
    desk.redrawn(before, selector=".spectrum-canvas")


def test_a_band_is_heard_alone_and_spectra_move_while_it_plays(eq, driver):
    desk = eq
    desk.click('[data-do="add-band"]')
    wait_until(lambda: len(bands(desk, "Bass")) == 1)
    cell(desk, "1", "bands.0.freq_hz", "12k")
    cell(desk, "1", "bands.0.q", "8")
    wait_until(lambda: bands(desk, "Bass")[0]["q"] == 8)
    driver.execute_script("reins.live.seek(48000 * 12)")
    desk.click('[data-do="play"]')
    peak = "return Math.max(...(reins.live.meters?.master.peak_db ?? [-200]))"
    wait_until(lambda: driver.execute_script(peak) > -30)
    shown = "return reins.spectrum.model.shown.source"
    first = driver.execute_script(shown)
    wait_until(lambda: driver.execute_script(shown) != first)

    desk.click('[data-hear-band="1"]')
    wait_until(lambda: driver.execute_script(peak) < -40)  # there is next to nothing of a bass at 12 kHz
    desk.click('[data-hear-band="1"]')
    wait_until(lambda: driver.execute_script(peak) > -30)
    desk.click('[data-do="play"]')


@pytest.mark.at("Singer", "deesser")
def test_esses_are_found_on_the_map_and_held(desk, driver, downloads):
    desk.click('[data-ready="air"]')
    wait_until(lambda: desk.settings("Singer", -1)["low_hz"] == 8000)
    start_from(desk, "loud esses")
    wait_until(lambda: desk.settings("Singer", -1)["relative"])
    desk.drag(handle(desk, "high_hz"), 4, 0)
    wait_until(lambda: desk.settings("Singer", -1)["high_hz"] > 9500)
    desk.undo()
    wait_until(lambda: desk.settings("Singer", -1)["high_hz"] == 9500)

    plain = desk.red_share()
    desk.click('[data-do="map"]')
    settled(driver)
    wait_until(lambda: desk.red_share() > 0.0005)
    assert desk.picture() and plain > 0
    wait_until(lambda: int(desk.fact("times")) >= 20)
    desk.click('[data-do="level"]')
    file = exported(desk, downloads, "strip", "Singer*.wav")

    singer = shorter(voices.make_singer())[0]
    out = soundfile.read(file)[0].T
    out = out[0] if out.ndim == 2 else out
    band = scipy.signal.butter(4, voices.ESS_BAND_HZ, "bandpass", fs=RATE, output="sos")
    filtered = [scipy.signal.sosfiltfilt(band, x) for x in (singer, out)]
    gain = out[np.abs(singer).argmax()] / singer[np.abs(singer).argmax()]
    for at_s, s in within((s.consonant_s, s) for s in voices.sung_syllables()):
        if s.consonant == "s":
            part = slice(round(at_s * RATE), round((at_s + s.start_s - s.consonant_s) * RATE))
            assert level_db(filtered[0][part]) - level_db(filtered[1][part] / gain) > 4


@pytest.mark.at("Room", "multiband")
def test_a_drum_room_is_crossed_over_in_three(desk, driver):
    start_from(desk, "three bands")
    wait_until(lambda: len(bands(desk, "Room", -1)) == 3 and bands(desk, "Room", -1)[0]["ratio"] == 3)
    desk.drag(handle(desk, "crossovers_hz.0"), 40, 0)
    wait_until(lambda: desk.settings("Room", -1)["crossovers_hz"][0] > 150)
    desk.drag(handle(desk, "bands.2.threshold_db"), 0, 30)
    wait_until(lambda: bands(desk, "Room", -1)[2]["threshold_db"] < -35)
    settled(driver)
    wait_until(lambda: deepest_db(desk, "band3.gain_db") < -1)
    wait_until(lambda: desk.red_share('[data-row="1"] .band-strip') > 0.005)

    desk.click('.bands [data-row="2"] [data-setting="bands.1.solo"]')
    wait_until(lambda: bands(desk, "Room", -1)[1]["solo"])
    desk.click('[data-do="tab-all"]')
    desk.type("amount_pct", "50")
    wait_until(lambda: desk.settings("Room", -1)["amount_pct"] == 50)
    desk.click('[data-do="split-band"]')
    wait_until(lambda: len(bands(desk, "Room", -1)) == 4)
    desk.click('[data-do="join-bands"]')
    wait_until(lambda: len(bands(desk, "Room", -1)) == 3)


def test_a_band_that_moves_in_the_wrong_way_is_refused_with_a_sentence(eq, driver):
    desk = eq
    desk.click('[data-do="add-band"]')
    wait_until(lambda: len(bands(desk, "Bass")) == 1)
    cell(desk, "1", "bands.0.freq_hz", "30k")
    error = wait_for(driver, ".bands .control-error")
    assert "Allowed: 20 Hz to 20.0 kHz" in error.text
    assert bands(desk, "Bass")[0]["freq_hz"] == 1000


def test_the_map_takes_a_band_where_it_is_pointed_at(eq, driver):
    desk = eq
    desk.click('[data-do="map"]')
    hand = find(driver, ".take-hand")
    height = hand.size["height"]
    ActionChains(driver).move_to_element_with_offset(hand, 100, -height // 4).double_click().perform()
    wait_until(lambda: len(bands(desk, "Bass")) == 1)
    assert 1000 < bands(desk, "Bass")[0]["freq_hz"] < 9000
    desk.click('[data-do="level"]')


def test_the_middle_alone_is_deessed_at_the_master(desk, driver):
    add_to_master(desk, "deesser")
    start_from(desk, "esses in the middle")
    wait_until(lambda: desk.state()["document"]["master"]["chain"][0]["settings"]["apply_to"] == "first")
    settled(driver)
    wait_until(lambda: desk.fact("times") not in ("", "0"))
    desk.click('[aria-label="Remove De-esser"]')
    wait_until(lambda: len(desk.state()["document"]["master"]["chain"]) == 1)


@pytest.mark.at("Kick", "dynamic_eq")
def test_a_kicks_lows_come_up_while_320_hz_is_cut(desk, driver):
    start_from(desk, "lows up")
    wait_until(lambda: len(bands(desk, "Kick")) == 2)
    settled(driver)
    wait_until(lambda: deepest_db(desk, "band1.gain_db") > 2)
    rest = driver.execute_script("const {hz, frequency} = reins.spectrum.model; return [hz, frequency.rest_db]")
    at = {hz: rest[1][int(np.abs(np.array(rest[0]) - hz).argmin())] for hz in (62, 320)}
    assert at[320] < -4
    assert abs(at[62]) < 1


def test_the_whole_mix_is_held_but_for_the_voices_band(desk, driver):
    add_to_master(desk, "dynamic_eq")
    start_from(desk, "spare the voice")
    wait_until(lambda: desk.state()["document"]["master"]["chain"][0]["settings"]["rest"]["on"])
    cell(desk, "the rest", "rest.threshold_db", "-40")
    wait_until(lambda: desk.state()["document"]["master"]["chain"][0]["settings"]["rest"]["threshold_db"] == -40)
    settled(driver)
    wait_until(lambda: deepest_db(desk, "rest.gain_db") == -6)
    reach = driver.execute_script("const {hz, frequency} = reins.spectrum.model; return [hz, frequency.reach_db]")
    spared, held = (reach[1][int(np.abs(np.array(reach[0]) - hz).argmin())] for hz in (1400, 60))
    assert abs(spared) < 0.2
    assert held < -5
    desk.click('[aria-label="Remove Dynamic EQ"]')
    wait_until(lambda: len(desk.state()["document"]["master"]["chain"]) == 1)


def test_the_chosen_band_is_heard_while_its_letter_is_held(eq, driver):
    desk = eq
    for count in (1, 2):
        desk.click('[data-do="add-band"]')
        wait_until(lambda count=count: len(bands(desk, "Bass")) == count)
    pressed = '.bands [data-row="2"] [data-hear-band]'
    wait_for(driver, '.bands [data-row="2"] .band-number').click()
    settled(driver)

    ActionChains(driver).key_down("h").perform()
    wait_until(lambda: find(driver, pressed).get_attribute("aria-pressed") == "true")
    ActionChains(driver).key_up("h").perform()
    wait_until(lambda: find(driver, pressed).get_attribute("aria-pressed") == "false")
    desk.click('.bands [data-row="2"] [data-setting="bands.1.freq_hz"] .control-number')
    ActionChains(driver).key_down("h").key_up("h").send_keys(Keys.ESCAPE).perform()  # typed into the number

    assert find(driver, pressed).get_attribute("aria-pressed") == "false"
