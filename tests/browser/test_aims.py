"""Aim, as a person uses it: what is wanted, the marks, the proposal against what is there, taken as one step or left."""

import re

import numpy as np
import pytest
import soundfile
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from reins.demo import drums
from tests.browser.driving import choose_option, find, settled, wait_for, wait_until
from tests.browser.test_reins import take_of
from tests.browser.test_whole_session import exported
from tests.shorter import within


def marks(driver):
    return driver.find_elements("css selector", ".found-mark")


def aim_at(desk, name):
    desk.click('[data-do="aim"]')
    choose_option(desk.driver, '[data-do="aim-choice"] option', name.__eq__)


def proposed(desk):
    desk.click('[data-do="aim-find"]')
    wait_for(desk.driver, '[data-do="aim-take"]')
    settled(desk.driver)
    return find(desk.driver, ".aim-why").text


@pytest.mark.at("Kick", "compressor")
def test_the_kicks_hits_are_held_by_what_is_asked_and_taken_as_one_step(desk, driver, downloads):
    before, step = desk.settings("Kick"), desk.state()["step"]
    aim_at(desk, "Hold the hits")
    wait_until(lambda: len(marks(driver)) == len(within(drums.kick_hits())))
    there = desk.picture()
    field = find(driver, '[data-do="aim-asked"]')
    driver.execute_script("arguments[0].value = ''", field)
    field.send_keys("6\n")
    assert f"{len(within(drums.kick_hits()))} hits" in proposed(desk)

    shown = desk.redrawn(there)
    assert desk.state()["step"] == step and desk.settings("Kick") == before
    assert "not kept" in find(driver, ".take-note").text
    desk.click('[data-do="aim-there"]')
    desk.redrawn(shown)
    assert desk.shown("threshold_db").replace("−", "-") == f"{before['threshold_db']:.1f} dB"
    desk.click('[data-do="aim-proposed"]')
    desk.click('[data-do="aim-take"]')
    wait_until(lambda: desk.state()["step"] == step + 1)
    assert desk.settings("Kick")["threshold_db"] != before["threshold_db"]

    held, _ = soundfile.read(exported(desk, downloads, "strip", "Kick*.wav"), dtype="float64")
    source = take_of(desk, "Kick")[0]
    hits = within(drums.kick_hits())
    depths = []
    for at, db in hits:
        if db >= np.median([level for _, level in hits]):
            part = slice(round(at * 48000), round((at + 0.08) * 48000))
            loud = np.abs(source[part]) > 0.02
            depths.append(-20 * np.log10(np.abs(held[part][loud] / source[part][loud]).min()))
    assert abs(np.median(depths) - 6.0) < 0.6
    desk.undo()
    wait_until(lambda: desk.settings("Kick") == before)


@pytest.mark.at("Snare", "gate")
def test_marks_are_corrected_by_hand_and_a_proposal_left_changes_nothing(desk, driver):
    aim_at(desk, "Open on the hits")
    count = len(within(drums.snare_hits()))
    wait_until(lambda: len(marks(driver)) == count)
    marks(driver)[0].click()
    wait_until(lambda: len(marks(driver)) == count - 1)
    ActionChains(driver).move_to_element_with_offset(find(driver, ".found-row"), -470, 0).double_click().perform()
    wait_until(lambda: len(marks(driver)) == count)
    assert {*desk.track("Snare")["marks"]["hits"]} == {"added", "removed"}
    desk.undo()
    desk.undo()
    wait_until(lambda: desk.track("Snare")["marks"] == {})

    before = desk.settings("Snare")
    desk.click('[data-do="aim-leave"]')
    aim_at(desk, "Open on the hits")
    assert f"it opens on {count} of them and on 0 of" in proposed(desk)
    desk.click('[data-do="aim-leave"]')
    wait_until(lambda: not find(driver, ".aim").is_displayed() and not marks(driver)[0].is_displayed())
    assert desk.settings("Snare") == before

    desk.add("Bass", "deesser")
    aim_at(desk, "Hold the esses")
    desk.click('[data-do="aim-find"]')
    wait_until(lambda: find(driver, ".aim-refused").text.startswith("Found no sibilants"))
    desk.refused()


@pytest.mark.at("Singer", "compressor")
def test_a_drawn_line_keeps_the_singer_within(desk, driver):
    aim_at(desk, "Ride within")
    assert "points on the fader" in proposed(desk)
    desk.click('[data-do="aim-take"]')
    (rein,) = wait_until(lambda: desk.track("Singer")["reins"])
    assert rein["moves"][0]["what"] == "strip.fader_db" and len(rein["by"]["points"]) > 20
    desk.undo()
    wait_until(lambda: desk.track("Singer")["reins"] == [])


