"""What concerns the whole session: tracks, files, tabs, the connection, the history, the theme."""

import numpy as np
import pytest
import soundfile
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.driving import DEMO, find, wait_for, wait_until


@pytest.mark.at("Guitar L", "compressor")
def test_two_tabs_end_up_showing_the_same(desk, driver):
    desk.choose("Guitar L")
    desk.keys("[", "[")  # to the first of the chain, which the other tab shows as well
    here = driver.current_window_handle
    driver.switch_to.new_window("tab")
    driver.get(desk.server.url + DEMO)
    wait_for(driver, ".take-canvas")
    desk.choose("Guitar L")
    desk.type("ratio", "7")
    wait_until(lambda: desk.settings("Guitar L")["ratio"] == 7)

    driver.switch_to.window(here)
    wait_until(lambda: desk.shown("ratio") == "7.00 : 1")
    desk.type("ratio", "3")

    driver.switch_to.window(driver.window_handles[1])
    wait_until(lambda: desk.shown("ratio") == "3.00 : 1")
    driver.close()
    driver.switch_to.window(here)


def test_a_bad_file_is_refused_with_a_sentence_and_no_track(desk, driver, tmp_path):
    (tmp_path / "letter.wav").write_text("Dear ferry company")
    before = desk.state()["document"]["order"]

    find(driver, '[aria-label="Bring in audio"]').send_keys(str(tmp_path / "letter.wav"))

    note = wait_for(driver, '[data-note="problem"]').text
    assert note.startswith("letter.wav: this is not audio")
    assert desk.state()["document"]["order"] == before

    soundfile.write(tmp_path / "letter.wav", 0.1 * np.sin(np.arange(4800)), 48000)  # mended, it may be chosen again
    find(driver, '[aria-label="Bring in audio"]').send_keys(str(tmp_path / "letter.wav"))
    wait_for(driver, '.strip[aria-label="letter"]')
    assert len(desk.state()["document"]["order"]) == len(before) + 1


def test_the_output_rests_a_while_after_a_stop_and_is_back_at_the_next_play(desk, driver):
    state = lambda: driver.execute_script("return reins.live.audio.state")  # noqa: E731
    driver.execute_script("reins.live.restsAfterMs = 50")
    for _ in range(2):
        desk.click('[data-do="play"]')
        wait_until(lambda: driver.execute_script("return reins.live.played > 4800"))
        assert state() == "running"
        desk.click('[data-do="play"]')
        wait_until(lambda: state() == "suspended")
    driver.execute_script("reins.live.restsAfterMs = 10000")


def test_a_lost_connection_is_said_and_comes_back_playing_where_it_was(desk, driver):
    desk.click('[data-do="play"]')
    wait_until(lambda: driver.execute_script("return reins.live.played > 48000"))

    desk.loses_server()
    desk.server.kill()
    wait_until(lambda: find(driver, ".head-kept").text == "connection lost")
    desk.server.start()
    place = driver.execute_script("return reins.live.frame")
    wait_until(lambda: find(driver, ".head-kept").text.startswith("Kept"))
    wait_until(lambda: driver.execute_script("return reins.live.playing && reins.live.played > 4000"))
    now = driver.execute_script("return reins.live.position()")
    desk.click('[data-do="play"]')

    assert place - 4800 <= now <= place + 96000


def test_a_new_session_starts_empty_and_says_what_to_do(desk, driver):
    driver.get(desk.server.url)
    find(driver, "#session-name").send_keys("Second evening")
    find(driver, ".card-new button").click()
    wait_for(driver, ".take-canvas")

    assert "Drop audio files" in wait_for(driver, ".side-empty").text
    assert driver.title == "Second evening · Reins"


def test_a_file_dropped_on_the_desk_becomes_a_track(desk, driver):
    name = f"Dropped {desk.state()['step']}"

    driver.execute_script(
        """const data = new DataView(new ArrayBuffer(44 + 9600));
        const text = (at, word) => [...word].forEach((c, i) => data.setUint8(at + i, c.charCodeAt(0)));
        text(0, "RIFF"); data.setUint32(4, 36 + 9600, true); text(8, "WAVEfmt ");
        data.setUint32(16, 16, true); data.setUint16(20, 1, true); data.setUint16(22, 1, true);
        data.setUint32(24, 48000, true); data.setUint32(28, 96000, true); data.setUint16(32, 2, true);
        data.setUint16(34, 16, true); text(36, "data"); data.setUint32(40, 9600, true);
        const files = new DataTransfer();
        files.items.add(new File([data], arguments[0] + ".wav"));
        document.querySelector(".desk").dispatchEvent(new DragEvent("drop", { dataTransfer: files, bubbles: true, cancelable: true }));""",
        name,
    )

    wait_for(driver, f'.strip[aria-label="{name}"]')
    assert desk.state()["takes"][desk.track(name)["take_id"]]["frames"] == 4800


