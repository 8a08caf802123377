"""Sends, as a person lays them: a crushed copy beside the drums, a room that two tracks share, heard in what is exported."""

import numpy as np
import pyloudnorm
import pytest
import soundfile
from scipy.signal import fftconvolve

from tests.browser.driving import choose_option, find, wait_for, wait_until
from tests.browser.test_reins import take_of
from tests.browser.test_whole_session import document, exported


def make_bus(desk, driver, name):
    desk.click('[data-do="add-bus"]')
    wait_for(driver, '[data-do="bus-name"]').send_keys(name)
    desk.click('[data-do="make-bus"]')
    wait_for(driver, f'.strip-bus[aria-label="{name}"]')
    found = wait_until(lambda: next(k for k, bus in document(desk)["buses"].items() if bus["name"] == name))
    wait_until(lambda: "nothing comes here yet" in find(driver, ".take-note").text)
    desk.choose("Snare")
    return found


def test_a_track_is_sent_to_a_room_dragged_tapped_switched_and_taken_back(desk, driver, downloads):
    bus = make_bus(desk, driver, "Hall")
    desk.choose("Snare")
    choose_option(driver, '.strip.is-selected [data-do="add-send"] option', "Hall".__eq__)
    wait_until(lambda: desk.track("Snare")["sends"] == [{"bus": bus, "level_db": 0.0, "tap": "after", "on": True}])

    desk.drag(wait_for(driver, f'[data-send="{bus}"] .control-bead'), -25, 0)
    level = wait_until(lambda: (now := desk.track("Snare")["sends"][0]["level_db"]) < -1 and now)
    desk.click(f'[data-send="{bus}"] .send-tap')
    wait_until(lambda: desk.track("Snare")["sends"][0]["tap"] == "before")
    desk.undo()
    wait_until(lambda: desk.track("Snare")["sends"][0]["tap"] == "after")

    sent, _ = soundfile.read(exported(desk, downloads, "mix", "*mix*.wav"))
    desk.click(f'[data-send="{bus}"] .send-on')
    wait_until(lambda: not desk.track("Snare")["sends"][0]["on"])
    dry, _ = soundfile.read(exported(desk, downloads, "mix", "*mix*.wav"))
    desk.choose("Snare")
    alone, _ = soundfile.read(exported(desk, downloads, "strip", "Snare*.wav"))
    fader = 10 ** ((desk.track("Snare")["fader_db"] + level) / 20)
    # The bus has no chain: what it adds is the snare once more, at fader, pan and level.
    added = np.sqrt(np.mean((sent - dry) ** 2, axis=0).sum())
    assert abs(20 * np.log10(added / (fader * np.sqrt(np.mean(alone**2))))) < 0.1

    desk.click(f'[data-send="{bus}"] .send-remove')
    wait_until(lambda: desk.track("Snare")["sends"] == [])
    assert find(driver, '.strip.is-selected [data-do="add-send"]').is_displayed()


def test_a_circle_of_sends_is_refused_with_a_sentence(desk, driver):
    far, near = make_bus(desk, driver, "Far"), make_bus(desk, driver, "Near")
    desk.choose("Far")
    choose_option(driver, '.strip.is-selected [data-do="add-send"] option', "Near".__eq__)
    wait_until(lambda: document(desk)["buses"][far]["sends"][0]["bus"] == near)
    desk.choose("Near")
    choose_option(driver, '.strip.is-selected [data-do="add-send"] option', "Far".__eq__)
    wait_until(lambda: "circle" in find(driver, "body").text)
    assert document(desk)["buses"][near]["sends"] == []
    desk.refused()


