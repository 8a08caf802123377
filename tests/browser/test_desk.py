"""Each thing the hand can do at the desk, and what is kept, drawn or heard of it."""

import re

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.driving import choose_option, find, settled, wait_for, wait_until


@pytest.mark.at("Kick", "compressor")
def test_a_bead_dragged_is_one_step_and_goes_back_with_undo(desk, driver):
    step = desk.state()["step"]

    desk.drag(find(driver, '[data-setting="release_ms"] .control-line'), 30, 0)
    wait_until(lambda: desk.settings("Kick")["release_ms"] > 150)
    assert desk.state()["step"] == step + 1

    desk.undo()
    wait_until(lambda: desk.settings("Kick")["release_ms"] == 120)
    wait_until(lambda: desk.shown("release_ms") == "120 ms")
    desk.undo(again=True)
    wait_until(lambda: desk.settings("Kick")["release_ms"] > 150)


@pytest.mark.at("Hats", "compressor")
def test_shift_drags_ten_times_finer(desk, driver):
    desk.type("threshold_db", "-18 dB")  # it was laid by the take
    desk.drag(find(driver, '[data-setting="threshold_db"] .control-line'), -30, 0)
    wait_until(lambda: desk.settings("Hats")["threshold_db"] != -18)
    coarse = -18 - desk.settings("Hats")["threshold_db"]
    desk.keys(Keys.HOME)
    wait_until(lambda: desk.settings("Hats")["threshold_db"] == -18)

    desk.drag(find(driver, '[data-setting="threshold_db"] .control-line'), -30, 0, shift=True)
    wait_until(lambda: desk.settings("Hats")["threshold_db"] != -18)

    assert coarse / (-18 - desk.settings("Hats")["threshold_db"]) == pytest.approx(10, rel=0.15)


@pytest.mark.at("Room", "compressor")
def test_arrow_keys_step_home_and_double_click_put_the_default_back(desk, driver):
    line = find(driver, '[data-setting="ratio"] .control-line')
    line.send_keys(Keys.ARROW_RIGHT * 5)
    wait_until(lambda: desk.settings("Room")["ratio"] > 4)
    line.send_keys(Keys.HOME)
    wait_until(lambda: desk.settings("Room")["ratio"] == 4)
    line.send_keys(Keys.ARROW_LEFT * 5)
    wait_until(lambda: desk.settings("Room")["ratio"] < 4)

    ActionChains(driver).double_click(find(driver, '[data-setting="ratio"] .control-label')).perform()

    wait_until(lambda: desk.settings("Room")["ratio"] == 4)


@pytest.mark.at("Bass", "compressor")
def test_numbers_are_typed_with_their_units(desk):

    def stored(setting):
        value = desk.settings("Bass")
        for part in setting.split("."):
            value = value[part]
        return value

    for setting, text, kept, shown in [
        ("attack_ms", "0.12 s", 120.0, "120 ms"),
        ("release_ms", "1/8", 312.5, "313 ms"),
        ("key.low_cut_hz", "5k", 5000.0, "5.00 kHz"),
        ("threshold_db", "−24 dB", -24.0, "−24.0 dB"),
        ("key.low_cut_hz", "off", 0.0, "off"),
    ]:
        desk.type(setting, text)
        wait_until(lambda: stored(setting) == kept)  # noqa: B023 - asked at once
        wait_until(lambda: desk.shown(setting) == shown)  # noqa: B023


@pytest.mark.at("Guitar L", "compressor")
def test_a_wrong_entry_says_what_is_allowed_and_keeps_the_old_value(desk, driver):
    desk.type("threshold_db", "-18 dB")  # it was laid by the take
    wait_until(lambda: desk.settings("Guitar L")["threshold_db"] == -18.0)
    step = desk.state()["step"]

    desk.type("threshold_db", "12")
    error = wait_for(driver, ".control-error").text
    entry = find(driver, '[data-setting="threshold_db"] .control-entry')
    entry.send_keys("b 2 ")  # keys of the desk mean nothing while typing
    entry.send_keys(Keys.ESCAPE)

    assert error == "Allowed: −60.0 dB to 0.0 dB. Still −18.0 dB."
    assert desk.shown("threshold_db") == "−18.0 dB"
    assert desk.state()["step"] == step


@pytest.mark.at("Guitar R", "compressor")
def test_a_choice_is_kept_and_heard_of(desk):

    desk.click('[data-setting="auto_release"] [data-value="true"]')

    wait_until(lambda: desk.settings("Guitar R")["auto_release"] is True)


