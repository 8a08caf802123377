"""The whole job as a person does it: hold one track down, see it, hear it, hand it over, find it again."""

import numpy as np
import soundfile
from selenium.webdriver.common.by import By

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from reins.demo.drums import make_hats, make_kick, make_snare
from tests.browser.driving import find, wait_for, wait_until
from tests.browser.test_whole_session import exported
from tests.conftest import kept as taken
from tests.shorter import shorter


def test_the_first_job_from_shelf_to_handed_over_file(desk, driver, server, downloads, tmp_path):
    driver.get(server.url)
    find(driver, "a[href$='last-boat-home']").click()
    wait_for(driver, ".take-canvas")
    assert len(driver.find_elements(By.CSS_SELECTOR, ".strip")) >= 10

    desk.choose("Snare")
    desk.click('[data-do="play"]')
    wait_until(lambda: driver.execute_script("return reins.live.played > 24000"))
    wait_until(lambda: "LUFS" in find(driver, '[data-reading="momentary_lufs"] dd').text)

    desk.add_compressor("Snare")
    before = desk.red_share()
    desk.drag(find(driver, ".threshold-handle"), 0, 40)
    wait_until(lambda: desk.settings("Snare")["threshold_db"] < -25)
    wait_until(lambda: desk.red_share() > 2 * before)
    wait_until(lambda: int(desk.fact("held").split()[0]) > 20)
    source, result = (float(v.replace("−", "-")) for v in desk.fact("crest").split(" → "))
    assert source != result

    desk.type("ratio", "6")
    desk.type("attack_ms", "12 ms")
    wait_until(lambda: desk.settings("Snare")["attack_ms"] == 12.0)
    assert desk.settings("Snare")["ratio"] == 6.0

    wait_until(lambda: find(driver, ".station-gain").text.startswith("−"))
    desk.click('[data-hear="source"]')
    assert find(driver, '[data-hear="source"]').get_attribute("aria-checked") == "true"
    desk.click('[data-hear="result"]')
    desk.click('[data-do="play"]')

    own = tmp_path / "My own take.wav"
    soundfile.write(own, 0.5 * np.sin(np.arange(96000) * 0.05), 48000, subtype="PCM_16")
    find(driver, '[aria-label="Bring in audio"]').send_keys(str(own))
    wait_for(driver, '.strip[aria-label="My own take"]')

    desk.choose("Snare")
    file = exported(desk, downloads, "strip", "Snare*.wav")
    held, _ = soundfile.read(file, dtype="float32")
    kept = desk.settings("Snare")
    source = taken(shorter(make_snare(make_kick(), make_hats())))
    chain = Chain([parse_entry({"type": "compressor", "settings": kept}, "x")], channels=1, sample_rate=48000)
    np.testing.assert_array_equal(held, chain.process(source)[0].astype(np.float32))

    state = desk.state()
    desk.loses_server()
    server.kill()
    server.start()
    desk.open()
    assert desk.state() == state
    desk.choose("Snare")
    wait_until(lambda: desk.shown("attack_ms") == "12.0 ms")
    assert desk.shown("ratio") == "6.00 : 1"
    wait_until(lambda: int(desk.fact("held").split()[0]) > 20)
