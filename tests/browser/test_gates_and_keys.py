"""Letting go and yielding, as a person does it: gates, expanders, reins between tracks."""

import numpy as np
import pytest
import soundfile
from selenium.webdriver.common.keys import Keys

from reins.demo import drums
from tests.browser.driving import choose_option, find, settled, wait_for, wait_until
from tests.browser.test_whole_session import exported
from tests.core.test_gate_expander import rms_db
from tests.shorter import shorter, within

RATE = 48000


def start_from(desk, name):
    choose_option(desk.driver, '[data-do="points"] option', lambda text: name in text)


def colour_share(desk, red, green, blue, top):
    """Share of the take's picture, from a height down, drawn in a colour."""
    settled(desk.driver)
    return desk.driver.execute_script(
        """const [r, g, b, top] = arguments;
        const c = document.querySelector(".take-canvas");
        const from = Math.round(c.height * top);
        const d = c.getContext("2d").getImageData(0, from, c.width, c.height - from).data;
        let n = 0;
        for (let i = 0; i < d.length; i += 4)
          if (Math.abs(d[i] - r) + Math.abs(d[i + 1] - g) + Math.abs(d[i + 2] - b) < 40 && d[i + 3] > 200) n++;
        return n / (d.length / 4);""",
        red, green, blue, top,
    )  # fmt: skip


def draw_rein(desk, key, held):
    """Drag the ring of one strip onto another: the events a hand makes."""
    desk.driver.execute_script(
        """const [grip, goal] = arguments;
        const send = (place, type) => place.dispatchEvent(new DragEvent(type, { bubbles: true, cancelable: true, dataTransfer: new DataTransfer() }));
        send(grip, "dragstart"); send(goal, "dragover"); send(goal, "drop"); send(grip, "dragend");""",
        desk.row(key, ".strip-grip"), find(desk.driver, f'.strip[aria-label="{held}"]'),
    )  # fmt: skip


def bass_follows_kick(desk):
    draw_rein(desk, "Kick", "Bass")
    wait_until(lambda: "Kick" in desk.row("Bass", ".strip-reins").text)


@pytest.mark.at("Snare", "gate")
def test_the_snares_microphone_is_gated(desk, driver, downloads):
    start_from(desk, "Snare, only its own hits")
    wait_until(lambda: "hits pass, what lies between is" in (desk.state()["undo"] or ""))

    def openings_a_bar():
        return float(desk.fact("openings").split(", ")[1].split()[0]) if "," in desk.fact("openings") else 0

    wait_until(lambda: openings_a_bar() == pytest.approx(5, abs=0.2))  # hits a bar
    assert colour_share(desk, 44, 122, 88, 0.9) > 0.02  # the band along the foot: open and holding
    desk.type("range_db", "6")
    wait_until(lambda: desk.track("Snare")["chain"][-1]["settings"]["range_db"] == 6)
    desk.type("range_db", "40")
    wait_until(lambda: desk.track("Snare")["chain"][-1]["settings"]["range_db"] == 40)

    file = exported(desk, downloads, "strip", "Snare held*.wav")
    wait_until(lambda: file.stat().st_size > 2_500_000)
    held = soundfile.read(file)[0]
    source = shorter(drums.make_snare(drums.make_kick(), drums.make_hats()))[0]
    pauses = [round((at + 0.35) * RATE) for at, db in within(drums.snare_hits()) if db > -10]
    assert max(rms_db(held[a : a + 2400]) - rms_db(source[a : a + 2400]) for a in pauses) < -20
    desk.click('.station.is-selected [title="Remove"]')