@pytest.mark.at("Singer", "compressor")
def test_the_pictures_of_the_bench_follow_the_settings(desk, driver):
    pictures = [f".{name}-canvas" for name in ("curve", "burst", "histogram", "take")]
    before = [desk.picture(picture) for picture in pictures]

    for setting, text in (("threshold_db", "-40"), ("ratio", "10"), ("attack_ms", "80"), ("release_ms", "900")):
        desk.type(setting, text)
    wait_until(lambda: desk.settings("Singer")["release_ms"] == 900)

    for old, picture in zip(before, pictures, strict=True):
        desk.redrawn(old, selector=picture)
    wait_until(lambda: float(desk.fact("deepest").split()[0].replace("−", "-")) < -15)


@pytest.mark.at("Harmonium")
def test_wheel_zooms_and_the_ruler_makes_a_loop_that_plays(desk, driver):
    view = find(driver, ".take-hand")
    whole = desk.picture()
    for _ in range(6):
        ActionChains(driver).scroll_from_origin(_at(view), 0, -100).perform()
    desk.redrawn(whole)

    top = -view.size["height"] // 2 + 8
    ActionChains(driver, duration=40).move_to_element_with_offset(view, -100, top).click_and_hold().move_by_offset(
        60, 0
    ).move_by_offset(60, 0).release().perform()
    loop = wait_until(lambda: (lambda v: v if v["on"] else None)(desk.state()["document"]["loop"]))
    beat = 48000 * 60 / 96
    assert loop["start_frame"] % beat == loop["end_frame"] % beat == 0

    wait_for(driver, '[data-do="loop"][aria-pressed="true"]')
    desk.keys(Keys.BACKSPACE, " ")
    wait_until(lambda: driver.execute_script("return reins.live.played > 20000"))
    position = driver.execute_script("return reins.live.position()")
    desk.keys(" ", "l")
    assert loop["start_frame"] <= position <= loop["end_frame"]
    wait_until(lambda: not desk.state()["document"]["loop"]["on"])


@pytest.mark.at("Snare")
def test_a_page_that_is_not_drawn_yet_shows_the_source_as_the_overview_has_it(desk, driver):
    wait_until(lambda: driver.execute_script("return Boolean(reins.view.model.rough)"))
    driver.execute_script("reins.view.look(0, 48000 * 5)")
    settled(driver)

    pale = driver.execute_script("""
      reins.previews.fetch = () => new Promise(() => {});  // the answer is slow to come
      reins.view.look(48000 * 8, 48000 * 5);
      const c = document.querySelector(".take-canvas");
      const d = c.getContext("2d").getImageData(0, 0, c.width, c.height).data;
      let n = 0;
      for (let i = 0; i < d.length; i += 4) if (d[i] === 203 && d[i + 1] === 213 && d[i + 2] === 218) n++;
      return n / (d.length / 4);""")

    assert pale > 0.1
    desk.leave()


def _at(element):
    from selenium.webdriver.common.actions.wheel_input import ScrollOrigin

    return ScrollOrigin.from_element(element)


def test_fader_pan_mute_and_solo_are_kept_and_heard(desk, driver):
    desk.drag(desk.row("Announcer", ".control-line"), -25, 0)
    wait_until(lambda: desk.track("Announcer")["fader_db"] < -5)
    desk.type("pan_pct", "-40", scope='.strip[aria-label="Announcer"] ')
    wait_until(lambda: desk.track("Announcer")["pan_pct"] == -40)
    desk.row("Announcer", ".strip-solo").click()
    wait_until(lambda: desk.track("Announcer")["solo"])

    desk.click('[data-do="play"]')
    meters = wait_until(
        lambda: driver.execute_script("const m = reins.live.meters; return m && m.frame > 30000 ? m : null")
    )
    desk.click('[data-do="play"]')
    desk.row("Announcer", ".strip-solo").click()
    wait_until(lambda: not desk.track("Announcer")["solo"])

    ids = {t["name"]: k for k, t in desk.state()["document"]["tracks"].items()}
    assert meters["strips"][ids["Announcer"]][0] > -90
    assert meters["strips"][ids["Harmonium"]][0] == -120


@pytest.mark.at("Harmonium", "compressor")
def test_what_is_changed_while_it_plays_is_heard(desk, driver):
    desk.click('[data-do="play"]')
    wait_until(lambda: driver.execute_script("return reins.live.played > 30000"))

    louder_db = driver.execute_async_script("""
      const done = arguments[0];
      const line = document.querySelector('.bench [data-setting="makeup_db"] .control-line');
      const processor = document.querySelector(".station.is-selected").dataset.processor;
      const gained = (b) => (b.meters?.points[processor] ? b.meters.points[processor][1] - b.meters.points[processor][0] : 0);
      const look = () => {
        const louder = reins.live.blocks.find((b) => gained(b) > 5);
        if (louder) done(gained(louder));
        else setTimeout(look, 1);
      };
      for (let i = 0; i < 10; i++) line.dispatchEvent(new KeyboardEvent("keydown", { key: "PageUp", bubbles: true }));
      look();
    """)
    desk.click('[data-do="play"]')

    assert louder_db > 5  # how soon it is heard, `make bench-desk` measures


