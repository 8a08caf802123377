"""A whole session as a person works on it: from stems on the shelf to a session file opened again."""

import io
import json
import re
import urllib.request
import zipfile

import numpy as np
import pytest
import soundfile
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Desk
from tests.browser.driving import choose_option, find, settled, wait_for, wait_until
from tests.web.test_handing_over import wav

RATE = 44100


@pytest.fixture(scope="module")
def stems(tmp_path_factory):
    """Three stems at 44.1 kHz: the second begins half a second after the others, by its time stamp."""
    folder = tmp_path_factory.mktemp("Ferry stems")
    rng = np.random.default_rng(8)
    shape = np.repeat(rng.random(12) ** 2, RATE // 4)
    for name, channels, stamp in (
        ("01 Drum", 1, RATE * 60),
        ("02 Tambourine", 2, RATE * 60 + RATE // 2),
        ("03 Bass", 1, RATE * 60),
    ):
        wav(
            folder / f"{name}.wav",
            rng.standard_normal((channels, shape.size)).clip(-3, 3) * 0.2 * shape,
            RATE,
            stamp=stamp,
        )
    return sorted(folder.iterdir())


@pytest.fixture(scope="module")
def session(driver, server, stems):
    """The session made of the stems by dropping them on the shelf; its path."""
    driver.get(server.url)
    find(driver, '[aria-label="Stems for a new session"]').send_keys("\n".join(map(str, stems)))
    wait_for(driver, ".take-canvas")
    settled(driver)
    named = wait_for(driver, ".head-naming")  # they share no name: it is open to be typed
    assert named.get_attribute("value").startswith("Session of ")
    wait_until(lambda: named == driver.switch_to.active_element)
    named.send_keys("Pier rehearsal\n")
    wait_until(lambda: find(driver, ".head-session h1").text == "Pier rehearsal")
    return re.sub(r"^https?://[^/]+", "", driver.current_url)


@pytest.fixture
def desk(driver, server, session):
    driver.get_log("browser")
    desk = Desk(driver, server, session)
    yield desk
    assert desk.console() == []


def document(desk):
    return desk.state()["document"]


def exported(desk, downloads, what, pattern, bits="32f"):
    """Export through the dialog and wait for the file."""
    known = set(downloads.glob(pattern))
    desk.click('[data-do="export"]')
    wait_for(desk.driver, f'input[name="export-what"][value="{what}"]').click()
    if what != "session":
        wait_for(desk.driver, f"dialog[open] option[value='{bits}']").click()
    desk.click('[data-do="export-now"]')
    return wait_until(lambda: whole(downloads, set(downloads.glob(pattern)) - known))


def whole(downloads, arrived):
    """The file that has arrived, once the browser has written all of it: until then its name holds an empty place."""
    written = [file for file in arrived if file.stat().st_size]
    return written[0] if written and not any(downloads.glob("*.crdownload")) else None


def level(desk, strip, which=0):
    return desk.driver.execute_script("return reins.live.meters?.strips[arguments[0]]?.[arguments[1]]", strip, which)


def test_stems_on_the_shelf_become_a_session_lined_up_by_their_stamps(desk):
    found = document(desk)

    assert found["name"] == "Pier rehearsal"
    assert found["sample_rate"] == RATE
    assert [found["tracks"][k]["name"] for k in found["order"]] == ["01 Drum", "02 Tambourine", "03 Bass"]
    assert [found["tracks"][k]["start_frame"] for k in found["order"]] == [0, RATE // 2, 0]


def test_a_bus_is_made_held_and_heard(desk, driver):
    desk.click('[data-do="add-bus"]')
    wait_for(driver, '[data-do="bus-name"]').send_keys("Drums")
    for box in driver.find_elements("css selector", ".dialog-members input")[:2]:
        box.click()
    desk.click('[data-do="make-bus"]')
    wait_for(driver, '.strip-bus[aria-label="Drums"]')
    settled(driver)
    (bus,) = document(desk)["buses"]

    desk.click('[data-do="add"]')
    desk.click('[data-add="compressor"]')
    wait_for(driver, '.bench [data-setting="ratio"]')
    desk.type("threshold_db", "-40")
    desk.type("ratio", "10")
    wait_until(lambda: document(desk)["buses"][bus]["chain"][0]["settings"]["ratio"] == 10)

    assert [t["bus"] for t in document(desk)["tracks"].values()] == [bus, bus, ""]
    wait_until(lambda: desk.red_share() > 0.01)
    wait_until(lambda: float(desk.fact("deepest").split()[0].replace("−", "-")) < -6)
    desk.click('[data-do="play"]')
    wait_until(
        lambda: (
            (driver.execute_script("return reins.live.meters?.gains") or {}).values()
            and min(driver.execute_script("return Object.values(reins.live.meters?.gains ?? {0: 0})")) < -3
        )
    )
    desk.click('[data-do="play"]')


def test_makeup_is_matched_with_one_click_and_stays_a_number(desk, driver):
    desk.choose("Drums")
    desk.click('[data-do="match-makeup"]')

    (strip,) = document(desk)["buses"].values()
    wait_until(lambda: next(iter(document(desk)["buses"].values()))["chain"][0]["settings"]["makeup_db"] > 2)

    def apart():
        source, result = (float(v.replace("−", "-")) for v in desk.fact("loudness").split(" → "))
        return abs(source - result)

    wait_until(lambda: apart() <= 0.2)  # once the picture of what is kept is there
    assert (
        desk.shown("makeup_db")
        == f"{next(iter(document(desk)['buses'].values()))['chain'][0]['settings']['makeup_db']:.1f} dB"
    )
    desk.type("makeup_db", "0")
    wait_until(lambda: next(iter(document(desk)["buses"].values()))["chain"][0]["settings"]["makeup_db"] == 0)
    assert strip["chain"][0]["on"]


def test_what_is_compared_is_equally_loud_when_asked(desk, driver):
    desk.click('[data-do="match"]')
    desk.click('[data-hear="source"]')
    said = wait_until(lambda: re.search(r"([+−][\d.]+) LU", find(driver, '[data-do="match"]').text))
    gain = float(said[1].replace("−", "-"))

    assert gain < -1  # the bus was held, so the source has to come down
    desk.click('[data-hear="difference"]')
    wait_until(lambda: find(driver, '[data-do="match"]').text != said[0])
    desk.click('[data-hear="result"]')
    wait_until(lambda: "0.0 LU" in find(driver, '[data-do="match"]').text)
    desk.click('[data-do="match"]')


def test_the_key_of_a_processor_is_heard_and_one_strip_alone(desk, driver):
    desk.choose("03 Bass")
    assert not find(driver, '[data-hear="key"]').is_enabled()
    desk.choose("Drums")
    desk.click('[data-hear="key"]')
    assert find(driver, '[data-hear="key"]').get_attribute("aria-checked") == "true"
    desk.click('[data-hear="result"]')
    desk.choose("02 Tambourine")
    desk.click('[data-do="reach"]')
    desk.click('[data-do="play"]')

    # Alone, the tambourine is silent for the half second before it begins; the mix is not.
    quiet = wait_until(
        lambda: driver.execute_script("""
      const b = reins.live.blocks.find((b) => b.meters && b.frame > 4096 && b.frame < 16000);
      return b ? [Math.max(...b.meters.master.peak_db), b.meters.strips.master[0]] : null""")
    )
    desk.click('[data-do="play"]')
    desk.click('[data-do="reach"]')

    assert quiet[0] == -120
    assert quiet[1] > -60


def test_the_master_is_read_and_its_limiter_holds(desk, driver):
    desk.click(".strip-master .strip-name")
    wait_for(driver, ".station.is-off")
    settled(driver)
    desk.click(".station-lamp")
    wait_until(lambda: document(desk)["master"]["chain"][0]["on"])
    desk.type("ceiling_db", "-20")
    wait_until(lambda: document(desk)["master"]["chain"][0]["settings"]["ceiling_db"] == -20)

    desk.click('[data-do="play"]')
    wait_until(lambda: "LUFS" in find(driver, '[data-reading="short_term_lufs"] dd').text)
    peak = find(driver, '[data-reading="true_peak_dbtp"] dd').text
    desk.click('[data-do="play"]')

    assert -26 < float(peak.split()[0].replace("−", "-")) < -19.8
    desk.click(".station-lamp")
    wait_until(lambda: not document(desk)["master"]["chain"][0]["on"])


def test_stems_add_up_to_the_mix_and_the_session_opens_again_with_the_same_sound(desk, driver, downloads, server):
    name = document(desk)["name"]
    mix = soundfile.read(exported(desk, downloads, "mix", f"{name} mix.wav"))[0]
    with zipfile.ZipFile(exported(desk, downloads, "stems", f"{name} stems.zip")) as packed:
        assert packed.namelist() == ["stem_01_03_Bass.wav", "stem_02_Drums.wav"]
        stems = [soundfile.read(io.BytesIO(packed.read(name)))[0] for name in packed.namelist()]
    file = exported(desk, downloads, "session", f"{name}.reins.zip")
    before = document(desk)

    driver.get(server.url)
    find(driver, '[aria-label="Open a session file"]').send_keys(str(file))
    wait_for(driver, ".take-canvas")
    settled(driver)
    again = Desk(driver, server, re.sub(r"^https?://[^/]+", "", driver.current_url))

    assert mix.shape == (RATE * 3 + RATE // 2, 2)
    np.testing.assert_allclose(sum(stems), mix, atol=1e-6)
    assert again.session != desk.session
    assert document(again)["buses"] == before["buses"]
    known = {p.name for p in downloads.iterdir()}
    second = exported(again, downloads, "mix", f"{name} mix (1).wav")
    assert second.name not in known
    np.testing.assert_array_equal(soundfile.read(second)[0], mix)


def test_a_session_file_that_is_none_is_refused_with_a_sentence(driver, server, tmp_path):
    (tmp_path / "odd.zip").write_bytes(b"PK nothing")
    driver.get(server.url)

    find(driver, '[aria-label="Open a session file"]').send_keys(str(tmp_path / "odd.zip"))

    wait_until(lambda: "odd.zip: the file is damaged" in find(driver, ".form-problem").text)
    assert driver.current_url.rstrip("/") == server.url


def test_own_starting_points_are_kept_and_used_in_another_chain(desk, driver):
    desk.choose("Drums")
    desk.type("attack_ms", "3.3")
    wait_until(lambda: next(iter(document(desk)["buses"].values()))["chain"][0]["settings"]["attack_ms"] == 3.3)
    desk.click('[data-do="own-points"]')
    wait_for(driver, '[data-do="point-name"]').send_keys("Drums, tight")
    desk.click('[data-do="keep-point"]')
    wait_until(lambda: "Drums, tight" in find(driver, ".own-points").text)
    desk.keys(Keys.ESCAPE)

    desk.add_compressor("03 Bass")
    choose_option(driver, '[data-do="points"] option', "Yours: Drums, tight".__eq__)

    wait_until(lambda: desk.settings("03 Bass")["attack_ms"] == 3.3)
    assert desk.settings("03 Bass")["ratio"] == 10


def test_everything_on_the_take_is_reached_by_keyboard(desk, driver):
    desk.choose("03 Bass")
    hand = find(driver, ".take-hand")
    driver.execute_script("arguments[0].focus()", hand)
    beat = RATE // 2  # 120 bpm

    hand.send_keys(Keys.ARROW_RIGHT, Keys.ENTER)
    wait_until(lambda: document(desk)["loop"]["start_frame"] == beat)
    hand.send_keys(Keys.ARROW_RIGHT, Keys.ARROW_RIGHT, Keys.SHIFT, Keys.ENTER)
    wait_until(
        lambda: document(desk)["loop"] == {"on": True, "start_frame": beat, "end_frame": 3 * beat, "pause_s": 0.0}
    )
    before = desk.picture(".overview")
    hand.send_keys("+", "+", "+")
    desk.redrawn(before, selector=".overview")  # the frame in the overview has become smaller

    name = desk.row("03 Bass", ".strip-name")
    name.send_keys(Keys.ALT, Keys.ARROW_UP)
    wait_until(lambda: document(desk)["tracks"][document(desk)["order"][1]]["name"] == "03 Bass")
    desk.keys("l")
    wait_until(lambda: not document(desk)["loop"]["on"])


def test_the_overview_is_dragged_to_another_part(desk, driver):
    desk.choose("03 Bass")
    driver.execute_script("document.querySelector('.take-hand').focus()")
    desk.keys("+", "+", "+", "+", "+")
    before = desk.picture()

    strip = find(driver, ".overview")
    ActionChains(driver, duration=40).move_to_element_with_offset(strip, 300, 0).click().perform()

    desk.redrawn(before)


def test_a_drawing_that_fails_does_not_stop_the_sound(desk, driver, server):
    desk.click('[data-do="play"]')
    wait_until(lambda: driver.execute_script("return reins.live.played > 8000"))
    bad = urllib.request.Request(
        f"{server.url}/api{desk.session}/strips/nowhere/preview",
        json.dumps({"desk": "x", "number": 1, "start": 0, "frames": 10, "columns": 10}).encode(),
        {"content-type": "application/json"},
    )
    with pytest.raises(urllib.error.HTTPError, match="404"):
        urllib.request.urlopen(bad)
    played = driver.execute_script("return reins.live.played")
    wait_until(lambda: driver.execute_script("return reins.live.played") > played + 8000)
    desk.click('[data-do="play"]')


def test_the_guide_opens_from_the_bench(desk, driver, server):
    desk.choose("Drums")
    page = find(driver, '[data-do="guide"]').get_attribute("href")

    driver.get(page)

    assert find(driver, "h1").text == "Compressor"
    assert driver.execute_script("return [...document.images].every((i) => i.complete && i.naturalWidth > 0)")


def test_metre_and_route_are_set_in_place(desk, driver):
    desk.type("beats_per_bar", "3")
    wait_until(lambda: document(desk)["beats_per_bar"] == 3)
    desk.choose("03 Bass")
    desk.row("03 Bass", '[data-do="route"] option:last-child').click()
    (bus,) = document(desk)["buses"]
    wait_until(lambda: desk.track("03 Bass")["bus"] == bus)
    desk.undo()
    wait_until(lambda: desk.track("03 Bass")["bus"] == "")


def test_every_control_tells_its_sentence_on_hover_and_on_focus(desk, driver):
    desk.choose("Drums")
    hint = find(driver, ".hint")
    control = find(driver, '.bench [data-setting="knee_db"]')
    sentence = control.get_attribute("data-help")

    ActionChains(driver).move_to_element(find(driver, ".head-bars")).move_to_element(control).perform()
    wait_until(lambda: hint.is_displayed() and hint.text == sentence)
    ActionChains(driver).move_to_element(find(driver, ".head-bars")).perform()
    wait_until(lambda: not hint.is_displayed())
    find(driver, '.bench [data-setting="threshold_db"] [role="slider"]').send_keys(Keys.ARROW_DOWN)

    wait_until(
        lambda: (
            hint.is_displayed()
            and hint.text == find(driver, '.bench [data-setting="ratio"]').get_attribute("data-help")
        )
    )
    bare = driver.execute_script(
        "return [...document.querySelectorAll('.control')].filter((c) => !c.dataset.help).length"
    )
    assert (bare, sentence.endswith(".")) == (0, True)
