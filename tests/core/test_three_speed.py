"""The three-speed compressor: what each detector hears and holds, who is in charge, and how they hand over."""

import csv
import json

import numpy as np
import pytest
import soundfile
from typer.testing import CliRunner

from reins.cli import app
from reins.core.chainfile import parse_entry
from reins.core.processors import PROCESSORS
from reins.core.processors.base import alone
from tests.conftest import RATE

ALONE = {"peaks": {"hits_db": -24, "body_db": -24}, "hits": {"peaks_db": -24, "body_db": -24},
         "body": {"peaks_db": -24, "hits_db": -24}}  # fmt: skip


def over(sound, **settings):
    """(gain in dB, marks) of a sound (frames,) with colour off."""
    entry = parse_entry({"type": "three_speed", "settings": {"colour_on": False, **settings}}, "x")
    processor = PROCESSORS["three_speed"](entry.settings, channels=1, sample_rate=RATE)
    processor.process(alone(np.ascontiguousarray(sound[None]), RATE))
    return processor.gains_db["gain_db"], processor.marks


def tone(seconds, level_db, hz=1000.0):
    """A sine of this peak level."""
    return 10 ** (level_db / 20) * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)


def silence(seconds):
    return np.zeros(round(seconds * RATE))


def test_each_detector_hears_what_it_is_for():
    click = np.concatenate([silence(0.5), np.full(24, 0.5), silence(0.5)])
    _, marks = over(click)
    highest = {name: marks[f"heard.{name}"].max() for name in ALONE}
    _, steady = over(tone(2.0, -10.0))
    settled = {name: steady[f"heard.{name}"][-RATE // 10 :] for name in ALONE}

    # Half a millisecond at -6 dB: of a pole of 10 ms it is 0.5 / 10 of the power, of one of 200 ms 0.5 / 200.
    assert highest["peaks"] == pytest.approx(20 * np.log10(0.5), abs=0.01)
    assert highest["hits"] == pytest.approx(highest["peaks"] + 10 * np.log10(1 - np.exp(-0.5 / 10)), abs=0.1)
    assert highest["body"] == pytest.approx(highest["peaks"] + 10 * np.log10(1 - np.exp(-0.5 / 200)), abs=0.1)
    assert settled["peaks"].max() == pytest.approx(-10.0, abs=0.1)
    for name in ("hits", "body"):  # the mean power of a sine lies 3 dB under its peak
        np.testing.assert_allclose(settled[name], -13.01, atol=0.3)


@pytest.mark.parametrize("name", list(ALONE))
def test_six_db_of_sensitivity_act_six_db_sooner_and_off_is_off(name):
    def held(level_db, more):
        return over(tone(2.0, level_db), threshold_db=-30, **ALONE[name] | {f"{name}_db": more})[0][-RATE // 2 :].min()

    assert held(-12.0, 0.0) < -4
    assert held(-18.0, 6.0) == pytest.approx(held(-12.0, 0.0), abs=0.01)
    assert held(0.0, -24.0) == 0.0


def test_peaks_hits_and_body_are_each_in_charge_of_their_own():
    hits = [silence(0.5), np.full(24, 0.9), silence(1.0), tone(0.08, -8.0)]
    drums = np.concatenate([*hits, silence(1.5), tone(3.0, -16.0)])
    gain, marks = over(
        drums, threshold_db=-24, hits_db=3, body_db=6, hits_attack_ms=0.5, peaks_release_ms=20, glide_pct=0
    )
    charge = marks["in_charge"]

    at = {"peak": 0.501, "hit": 1.5 + 0.09, "body": 3.08 + 2.9}
    assert [int(charge[round(s * RATE)]) for s in at.values()] == [3, 2, 1]
    assert set(np.unique(charge)) == {0.0, 1.0, 2.0, 3.0}
    np.testing.assert_array_equal(charge == 0, gain > -0.05)


def test_glide_makes_one_way_back_of_three():
    hit = np.concatenate([silence(0.2), tone(0.004, -2.0), silence(3.0)])
    times = {
        "peaks_release_ms": 30,
        "hits_release_ms": 200,
        "body_release_ms": 1000,
        "body_attack_ms": 60,
    }  # a peak alone
    behind = {}
    for glide in (0, 50, 100):
        gain, _ = over(hit, threshold_db=-24, glide_pct=glide, **times)
        after = gain[round(0.204 * RATE) :]
        behind[glide] = np.argmax(after > 0.2 * after[0]) / RATE * 1000

    assert behind[0] < behind[50] < behind[100] and behind[100] > 2.0 * behind[0]


def test_the_ratio_grows_with_level_as_asked():
    levels, kind = np.array([-11.0, -9.0]), PROCESSORS["three_speed"]
    ratios = {
        pct: 2.0 / np.diff(kind.curve_db(kind.Settings(threshold_db=-30.0, growth_pct=pct), levels))[0]
        for pct in (0.0, 50.0, 100.0)
    }

    assert ratios[0.0] == pytest.approx(3.0, rel=1e-6) and ratios[100.0] > 10.0 > ratios[50.0] > 4.0
    held = over(np.full(2 * RATE, 10 ** (-9 / 20)), threshold_db=-30.0, growth_pct=100.0)[0][-1]
    told = kind.curve_db(kind.Settings(threshold_db=-30.0, growth_pct=100.0), levels)[1]
    assert -9.0 + held == pytest.approx(told, abs=0.01)


def test_the_body_follows_closely_or_lags():
    sound = np.concatenate([tone(2.0, -6.0), tone(2.0, -30.0)])
    depths = [over(sound, threshold_db=-24, body_release_ms=ms, **ALONE["body"])[0][3 * RATE] for ms in (100.0, 3000.0)]

    assert depths[0] > -0.2 and depths[1] < -4.0


def test_who_is_in_charge_is_in_the_trace(tmp_path):
    soundfile.write(tmp_path / "in.wav", np.concatenate([silence(0.2), tone(1.0, -3.0)]), RATE, subtype="FLOAT")
    processor = {"type": "three_speed", "settings": {"threshold_db": -30}}
    chain = {"format": "reins-chain", "version": 1, "processors": [processor]}
    (tmp_path / "chain.json").write_text(json.dumps(chain))
    options = ["--chain", str(tmp_path / "chain.json"), "--trace", str(tmp_path / "t.csv")]

    run = CliRunner().invoke(app, ["process", str(tmp_path / "in.wav"), "-o", str(tmp_path / "out.wav"), *options])

    assert run.exit_code == 0, run.output
    rows = list(csv.DictReader((tmp_path / "t.csv").read_text().splitlines()))
    assert {"0_three_speed.gain_db", "0_three_speed.in_charge"} < set(rows[0])
    assert float(rows[100]["0_three_speed.in_charge"]) == 0 and float(rows[-1]["0_three_speed.in_charge"]) in (1, 2, 3)
    held, charge = (
        np.array([float(row[f"0_three_speed.{name}"]) for row in rows]) for name in ("gain_db", "in_charge")
    )
    np.testing.assert_array_equal(charge == 0, held > -0.05)


def test_the_curve_of_each_detector_alone_acts_as_much_sooner_as_it_is_more_sensitive():
    kind = PROCESSORS["three_speed"]
    chosen = kind.Settings(threshold_db=-20, peaks_db=6.0, hits_db=0.0, body_db=-24.0)
    levels = np.arange(-60.0, 1.0)
    apart = kind.curves_apart_db(chosen, levels)

    assert list(apart) == ["peaks", "hits", "body"]
    np.testing.assert_allclose(apart["body"], levels, atol=1e-9)
    np.testing.assert_allclose(apart["peaks"][:-6] - levels[:-6], apart["hits"][6:] - levels[6:], atol=1e-9)
    np.testing.assert_allclose(np.minimum(apart["peaks"], apart["hits"]), kind.curve_db(chosen, levels), atol=1e-9)