@pytest.mark.at("Announcer", "compressor")
def test_a_chain_is_duplicated_reordered_switched_and_cleared(desk, driver):
    desk.type("ratio", "9")
    wait_until(lambda: desk.settings("Announcer")["ratio"] == 9)
    desk.click('[aria-label="Duplicate Compressor"]')
    wait_until(lambda: len(desk.track("Announcer")["chain"]) == 2)
    first, second = [e["id"] for e in desk.track("Announcer")["chain"]]

    wait_until(lambda: len(driver.find_elements("css selector", ".station")) == 2)
    stations = driver.find_elements("css selector", ".station")
    ActionChains(driver).drag_and_drop(stations[1], stations[0]).perform()
    wait_until(lambda: [e["id"] for e in desk.track("Announcer")["chain"]] == [second, first])

    wait_until(lambda: find(driver, ".station").get_attribute("data-processor") == second)
    desk.click(".station-lamp")
    wait_until(lambda: desk.track("Announcer")["chain"][0]["on"] is False)
    desk.click('[aria-label="Remove Compressor"]')
    wait_until(lambda: [e["id"] for e in desk.track("Announcer")["chain"]] == [first])
    desk.keys("]", "b")
    wait_until(lambda: desk.track("Announcer")["chain"][0]["on"] is False)


@pytest.mark.at("Kick")
def test_keys_choose_tracks_and_what_is_heard(desk, driver):

    desk.keys(".", "2")

    wait_until(lambda: find(driver, ".take-head h2").text == "Snare")
    wait_until(lambda: find(driver, '[data-hear="source"]').get_attribute("aria-checked") == "true")
    desk.keys(",", "1", "?")
    assert wait_for(driver, "dialog[open]").text.startswith("Keys")
    desk.keys(Keys.ESCAPE)
    wait_until(lambda: find(driver, ".take-head h2").text == "Kick")


CUT_OFF = """
      const bad = [];
      const note = (e, why) => bad.push(`${why}: ${e.className} ${e.textContent.trim().slice(0, 30)}`);
      const within = (e, box) => {
        const [r, b] = [e.getBoundingClientRect(), box.getBoundingClientRect()];
        return !r.width || (r.right <= b.right + 1 && r.bottom <= b.bottom + 1 && r.left >= b.left - 1 && r.top >= b.top - 1);
      };
      for (const e of document.querySelectorAll(".sheet, .head > *, .side")) if (!within(e, document.querySelector(".desk"))) note(e, "off the desk");
      for (const e of document.querySelectorAll(".bench .control > *, .control-option")) if (!within(e, e.closest(".control"))) note(e, "over its control");
      for (const e of document.querySelectorAll(".bench-controls .control, .strip.is-selected .control, .did-row > *, .bench canvas")) if (!within(e, e.closest(".sheet, .strip"))) note(e, "off its sheet");
      for (const control of document.querySelectorAll(".bench .control")) {
        const [label, number] = [...control.children].map((e) => e.getBoundingClientRect());
        if (label.right > number.left + 0.5 && number.top < label.bottom - 4) note(control, "label under number");
      }
      for (const e of document.querySelectorAll(".bands-place")) if (e.scrollWidth > e.clientWidth) note(e, "table scrolls sideways");
      const heads = [...document.querySelectorAll(".head > *")].filter((e) => e.offsetWidth).map((e) => e.getBoundingClientRect());
      heads.slice(1).forEach((r, i) => { if (r.left < heads[i].right - 0.5) bad.push(`heads ${i} and ${i + 1} overlap`); });
      const { scrollWidth, scrollHeight } = document.documentElement;
      return [bad, scrollWidth, scrollHeight];
"""


KINDS = ("compressor", "deesser", "multiband", "dynamic_eq")


