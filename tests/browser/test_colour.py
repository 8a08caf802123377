"""Colour, as a person gives it: a starting point, another kind, and what comes out of it."""

import numpy as np
import pyloudnorm
import pytest
import soundfile

from reins.demo import strings
from reins.demo.score import RATE
from tests.browser.driving import choose_option, find, wait_for, wait_until
from tests.browser.test_whole_session import exported
from tests.shorter import SECONDS, shorter


def share_above(sound, hz):
    """Of the power, what lies above a frequency."""
    power = np.abs(np.fft.rfft(sound)) ** 2
    return power[np.fft.rfftfreq(sound.size, 1 / RATE) > hz].sum() / power.sum()


@pytest.mark.at("Bass", "colour")
def test_a_bass_is_given_octaves_and_stays_as_loud(desk, driver, downloads):
    soft = desk.picture(".harmonics-canvas")
    choose_option(driver, '[data-do="points"] option', lambda text: "Bass, heard on small speakers" in text)
    wait_until(lambda: desk.track("Bass")["chain"][-1]["settings"]["kind"] == "even")
    even = desk.redrawn(soft, selector=".harmonics-canvas")
    tone = "const db = reins.spectrum.model.tone?.db; return db && db[1] > db[2] + 10"
    wait_until(lambda: driver.execute_script(tone))  # the second harmonic over the third, marked on the spectrum
    desk.click('[data-setting="kind"] [data-value="odd"]')
    wait_until(lambda: desk.track("Bass")["chain"][-1]["settings"]["kind"] == "odd")
    desk.redrawn(soft, even, selector=".harmonics-canvas")
    desk.undo()
    wait_until(lambda: desk.track("Bass")["chain"][-1]["settings"]["kind"] == "even")
    assert find(driver, '[data-setting="drive_db"] .control-figure').text == "18.0"

    made, _ = soundfile.read(exported(desk, downloads, "strip", "Bass*.wav"))

    source = shorter(strings.make_bass())[0]
    assert share_above(made, 250) > 1.3 * share_above(source, 250)
    meter = pyloudnorm.Meter(RATE)
    assert abs(meter.integrated_loudness(made) - meter.integrated_loudness(source)) < 0.5


@pytest.mark.at("Guitar L", "fet")
def test_the_fets_threshold_stands_on_the_take_and_dragging_it_down_drives(desk, driver):
    desk.type("input_db", "0 dB")  # it was laid by the take
    handle = find(driver, ".threshold-handle")
    wait_until(lambda: handle.text == "threshold −24.0")

    desk.drag(handle, 0, 40)

    drive_db = wait_until(lambda: desk.track("Guitar L")["chain"][-1]["settings"]["input_db"])
    assert drive_db > 3
    wait_until(lambda: handle.text == f"threshold −{24 + drive_db:.1f}")
    wait_until(lambda: desk.red_share() > 0.01)


@pytest.mark.at("Room", "three_speed")
def test_who_is_in_charge_is_seen_before_and_while_something_is_held(desk, driver):
    peaks = wait_until(lambda: desk.fact("in-charge-peaks"))
    lines = desk.picture()
    desk.click('[data-do="burst"]')
    wait_for(driver, ".large-pictures .burst-canvas")
    desk.click('[data-do="curve"]')
    wait_for(driver, ".curve-canvas")

    desk.type("peaks_db", "-24")

    wait_until(lambda: desk.fact("in-charge-peaks") == "0 %" != peaks)
    assert float(desk.fact("in-charge-hits").split()[0]) > 0
    held = desk.redrawn(lines)
    desk.type("threshold_db", "0")
    wait_until(lambda: desk.fact("held") == "0 % of the take")
    desk.redrawn(held)  # the lines are still there
    assert driver.execute_script("return Math.max(...reins.view.model.picture.ribbon.heard_db.hits)") > -40


@pytest.mark.at("Snare", "room")
def test_a_room_makes_a_track_wide_sounds_on_and_is_cut_off_by_a_gate(desk, driver, downloads):
    desk.type("mix_pct", "100")
    desk.type("decay_s", "3")
    wait_until(lambda: desk.settings("Snare")["decay_s"] == 3.0)

    made, _ = soundfile.read(exported(desk, downloads, "strip", "Snare*.wav"))

    take = round(SECONDS * RATE)
    assert made.shape[1] == 2 and len(made) > take + 2 * RATE
    assert abs(np.corrcoef(made[:take].T)[0, 1]) < 0.3 and np.abs(made[take : take + RATE]).max() > 1e-4

    desk.add("Snare", "gate")
    desk.type("threshold_db", "-20")
    desk.type("range_db", "80")
    wait_until(lambda: desk.settings("Snare", 1)["range_db"] == 80.0)
    gated, _ = soundfile.read(exported(desk, downloads, "strip", "Snare*.wav"))
    between = np.median(np.abs(gated[4 * RATE : 30 * RATE])) / np.median(np.abs(made[4 * RATE : 30 * RATE]))
    assert between < 0.1 and np.abs(gated).max() > 0.7 * np.abs(made).max()


@pytest.mark.at("Singer", "compressor")
def test_a_compressor_becomes_another_kind_in_its_place_as_deep_and_goes_back(desk, driver):
    before = wait_until(lambda: desk.fact("usual"))
    desk.type("threshold_db", "-30")
    wait_until(lambda: desk.settings("Singer")["threshold_db"] == -30.0)
    held = wait_until(lambda: desk.fact("usual") not in ("", before) and desk.fact("usual"))

    choose_option(driver, '[data-do="kind"] option', "Optical compressor".__eq__)

    wait_for(driver, '.station.is-selected[data-type="optical"]')
    wait_until(lambda: desk.track("Singer")["chain"][0]["type"] == "optical")
    usual = wait_until(lambda: desk.fact("usual") != held and desk.fact("usual"))
    assert abs(float(usual.split()[0].replace("−", "-")) - float(held.split()[0].replace("−", "-"))) < 4
    desk.undo()
    wait_for(driver, '.station.is-selected[data-type="compressor"]')
    assert find(driver, '[data-do="kind"]').get_attribute("value") == "compressor"


@pytest.mark.at("Singer")
def test_a_pair_is_put_in_place_in_one_step(desk, driver):
    desk.click('[data-do="add"]')
    desk.click('[data-add-pair="Level, then catch"]')

    wait_for(driver, '.station.is-selected[data-type="optical"]')
    wait_until(lambda: [entry["type"] for entry in desk.track("Singer")["chain"]] == ["optical", "fet"])
    desk.undo()
    wait_until(lambda: desk.track("Singer")["chain"] == [])