@pytest.mark.at("Singer", "compressor")
def test_the_whole_chain_is_passed_by_with_a_key_mixed_and_turned_into_what_it_took(desk, driver, downloads):
    desk.type("threshold_db", "-30")
    wait_until(lambda: desk.settings("Singer")["threshold_db"] == -30.0)
    held, _ = soundfile.read(exported(desk, downloads, "strip", "Singer*.wav"))
    driver.execute_script("document.querySelector('.take-hand').focus()")
    desk.keys("B")
    wait_until(lambda: desk.track("Singer")["chain_on"] is False)
    assert find(driver, '[data-do="chain-on"]').get_attribute("aria-checked") == "false"
    source, _ = soundfile.read(exported(desk, downloads, "strip", "Singer*.wav"))
    desk.click('[data-do="chain-on"]')
    wait_until(lambda: desk.track("Singer")["chain_on"])

    desk.click('.strip.is-selected [data-setting="puts_out"] [data-value="difference"]')
    wait_until(lambda: desk.track("Singer")["puts_out"] == "difference")
    taken, _ = soundfile.read(exported(desk, downloads, "strip", "Singer*.wav"))
    np.testing.assert_allclose(taken, source - held, atol=1e-6)
    told = wait_until(lambda: desk.fact("strip-loudness")).split("→")[1].replace("−", "-")  # the picture is of it too
    assert abs(float(told) - pyloudnorm.Meter(48000).integrated_loudness(taken)) < 0.15
    desk.click('.strip.is-selected [data-setting="puts_out"] [data-value="result"]')
    desk.type("chain_mix_pct", "40", scope=".strip.is-selected ")
    wait_until(lambda: desk.track("Singer")["chain_mix_pct"] == 40.0)
    mixed, _ = soundfile.read(exported(desk, downloads, "strip", "Singer*.wav"))
    np.testing.assert_allclose(mixed, 0.6 * source + 0.4 * held, atol=1e-6)


def test_a_response_of_ones_own_is_the_room_and_goes_with_the_session(desk, driver, downloads, tmp_path):
    rng, frames = np.random.default_rng(5), 24000
    response = rng.standard_normal((frames, 2)) * 10 ** (-3 * np.arange(frames) / frames)[:, None]
    soundfile.write(tmp_path / "ferry hall.wav", 0.1 * response, 48000, subtype="FLOAT")
    desk.add("Snare", "room")
    find(driver, ".control-recording .file-entry").send_keys(str(tmp_path / "ferry hall.wav"))
    impulse = wait_until(lambda: desk.settings("Snare")["impulse"])
    assert desk.state()["document"]["impulses"] == {impulse: "ferry hall"}
    wait_until(lambda: not find(driver, '[data-setting="decay_s"]').is_displayed())
    for setting, text in (("mix_pct", "100"), ("predelay_ms", "0")):
        desk.type(setting, text, ".bench ")
        wait_until(lambda setting=setting, text=text: desk.settings("Snare")[setting] == float(text))

    made, _ = soundfile.read(exported(desk, downloads, "strip", "Snare*.wav"), always_2d=True)
    take = take_of(desk, "Snare")[:, :100000]
    wanted = fftconvolve(take, response.T / np.sqrt((response**2).sum(axis=0).max()), axes=1)[:, :100000]
    assert np.abs(made.T[:, :100000] - wanted).max() < 1e-5

    desk.click('[data-do="remove-recording"]')
    wait_until(lambda: desk.state()["document"]["impulses"] == {} and desk.settings("Snare")["impulse"] == "")
    desk.undo()
    wait_until(lambda: desk.settings("Snare")["impulse"] == impulse)


@pytest.mark.at("Room")
def test_middle_and_sides_move_alike_until_they_are_parted(desk, driver):
    desk.click('[data-do="add"]')
    desk.click('[data-add-pair="Middle and sides apart"]')
    wait_until(lambda: len(desk.track("Room")["chain"]) == 2)
    desk.type("threshold_db", "-25", ".bench ")
    wait_until(lambda: [desk.settings("Room", k)["threshold_db"] for k in (0, 1)] == [-25, -33])
    desk.click('[data-do="part"]')
    wait_until(lambda: not find(driver, '[data-do="part"]').is_displayed())
    desk.type("threshold_db", "-20", ".bench ")
    wait_until(lambda: [desk.settings("Room", k)["threshold_db"] for k in (0, 1)] == [-20, -33])
