"""What bands of EQ, multiband and de-esser may do besides: averages, curves, a line that leans, soft ranges,
channels of their own.
"""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry, parse_settings
from reins.core.dsp.filters import sections_response
from reins.core.engine.chain import Chain
from reins.core.processors import PROCESSORS
from reins.core.processors.weighting import rising_sections
from reins.errors import SettingsError
from tests.conftest import RATE
from tests.reference.by_frequency import chain_of, db, run, sine


def test_a_band_follows_the_average_and_highs_count_by_as_much_as_asked():
    rate = 48000
    noise = np.random.default_rng(4).standard_normal((1, rate)) * 0.05
    entry = lambda **more: parse_entry(  # noqa: E731
        {"id": "p", "type": "dynamic_eq", "settings": {"bands": [
            {"freq_hz": 1000, "motion": "compress", "watch": "whole", "threshold_db": -40, "ratio": 100, "knee_db": 0,
             "range_db": 60, "attack_ms": 0, "release_ms": 1, **more}]}}, "x",
    )  # fmt: skip

    def usual(sound, **more):
        chain = Chain([entry(**more)], channels=1, sample_rate=rate)
        chain.process(sound)
        return chain.gains()[0][1]["band1.gain_db"][rate // 2 :]

    average = usual(noise, rms_pct=100, rms_ms=100)
    rms_db = 20 * np.log10(noise.std())
    assert average.mean() == pytest.approx(-40 - rms_db, abs=0.3) and average.std() < 0.6
    assert usual(noise).std() > 3 * average.std()  # peaks come and go
    for slope in (1.5, 6.0):
        hz = np.array([400.0, 1600.0, 6400.0])
        rise = db(sections_response(rising_sections(rate, slope), hz, rate))
        np.testing.assert_allclose(np.diff(rise), 2 * slope, atol=0.5)
    # Files of old call a weighting of 3 dB/oct a thing to watch.
    old = entry(watch="band_weighted").settings.bands[0]
    assert old.watch == "band" and old.weight_db_oct == 3.0


def test_a_band_is_moved_by_a_curve_of_its_own():
    rate, points = 48000, [[-60, -60], [-40, -34], [-20, -24], [0, -10]]
    curved = {"freq_hz": 1000, "motion": "curve", "points": points, "knee_db": 0, "range_db": 20, "attack_ms": 0,
              "release_ms": 1, "rms_pct": 100, "rms_ms": 100}  # fmt: skip
    held = {"freq_hz": 200, "motion": "compress", "threshold_db": 0}  # beside one without a curve
    entry = parse_entry({"id": "p", "type": "dynamic_eq", "settings": {"bands": [curved, held]}}, "x")
    for rms_db, gain_db in ((-70.0, 0.0), (-40.0, 6.0), (-30.0, 1.0), (-20.0, -4.0), (-10.0, -7.0)):
        tone = 2**0.5 * 10 ** (rms_db / 20) * np.sin(2 * np.pi * 1000 * np.arange(rate) / rate)[None]
        chain = Chain([entry], channels=1, sample_rate=rate)
        made = chain.process(tone)[:, -4800:]
        assert chain.gains()[0][1]["band1.gain_db"][-1] == pytest.approx(gain_db, abs=0.1)
        assert 20 * np.log10(made.std()) - rms_db == pytest.approx(gain_db, abs=0.15)
    with pytest.raises(SettingsError, match="levels in that rise"):
        parse_entry({"type": "dynamic_eq", "settings": {"bands": [{"points": [[0, 0], [0, -3]]}]}}, "x")


@pytest.mark.parametrize("slope", [30, 66, 114])
def test_cuts_of_any_order_fall_as_steeply_as_they_say(slope):
    settings = parse_entry(
        {"type": "dynamic_eq", "settings": {"low_cut_hz": 1000, "low_cut_slope": slope}}, "x"
    ).settings
    hz = np.array([1000.0, 500.0, 400.0])
    order = slope // 6
    want = -10 * np.log10(1 + (np.tan(np.pi * 1000 / 48000) / np.tan(np.pi * hz / 48000)) ** (2 * order))  # Butterworth
    np.testing.assert_allclose(
        PROCESSORS["dynamic_eq"].response_db(settings, hz, {}, 48000), np.maximum(want, -120), atol=0.05
    )


def test_a_line_leaned_over_the_bands_is_thresholds_and_gains_that_go_together():
    sound = np.random.default_rng(6).standard_normal((1, RATE)) * 0.1
    crossovers, bands = [200.0, 2500.0], [{"threshold_db": -40.0, "ratio": 4.0}] * 3
    leans = {"lean_lows_db": 6.0, "lean_middle_db": 0.0, "lean_highs_db": -4.0}

    def made(**settings):
        return chain_of("multiband", {"crossovers_hz": crossovers, "bands": bands} | settings).process(sound)

    middles = [np.sqrt(20 * 200), np.sqrt(200 * 2500), np.sqrt(2500 * 20000)]
    each = np.interp(np.log(middles), np.log([100.0, 1000.0, 8000.0]), list(leans.values()))
    typed = [{"threshold_db": -40.0 - by, "ratio": 4.0, "gain_db": 0.75 * by} for by in each]
    np.testing.assert_allclose(made(**leans), made(bands=typed), atol=1e-12)
    plain, level = made(), made(**dict.fromkeys(leans, 0.0))
    np.testing.assert_array_equal(plain, level)
    assert np.abs(made(**leans) - plain).max() > 0.01
    # One that lets the loud up, and one that is off, keep what they are.
    other = [{"direction": "expand_up", "threshold_db": -40.0}, {"on": False}, {"direction": "lift"}]
    np.testing.assert_array_equal(made(bands=other, **leans), made(bands=other))
    kind = PROCESSORS["multiband"]
    settings = parse_settings("multiband", {"crossovers_hz": crossovers, "bands": bands} | leans, "x")
    assert kind.part_of(settings, "band1.gain_db").threshold_db == pytest.approx(-40 - each[0])


@pytest.mark.parametrize("kind", ["deesser", "dynamic_eq", "multiband"])
def test_a_range_is_come_to_softly_where_that_is_asked(kind):
    def held(over_db, soft):
        own = {"threshold_db": -50, "ratio": 100, "knee_db": 0, "range_db": 10, "soft_range": soft, "rms_pct": 100}
        settings = {
            "deesser": own | {"low_hz": 700, "high_hz": 1500, "attack_ms": 0},
            "dynamic_eq": {"bands": [own | {"freq_hz": 1000, "motion": "compress", "attack_ms": 0}]},
            "multiband": {"crossovers_hz": [10000], "bands": [own | {"attack_ms": 0}, {}]},
        }[kind]
        tone = sine(1000, -50 + 3.01 + over_db)  # its average lies 3 dB under its peak
        return -min(row[-1] for row in run(kind, tone, **settings)[1].values())

    for over_db in (4.0, 9.0, 20.0, 40.0):
        wanted = held(over_db, False)
        plain = min(over_db, 10.0)
        x = max(over_db - 7.0, 0.0)
        assert wanted == pytest.approx(plain, abs=0.8)  # filters before it take a little
        assert held(over_db, True) == pytest.approx(min(over_db, 7.0) + 3.0 * x / (3.0 + x), abs=0.8)
    assert held(40.0, True) < held(40.0, False) and held(10.0, True) < held(10.0, False) - 0.8


def test_a_band_may_share_the_rests_ratio_too():
    band = {"freq_hz": 1000, "motion": "compress", "threshold_db": -40, "ratio": 2, "knee_db": 0, "range_db": 60,
            "attack_ms": 0, "release_ms": 4000, "watch": "whole"}  # fmt: skip
    rest = {"ratio": 8, "attack_ms": 0, "release_ms": 4000, "on": False}

    def moved(timing):
        told = run("dynamic_eq", sine(1000, -20), bands=[band | {"timing": timing}], rest=rest)[1]
        return told["band1.gain_db"][-1]

    assert moved("own") == moved("rest") == pytest.approx(-10, abs=0.05)
    assert moved("rest_ratio") == pytest.approx(-20 * (1 - 1 / 8), abs=0.05)


MOVING_EQ = {"low_cut_hz": 80, "bands": [
    {"freq_hz": 300, "motion": "compress", "threshold_db": -50, "q": 0.7, "attack_ms": 2},
    {"freq_hz": 4000, "motion": "expand", "threshold_db": -45, "range_db": 6}, {"freq_hz": 1500, "gain_db": 4}],
    "rest": {"on": True, "threshold_db": -40}}  # fmt: skip


def two_channels(seed=3):
    rng = np.random.default_rng(seed)
    return np.stack([rng.standard_normal(24000) * 0.2, rng.standard_normal(24000) * 0.02])


def test_an_eqs_middle_is_moved_and_its_sides_are_not():
    sound = two_channels()
    made = run("dynamic_eq", sound, **MOVING_EQ, channels="mid_side", apply_to="first", link_pct=0)[0]
    middle, sides = 0.5 * (sound[0] + sound[1]), 0.5 * (sound[0] - sound[1])
    np.testing.assert_allclose(0.5 * (made[0] - made[1]), sides, atol=1e-12)
    alone = run("dynamic_eq", middle[None], **MOVING_EQ)[0]
    np.testing.assert_allclose(0.5 * (made[0] + made[1]), alone[0], atol=1e-12)
    linked = run("dynamic_eq", sound, **MOVING_EQ, channels="mid_side", apply_to="second")[0]
    np.testing.assert_allclose(0.5 * (linked[0] + linked[1]), middle, atol=1e-12)


def test_an_eqs_channels_go_their_own_ways_as_far_as_they_are_not_linked():
    sound = two_channels()
    parted, told = run("dynamic_eq", sound, **MOVING_EQ, link_pct=0)
    for channel in (0, 1):
        alone, own = run("dynamic_eq", sound[channel : channel + 1], **MOVING_EQ)
        np.testing.assert_allclose(parted[channel], alone[0], atol=1e-12)
        assert (np.abs(told["band1.gain_db"]) >= np.abs(own["band1.gain_db"]) - 1e-12).all()
    # Half linked, the quiet one counts as halfway in dB to the loud one, and the loud one stays as it is.
    tones = np.concatenate([sine(300, -20), sine(300, -40)])
    band = {"freq_hz": 300, "motion": "compress", "threshold_db": -50, "ratio": 2, "knee_db": 0, "range_db": 60,
            "attack_ms": 0, "release_ms": 4000}  # fmt: skip
    left, right = run("dynamic_eq", tones, bands=[band], link_pct=50)[0][:, -4800:]
    reached = [20 * np.log10(np.abs(row).max()) for row in (left, right)]
    assert reached[0] == pytest.approx(-20 - 15, abs=0.2) and reached[1] == pytest.approx(-40 - 10, abs=0.3)