@pytest.mark.at("Kick", "compressor")
def test_why_here_is_told_beside_the_moment_that_is_asked_for(desk, driver):
    hand = find(driver, ".take-hand")
    hold = ActionChains(driver).key_down(Keys.ALT)
    hold.move_to_element_with_offset(hand, 0, 20).click().key_up(Keys.ALT).perform()
    told = wait_until(lambda: find(driver, ".why-note").text)
    acts_from = f"{desk.settings('Kick')['threshold_db']:.1f} dB from which it acts".replace("-", "−")
    assert "The detector heard" in told and acts_from in told
    desk.click('.why-note [aria-label="Close"]')
    wait_until(lambda: not find(driver, ".why-note").is_displayed())
    desk.keys("w")
    wait_until(lambda: find(driver, ".why-note").text.startswith("0.00 s"))


def test_the_tempo_is_tapped(desk, driver):
    before = desk.state()["document"]["tempo_bpm"]
    hand = ActionChains(driver)
    for _ in range(4):
        hand.send_keys("t").pause(0.3)  # the rhythm of a hand
    hand.perform()
    tempo = wait_until(lambda: (now := desk.state()["document"]["tempo_bpm"]) != before and now)
    assert 120 <= tempo <= 210


@pytest.mark.at("Harmonium", "compressor")
def test_a_hold_that_only_turns_down_is_told_to_be_a_fader(desk, driver):
    for setting, text in (("threshold_db", "-60"), ("ratio", "20"), ("range_db", "6"), ("release_ms", "3 s")):
        desk.type(setting, text, ".bench ")
    wait_until(lambda: "a fader would do" in find(driver, ".did-note").text)
    desk.type("threshold_db", "0", ".bench ")
    wait_until(lambda: not find(driver, ".did-note").is_displayed())


@pytest.mark.at("Announcer")
def test_an_aim_brings_the_processor_it_is_for(desk, driver):
    assert not desk.track("Announcer")["chain"]
    aim_at(desk, "Silence between")
    assert "adds a gate" in find(driver, ".aim").text
    assert "2 phrases, 3 pauses" in proposed(desk)
    assert [one["type"] for one in desk.track("Announcer")["chain"]] == ["gate"]
    desk.click('[data-do="aim-take"]')
    wait_until(lambda: desk.settings("Announcer")["range_db"] == 20)


def test_soft_hits_under_the_bleed_are_kept_by_their_marks_or_leant_upon(desk, driver, tmp_path):
    """Each way out is said and heard before it is taken; what follows the marks has them in the session, ahead too."""
    kick, hats = drums.make_kick(), drums.make_hats()
    made = (drums.make_snare(kick, hats) + 0.3 * kick)[0, : 20 * 48000].clip(-1, 1)
    soundfile.write(tmp_path / "Bleeding.wav", made, 48000, subtype="PCM_24")
    desk.leave()
    find(driver, "input[type=file][multiple]").send_keys(str(tmp_path / "Bleeding.wav"))
    wait_for(driver, '.strip[aria-label="Bleeding"]')
    desk.add("Bleeding", "gate")
    aim_at(desk, "Open on the hits")
    proposed(desk)
    said = {}
    for way in ("lose", "let", "lean", "marks"):
        desk.click(f"[data-way={way}]")
        said[way] = find(driver, ".aim-why").text
        assert find(driver, f"[data-way={way}]").get_attribute("aria-checked") == "true"
    assert len(set(said.values())) == 4 and "at most" in said["lean"]
    hits, others = (int(number) for number in re.findall(r"of (\d+) hits and on (\d+) other", said["marks"])[0])
    assert f"opens on {hits} of {hits} hits" in said["marks"] and others == 0

    desk.click('[data-do="aim-take"]')

    wait_until(lambda: desk.settings("Bleeding")["key"]["source"] == "hits:2")
    assert len(desk.track("Bleeding")["hits"]) == hits
    assert desk.shown("ahead_ms") == "2.0 ms"
    desk.type("ahead_ms", "30")
    wait_until(lambda: desk.settings("Bleeding")["key"]["source"] == "hits:30")
    choose_option(driver, '.bench [data-setting="key.source"] option', "Kick, its hits".__eq__)
    wait_until(lambda: desk.settings("Bleeding")["key"]["source"] == f"{desk.id_of('Kick')}/hits")
    wait_until(lambda: len(desk.track("Kick")["hits"]) == len(within(drums.kick_hits())))
