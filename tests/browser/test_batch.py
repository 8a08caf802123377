"""Many takes at once, by hand: gathered from a session and from files, held, heard, taken away; stopped."""

import io
import json
import zipfile

import numpy as np
import pytest
import soundfile
from selenium.webdriver.support.ui import Select

from tests.browser.driving import find, wait_for, wait_until
from tests.conftest import RATE
from tests.test_batch import CHAIN, bursts


def rows(driver):
    return driver.find_elements("css selector", ".batch-rows tbody tr")


def cells(row):
    return [cell.text for cell in row.find_elements("css selector", "th, td")]


def press(driver, what):
    button = find(driver, f"[data-do={what}]")
    wait_until(button.is_enabled)
    button.click()


def files(driver):
    return [one.text for one in driver.find_elements("css selector", ".batch-files li span")]


def ended(driver):
    """Once nothing runs any more."""
    return wait_until(lambda: rows(driver) and not find(driver, "[data-do=stop]").is_displayed())


@pytest.fixture
def page(driver, server, tmp_path):
    driver.get(server.url)
    wait_for(driver, "[data-do=batch]").click()
    wait_for(driver, ".batch-asked")
    wait_until(lambda: driver.execute_script("return Boolean(document.querySelector('.batch')?._x_dataStack)"))
    for seed, name in enumerate(["ferry.wav", "gull.flac"]):
        soundfile.write(tmp_path / name, bursts(seed=seed), RATE, subtype="PCM_16")
    (tmp_path / "bad.wav").write_text("no sound")
    (tmp_path / "own.json").write_text(json.dumps(CHAIN))
    return tmp_path


def choose_files(driver, page, *names):
    entry = driver.find_element("css selector", "[aria-label='Files for this batch']")
    entry.send_keys("\n".join(str(page / name) for name in names))


def test_files_are_held_by_a_chain_heard_and_taken_away(driver, server, page):
    choose_files(driver, page, "ferry.wav", "gull.flac", "bad.wav")
    wait_until(lambda: sorted(files(driver)) == ["bad.wav", "ferry.wav", "gull.flac"])
    driver.find_element("css selector", "[aria-label='A chain file']").send_keys(str(page / "own.json"))

    press(driver, "run")
    ended(driver)

    wait_until(lambda: len(rows(driver)) == 3)
    told = {cells(row)[0].split("\n")[0]: row for row in rows(driver)}
    assert "is-failed" in told["bad.wav"].get_attribute("class")
    assert "bad.wav: this is not audio that can be read" in told["bad.wav"].text and "/in/" not in told["bad.wav"].text
    before, after = (float(v.replace("−", "-")) for v in cells(told["ferry.wav"])[2].split(" → "))
    assert after < before and cells(told["ferry.wav"])[6].startswith("−")

    told["ferry.wav"].find_element("css selector", "[aria-label='After, ferry.wav']").click()
    sound = "document.querySelector('audio')"
    wait_until(lambda: driver.execute_script(f"return {sound}.duration === 1 && {sound}.currentTime > 0"))
    driver.refresh()  # what was begun is found again
    wait_until(lambda: len(rows(driver)) == 3)
    packed = find(driver, "[data-do=zip]").get_attribute("href")
    body = driver.execute_async_script(
        "const done = arguments[1]; fetch(arguments[0]).then(a => a.arrayBuffer())"
        ".then(b => done([...new Uint8Array(b)]))",
        packed,
    )
    with zipfile.ZipFile(io.BytesIO(bytes(body))) as archive:
        assert sorted(archive.namelist()) == ["ferry.wav", "gull.wav", "report.csv"]
        made, _ = soundfile.read(io.BytesIO(archive.read("ferry.wav")))
        assert b"bad.wav" in archive.read("report.csv")
    source, _ = soundfile.read(page / "ferry.wav")
    assert made.shape == source.shape and 0 < np.abs(made).mean() < np.abs(source).mean()


def test_takes_of_a_session_are_held_each_by_its_own_aim(driver, server, page):
    choice = Select(find(driver, "[data-do=session-takes]"))
    for name in ("Snare", "Kick"):
        choice.select_by_visible_text(name)
        wait_until(lambda name=name: f"{name}.wav" in files(driver))
    driver.find_element("css selector", "input[value=aim]").click()
    Select(find(driver, "[data-do=aim]")).select_by_visible_text("Hold the hits")

    press(driver, "run")
    ended(driver)

    wait_until(lambda: len(rows(driver)) == 2)
    for row in rows(driver):
        assert row.find_element("tag name", "small").text and cells(row)[6].startswith("−")


def test_a_batch_is_stopped_and_what_is_not_allowed_is_told(driver, server, page):
    press_stops = "[data-do=stop]"
    assert not find(driver, "[data-do=run]").is_enabled()
    choice = Select(find(driver, "[data-do=session-takes]"))
    choice.select_by_visible_text("All 10 takes")
    wait_until(lambda: len(files(driver)) == 10)
    driver.find_element("css selector", "input[value=aim]").click()
    number = find(driver, "[data-do=by]")
    number.clear()
    number.send_keys("400")
    press(driver, "run")
    wait_until(lambda: "allowed" in find(driver, ".form-problem").text)
    number.clear()
    number.send_keys("4")

    press(driver, "run")
    wait_until(lambda: find(driver, press_stops).is_displayed())
    find(driver, press_stops).click()

    wait_until(lambda: "stopped; what is done stays." in find(driver, ".batch-sentence").text)
    assert len(rows(driver)) < 10