def test_a_rein_from_kick_to_bass_makes_the_bass_yield(desk, driver):
    ids = {t["name"]: k for k, t in desk.state()["document"]["tracks"].items()}

    draw_rein(desk, "Kick", "Bass")

    wait_until(
        lambda: desk.track("Bass")["chain"][-1]["settings"].get("key", {}).get("source") == f"{ids['Kick']}/after"
    )
    wait_until(lambda: "Kick" in desk.row("Bass", ".strip-reins").text)
    wait_until(lambda: len(driver.find_elements("css selector", ".reins path.rein")) == 1)
    start_from(desk, "Bass under kick")
    wait_until(lambda: desk.track("Bass")["chain"][-1]["settings"]["amount_db"] == 9)
    assert desk.track("Bass")["chain"][-1]["settings"]["key"]["source"] == f"{ids['Kick']}/after"
    wait_until(lambda: desk.fact("deepest") == "−9.0 dB")
    assert "ms" in desk.fact("returns")
    assert colour_share(desk, 185, 122, 11, 0.2) > 0.001  # the key's level over the take

    desk.click('[data-hear="key"]')
    desk.click('[data-do="play"]')
    wait_until(lambda: driver.execute_script("return reins.live.played > 100000"))
    gain = driver.execute_script(
        "return Math.min(...reins.live.blocks.map((b) => Object.values(b.meters?.gains ?? {})).flat(), 0)"
    )
    desk.click('[data-do="play"]')
    desk.click('[data-hear="result"]')
    assert gain <= 0


def test_a_rein_that_closes_a_circle_is_refused_with_a_sentence(desk, driver):
    bass_follows_kick(desk)
    desk.add("Kick", "ducker")
    before = desk.track("Kick")["chain"]

    choose_option(driver, ".control-list option", "Bass".__eq__)

    wait_until(lambda: "circle: " in find(driver, '[data-note="problem"]').text)
    assert desk.track("Kick")["chain"] == before
    desk.refused()
    desk.click('.station.is-selected [title="Remove"]')


def test_removing_a_key_asks_and_leaves_the_other_following_itself(desk, driver):
    bass_follows_kick(desk)
    ids = {t["name"]: k for k, t in desk.state()["document"]["tracks"].items()}
    before = desk.state()["document"]
    desk.choose("Kick")

    desk.click('[data-do="remove-track"]')
    wait_until(lambda: "Bass" in wait_for(driver, "dialog[open]").text)
    desk.click('[data-do="really-remove"]')

    wait_until(lambda: ids["Kick"] not in desk.state()["document"]["tracks"])
    assert desk.track("Bass")["chain"][-1]["settings"]["key"]["source"] == "self"
    driver.execute_script("document.activeElement.blur()")
    desk.undo()
    wait_until(lambda: desk.state()["document"] == before)


@pytest.mark.at("Kick", "expander")
def test_a_flat_kick_gets_its_punch_back(desk, driver):
    start_from(desk, "Kick, attack raised")
    wait_until(lambda: desk.track("Kick")["chain"][-1]["settings"]["direction"] == "up")

    def crests():
        return [float(v.replace("−", "-")) for v in desk.fact("crest").split(" → ")]

    wait_until(lambda: np.ptp(crests()) > 0.5 and crests()[1] > crests()[0])
    desk.click('[data-do="history"]')
    wait_until(lambda: "Kick: expander from “Kick, attack raised”" in wait_for(driver, "dialog[open]").text)
    desk.keys(Keys.ESCAPE)
    desk.click('.station.is-selected [title="Remove"]')


def test_the_whole_band_steps_back_under_the_announcer(desk, driver):
    desk.click('[data-do="add-bus"]')
    wait_for(driver, '[data-do="bus-name"]').send_keys("Band")
    for box in driver.find_elements("css selector", ".dialog-members .dialog-choice"):
        if box.text in ("Bass", "Guitar L", "Guitar R", "Harmonium"):
            box.click()
    desk.click('[data-do="make-bus"]')
    wait_for(driver, '.strip-bus[aria-label="Band"]')

    draw_rein(desk, "Announcer", "Band")
    wait_until(lambda: "Announcer" in desk.row("Band", ".strip-reins").text)
    start_from(desk, "Band under a speaker")

    def band():
        return next(b for b in desk.state()["document"]["buses"].values() if b["name"] == "Band")

    wait_until(lambda: band()["chain"][-1]["settings"]["amount_db"] == 10)  # the ducker that was drawn holds already
    wait_until(lambda: "dB" in desk.fact("deepest") and float(desk.fact("deepest").split()[0].replace("−", "-")) < -8)

    assert float(desk.fact("held").split()[0]) < 60  # the announcer's room does not hold the band down all the time