@pytest.mark.at("Hats", *KINDS, laid=False)
def test_nothing_is_cut_off_at_any_width(desk, driver):
    def widen(width):
        size = {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False}
        driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
        wait_until(lambda: driver.execute_script("return innerWidth") == width)
        settled(driver)

    found = {}
    desk.click('[data-do="add-band"]')
    wait_for(driver, '.bands [data-row="1"]')
    for width in (1024, 1920, 1280):
        widen(width)
        for kind in KINDS:
            desk.click(f'.station[data-type="{kind}"]')
            wait_for(driver, f'.station.is-selected[data-type="{kind}"]')
            settled(driver)
            found[kind, width] = driver.execute_script(CUT_OFF)
            # What stands at the end of the take's head stays within it; the map brings more, where there is least room.
            for picture in ("map", "level") if width == 1024 else ("level",):
                desk.click(f'[data-do="{picture}"]')
                head = "const head = document.querySelector('.take-head'); return head.scrollWidth - head.clientWidth"
                assert driver.execute_script(head) == 0, (kind, width, picture)

    assert found == {(kind, width): [[], width, 800] for kind, width in found}


@pytest.mark.at("Bass", "compressor")
def test_the_threshold_handle_answers_to_the_keyboard_and_is_read_out(desk, driver):
    desk.type("threshold_db", "-18 dB")  # it was laid by the take
    handle = find(driver, ".threshold-handle")

    handle.send_keys(Keys.ARROW_DOWN * 4)

    index = len(desk.track("Bass")["chain"]) - 1
    wait_until(lambda: desk.settings("Bass", index)["threshold_db"] == -20)
    wait_until(lambda: handle.get_attribute("aria-valuetext") == "−20.0 dB")
    slider = find(driver, '.bench [data-setting="threshold_db"] .control-line')
    assert slider.get_attribute("aria-valuetext") == "−20.0 dB"
    assert slider.get_attribute("aria-description") == "What is louder than this is held; lower holds more."


@pytest.mark.at("Hats")
def test_a_limiter_shows_its_ceiling_on_the_take_and_holds_to_it(desk, driver):
    desk.click('[data-do="add"]')
    desk.click('[data-add="limiter"]')
    wait_for(driver, '.bench [data-setting="ceiling_db"]')
    settled(driver)

    desk.drag(find(driver, ".threshold-handle"), 0, 60)

    kept = wait_until(
        lambda: (lambda v: v if v < -15 else None)(desk.track("Hats")["chain"][-1]["settings"]["ceiling_db"])
    )
    wait_until(lambda: find(driver, ".threshold-handle").text == f"ceiling {kept:.1f}".replace("-", "−"))
    wait_until(lambda: float(desk.fact("deepest").split()[0].replace("−", "-")) < -5)
    desk.click('[aria-label="Remove Limiter"]')
    wait_until(lambda: "limiter" not in [e["type"] for e in desk.track("Hats")["chain"]])


@pytest.mark.at("Guitar R", "compressor")
def test_drafts_are_kept_apart_swapped_and_copied(desk, driver):
    index = len(desk.track("Guitar R")["chain"]) - 1
    desk.type("ratio", "2")
    wait_until(lambda: desk.settings("Guitar R", index)["ratio"] == 2)
    desk.click('[data-draft="2"]')
    wait_until(lambda: desk.track("Guitar R")["draft"] == 2)
    desk.click(f".station:nth-of-type({index + 1}) .station-name")
    desk.type("ratio", "8")
    wait_until(lambda: desk.settings("Guitar R", index)["ratio"] == 8)

    ActionChains(driver).key_down(Keys.SHIFT).send_keys("1").key_up(Keys.SHIFT).perform()
    wait_until(lambda: desk.track("Guitar R")["draft"] == 1)
    assert desk.settings("Guitar R", index)["ratio"] == 2

    desk.click('[data-do="copy-draft"]')
    desk.click('[data-draft="2"]')
    wait_until(lambda: desk.track("Guitar R")["drafts"]["2"]["chain"][index]["settings"]["ratio"] == 2)


@pytest.mark.at("Harmonium", "compressor")
def test_a_starting_point_fills_the_settings_in_one_step(desk, driver):
    index = len(desk.track("Harmonium")["chain"]) - 1
    step = desk.state()["step"]

    choose_option(driver, '[data-do="points"] option', lambda text: text.startswith("Piano, without pulsing"))

    wait_until(lambda: desk.settings("Harmonium", index)["release_ms"] == 400)
    assert desk.state()["step"] == step + 1
    label = desk.state()["undo"]
    assert re.fullmatch(
        "Harmonium: compressor from “Piano, without pulsing”, "
        r"usually −[\d.]+ dB, at most −[\d.]+ dB, moving \d+ % of the time",
        label,
    )
    wait_until(lambda: find(driver, '[data-note="told"]').text == f"{label}.")
    wait_until(lambda: desk.shown("release_ms") == "400 ms")
