"""The shelf by hand: rename, duplicate, delete, bring back; what was set aside; dither and oversampling on the desk."""

import json
import urllib.request

import pytest
import soundfile
from selenium.webdriver.support.ui import Select

from tests.browser.driving import find, settled, wait_for, wait_until
from tests.browser.test_whole_session import whole


def names(driver):
    return [card.text for card in driver.find_elements("css selector", ".card-kept h2")]


def card(driver, name):
    return next(
        c for c in driver.find_elements("css selector", ".card-kept") if c.find_element("tag name", "h2").text == name
    )


def press(driver, name, what):
    wait_until(lambda: click(driver, card(driver, name).find_element("css selector", f"[data-do={what}]")))


def click(driver, element):
    """Click as soon as the page listens: after each change it is loaded anew."""
    if listens := driver.execute_script("return Boolean(document.querySelector('.shelf')?._x_dataStack)"):
        element.click()
    return listens


def test_a_session_is_renamed_duplicated_deleted_and_brought_back(desk, driver, server):
    body = json.dumps({"name": "Soundcheck"}).encode()
    request = urllib.request.Request(f"{server.url}/api/sessions", body, {"content-type": "application/json"})
    urllib.request.urlopen(request).close()
    driver.get(server.url)
    wait_for(driver, ".card-kept")

    press(driver, "Soundcheck", "rename")
    entry = wait_for(driver, "[data-do=new-name]")
    entry.clear()
    entry.send_keys("Second set")
    find(driver, "[data-do=really-rename]").click()
    wait_until(lambda: "Second set" in names(driver))
    press(driver, "Second set", "duplicate")
    wait_until(lambda: "Second set copy" in names(driver))
    press(driver, "Second set copy", "delete")
    wait_until(lambda: "Second set copy" not in names(driver))
    assert "Second set copy" in wait_for(driver, "[data-deleted]").text
    wait_until(lambda: click(driver, find(driver, "[data-deleted] [data-do=bring-back]")))
    wait_until(lambda: "Second set copy" in names(driver))
    for name in ("Second set", "Second set copy"):
        press(driver, name, "delete")
        wait_until(lambda name=name: name not in names(driver))
        wait_until(lambda: click(driver, find(driver, "[data-deleted] [data-do=forget]")))
        wait_for(driver, "[data-do=really-forget]").click()
        wait_until(lambda: not driver.find_elements("css selector", "[data-deleted]"))
    assert not {"Second set", "Second set copy"} & set(names(driver))


@pytest.mark.at("Snare", "compressor")
def test_times_that_are_short_offer_oversampling_and_one_press_takes_it(desk, driver):
    assert not find(driver, "[data-do=oversample]").is_displayed()
    desk.type("attack_ms", "0.2")
    wait_for(driver, "[data-do=oversample]")
    assert "folds tones of its own" in find(driver, ".bench-offer").text

    desk.click("[data-do=oversample]")

    wait_until(lambda: desk.settings("Snare")["oversampling"] == "auto")
    wait_until(lambda: not find(driver, "[data-do=oversample]").is_displayed())
    assert find(driver, '[data-setting="oversampling"] select').get_attribute("value") == "auto"


@pytest.mark.at("Snare", "gate")
def test_what_is_too_much_is_said_with_its_cure_and_one_press_takes_it(desk, driver):
    desk.type("threshold_db", "-8")
    wait_until(lambda: "do not get through" in find(driver, ".did-much[role=status]:has([data-do=cure])").text)
    cure = find(driver, "[data-do=cure]").text

    settled(driver)
    assert not driver.find_elements("css selector", ".did-facts.is-stale")  # they are of what is set

    desk.click("[data-do=cure]")

    wait_until(lambda: desk.settings("Snare")["threshold_db"] < -8)
    assert cure == f"Threshold {desk.settings('Snare')['threshold_db']:.1f} dB".replace("-", "−")
    wait_until(
        lambda: (
            "-8" not in find(driver, ".did-much[role=status]:has([data-do=cure])").text
            and not find(driver, "[data-do=cure]").is_displayed()
        )
    )


@pytest.mark.at("Bass")
def test_what_is_exported_at_16_bits_is_dithered_unless_told_not_to(desk, driver, downloads):
    files = {}
    for how in ("tpdf", "none"):
        before = set(downloads.glob("*.wav"))
        desk.click('[data-do="export"]')
        Select(find(driver, 'select[x-model="files.bits"]')).select_by_value("16")
        Select(wait_for(driver, "[data-do=dither]")).select_by_value(how)
        desk.click('[data-do="export-now"]')
        done = wait_until(lambda before=before: whole(downloads, set(downloads.glob("*.wav")) - before))
        files[how] = soundfile.read(done, dtype="int16")[0]
        done.unlink()
    apart = files["tpdf"].astype(int) - files["none"]
    assert set(apart) <= {-1, 0, 1} and 0.2 < (apart != 0).mean() < 0.8