def test_the_tempo_of_what_was_brought_in_is_told_once_and_taken_by_one_press(desk, driver, tmp_path):
    driver.get(desk.server.url)
    find(driver, "#session-name").send_keys("In time")
    find(driver, ".card-new button").click()
    wait_for(driver, ".take-canvas")
    made = np.zeros(8 * 48000)
    for at in np.arange(0.25, 7.5, 60 / 104):
        made[round(at * 48000) :][:2400] += np.random.default_rng(1).normal(0, 0.1, 2400) * np.linspace(1, 0, 2400)
    soundfile.write(tmp_path / "Strokes.wav", made, 48000)

    find(driver, "input[type=file][multiple]").send_keys(str(tmp_path / "Strokes.wav"))

    wait_until(lambda: "found" in find(driver, "[data-do=found-tempo]").text)
    found = find(driver, "[data-do=found-tempo]").text
    assert min(abs(float(found.split()[0]) / bpm - 1) for bpm in (52, 104)) < 0.005
    find(driver, "[data-do=found-tempo]").click()
    wait_until(lambda: not find(driver, "[data-do=found-tempo]").is_displayed())
    assert find(driver, ".head-tempo .control-number").text.startswith(found.split()[0].split(".")[0])


def test_an_empty_session_that_is_played_stops_by_itself(desk, driver):
    driver.get(desk.server.url)
    find(driver, "#session-name").send_keys("Nothing yet")
    find(driver, ".card-new button").click()
    wait_for(driver, ".take-canvas")

    desk.click('[data-do="play"]')

    wait_until(lambda: driver.execute_script("return reins.live.stream === 1 && !reins.live.playing"))


def test_tracks_are_renamed_duplicated_moved_and_removed_and_come_back(desk, driver):
    names = [t["name"] for t in desk.state()["document"]["tracks"].values()]
    desk.choose("Hats")
    desk.click('[data-do="duplicate-track"]')
    desk.choose("Hats copy")
    desk.click('[data-do="rename"]')
    entry = wait_for(driver, ".name-entry")
    entry.send_keys("Shaker", Keys.ENTER)
    wait_for(driver, '.strip[aria-label="Shaker"]')

    ActionChains(driver).drag_and_drop(desk.row("Shaker", ".strip-name"), desk.row("Kick", ".strip-name")).perform()
    wait_until(lambda: desk.state()["document"]["tracks"][desk.state()["document"]["order"][0]]["name"] == "Shaker")
    desk.choose("Shaker")
    desk.click('[data-do="remove-track"]')
    wait_until(lambda: "Shaker" not in [t["name"] for t in desk.state()["document"]["tracks"].values()])
    wait_until(lambda: find(driver, ".take-head h2").text == "Kick")

    assert [t["name"] for t in desk.state()["document"]["tracks"].values()] == names
    desk.undo()
    wait_for(driver, '.strip[aria-label="Shaker"]')
    desk.undo(again=True)
    wait_until(lambda: not driver.find_elements("css selector", '.strip[aria-label="Shaker"]'))


def test_the_tempo_is_typed_and_the_ruler_counts_by_it(desk, driver):
    before = desk.picture()

    desk.type("tempo_bpm", "120")

    wait_until(lambda: desk.state()["document"]["tempo_bpm"] == 120)
    desk.redrawn(before)
    desk.undo()
    wait_until(lambda: desk.state()["document"]["tempo_bpm"] == 96)


def test_the_theme_is_changed_by_hand_and_kept(desk, driver):
    def paper():
        return driver.execute_script("return getComputedStyle(document.body).backgroundColor")

    day = paper()
    picture = desk.picture()
    desk.click('[data-do="theme"]')
    night = paper()

    assert night != day
    desk.redrawn(picture)
    desk.open()
    assert paper() == night
    desk.click('[data-do="theme"]')
    assert paper() == day


def test_without_a_choice_the_theme_is_the_systems(desk, driver):
    def system_prefers(scheme):
        feature = {"name": "prefers-color-scheme", "value": scheme}
        driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": [feature]})

    def theme():
        return driver.execute_script("return document.documentElement.dataset.theme")

    driver.execute_script("localStorage.removeItem('reins-theme')")
    desk.open()

    system_prefers("dark")
    wait_until(lambda: theme() == "night")
    system_prefers("light")
    wait_until(lambda: theme() == "day")


def test_the_steps_lead_back_and_forth_and_to_what_was_set_aside(desk, driver):
    before = desk.state()
    desk.add_compressor("Room")
    desk.type("ratio", "12")
    wait_until(lambda: desk.settings("Room", -1)["ratio"] == 12)
    after = desk.state()

    desk.click('[data-do="history"]')
    wait_for(driver, f'[data-step="{before["step"]}"]').click()
    wait_until(lambda: desk.state()["document"] == before["document"])
    wait_for(driver, f'[data-step="{after["step"]}"].is-undone').click()
    wait_until(lambda: desk.state()["document"] == after["document"])
    wait_for(driver, f'[data-step="{before["step"]}"]').click()
    wait_until(lambda: desk.state()["document"] == before["document"])
    desk.keys(Keys.ESCAPE)
    desk.row("Room", ".strip-mute").click()
    wait_until(lambda: desk.track("Room")["mute"])

    desk.click('[data-do="history"]')
    wait_for(driver, f'[data-step="{after["step"]}"].is-aside').click()

    wait_until(lambda: desk.state()["document"] == after["document"])
    desk.keys(Keys.ESCAPE)
