"""Compressors by kind: the laws they are known for, measured on what they do to tones, hits and notes."""

import numpy as np
import pyloudnorm
import pytest

from reins.core.chainfile import parse_entry
from reins.core.dsp.raising import LATENCY_FRAMES
from reins.core.processors import PROCESSORS
from reins.core.processors.base import alone
from reins.core.processors.fet import LAW
from reins.core.trials.pictures import burst
from reins.demo import strings, voices
from tests.conftest import RATE

KINDS = ("fet", "optical", "variable_mu", "three_speed")


def made(kind, channels=1, **settings):
    entry = parse_entry({"type": kind, "settings": settings}, "x")
    return PROCESSORS[kind](entry.settings, channels=channels, sample_rate=RATE)


def gain_over(kind, sound, **settings):
    """(result, gain in dB by frame) with colour off."""
    processor = made(kind, sound.shape[0], colour_on=False, **settings)
    out = processor.process(alone(sound, RATE))
    return out, processor.gains_db["gain_db"]


def lit(kind, lit_s, level_db, dark_s=6.0, **settings):
    """The gain in dB after a steady level of so long has ended, and how deep it was."""
    frames, dark = round(lit_s * RATE), round(dark_s * RATE)
    sound = np.concatenate([np.full(frames, 10 ** (level_db / 20)), np.zeros(dark)])[None]
    _, gain = gain_over(kind, sound, **settings)
    return gain[frames:], gain[frames - 1]


def back_ms(gain, share):
    """How long until no more than a share of the first depth is left."""
    return np.argmax(gain > share * gain[0]) / RATE * 1000


@pytest.mark.parametrize("kind", KINDS)
def test_without_colour_it_is_as_clean_as_its_gain(kind):
    rng = np.random.default_rng(2)
    sound = 0.5 * rng.standard_normal((2, RATE))

    out, gain = gain_over(kind, sound, input_db=6.0)

    np.testing.assert_allclose(out, sound * 10 ** ((gain + 6.0) / 20), atol=1e-6 * np.abs(out).max())
    assert made(kind).latency_frames == LATENCY_FRAMES and made(kind, colour_on=False).latency_frames == 0


@pytest.mark.parametrize("kind", KINDS)
def test_deeper_holds_more_and_without_hold_nothing_is_held(kind):
    sound = np.full((1, RATE), 0.3)
    depth = {db: gain_over(kind, sound, operating_db=db)[1][-1] for db in (-12.0, 0.0, 12.0)}
    out, gain = gain_over(kind, sound, operating_db=24.0, hold_on=False)

    assert depth[-12.0] > depth[0.0] > depth[12.0] < -10.0
    np.testing.assert_array_equal(gain, 0.0)
    np.testing.assert_allclose(out, sound, atol=1e-12)  # what leaves is not louder


@pytest.mark.parametrize("ratio", [2.0, 4.0, 8.0, 12.0, 20.0])
def test_the_fets_threshold_and_slope_are_those_of_its_table(ratio):
    threshold = LAW[LAW[:, 0] == ratio, 1][0]
    levels = threshold + np.array([14.0, 24.0])
    held = [gain_over("fet", np.full((1, RATE), 10 ** (db / 20)), ratio=ratio)[1][-1] for db in levels]

    assert (held[0] - held[1]) / 10 == pytest.approx(1 - 1 / ratio, abs=1e-3)
    assert held[0] == pytest.approx(-14.0 * (1 - 1 / ratio), abs=1e-3)
    curve = PROCESSORS["fet"].curve_db(PROCESSORS["fet"].Settings(ratio=ratio), levels)
    np.testing.assert_allclose(curve, levels + held, atol=1e-3)


def test_another_ratio_keeps_about_the_same_depth():
    loud = np.full((1, RATE), 10 ** (-14 / 20))
    depths = [gain_over("fet", loud, ratio=ratio)[1][-1] for ratio in (4.0, 8.0, 20.0)]

    assert max(depths) - min(depths) < 3.0


@pytest.mark.parametrize("release_ms", [30.0, 200.0, 600.0])
def test_the_fets_way_back_is_as_set_behind_a_hit_and_six_times_as_long_behind_a_note(release_ms):
    behind_hit, depth = lit("fet", 0.02, -6.0, 8.0, release_ms=release_ms, attack_us=100.0)
    behind_note, _ = lit("fet", 2.0, -6.0, 8.0, release_ms=release_ms, attack_us=100.0)

    assert depth < -8
    assert back_ms(behind_hit, np.exp(-1)) == pytest.approx(release_ms, rel=0.2)
    assert back_ms(behind_note, np.exp(-1)) == pytest.approx(max(6.0 * release_ms, 600.0), rel=0.05)


def test_a_restless_fet_turns_over_later():
    calm, restless = (lit("fet", 0.4, -6.0, release_ms=100.0, restless_pct=pct)[0] for pct in (0.0, 100.0))

    assert back_ms(restless, 0.2) < back_ms(calm, 0.2)


def test_crushed_it_is_a_limit_that_goes_too_deep_for_a_moment_and_bends_more():
    sound = np.concatenate([np.zeros(4800), np.full(RATE, 10 ** (-6 / 20))])[None]
    _, plain = gain_over("fet", sound, attack_us=20.0)
    _, crushed = gain_over("fet", sound, attack_us=20.0, crush_pct=100.0)

    assert plain.min() > plain[-1] - 0.05
    assert crushed.min() < crushed[-1] - 2.0 and crushed[4800 + round(0.02 * RATE)] == pytest.approx(
        crushed[-1], abs=0.3
    )
    settings = PROCESSORS["fet"].Settings
    thirds = [PROCESSORS["fet"].harmonics_db(settings(crush_pct=pct))["db"][2] for pct in (0.0, 100.0)]
    assert thirds[1] > thirds[0] + 6
    curve = PROCESSORS["fet"].curve_db(settings(crush_pct=100.0), np.array([-15.0, -5.0]))
    assert curve[1] - curve[0] == pytest.approx(0.0, abs=0.01)


def test_the_cell_lets_half_of_it_go_at_once_and_the_rest_slowly():
    behind, depth = lit("optical", 0.5, -6.0, threshold_db=-30.0)

    assert depth < -8
    assert 40 <= back_ms(behind, 0.5) <= 80
    assert 500 <= back_ms(behind, 0.05) <= 5000


def test_the_cell_remembers_how_long_and_how_deep_it_was_lit():
    short, long = (back_ms(lit("optical", s, -6.0, 12.0, threshold_db=-30.0)[0], 0.1) for s in (0.5, 6.0))
    faint, deep = (back_ms(lit("optical", 4.0, db, 12.0, threshold_db=-30.0)[0], 0.1) for db in (-24.0, -6.0))

    assert long > 1.4 * short and deep > 1.2 * faint


def test_the_lamp_takes_hold_in_about_ten_milliseconds():
    sound = np.concatenate([np.zeros(4800), np.full(RATE, 10 ** (-6 / 20))])[None]
    _, gain = gain_over("optical", sound, threshold_db=-30.0)

    assert 6 < np.argmax(gain[4800:] < (1 - np.exp(-1)) * gain[-1]) / RATE * 1000 < 18


@pytest.mark.parametrize(("firm", "ratio"), [(False, 3.0), (True, 10.0)])
def test_the_optical_ones_ratio(firm, ratio):
    settings = PROCESSORS["optical"].Settings(threshold_db=-40.0, firm=firm)
    near, far = (
        np.diff(PROCESSORS["optical"].curve_db(settings, np.array(at)))[0] for at in ([-39.0, -36], [-20.0, -10])
    )

    assert 10.0 / far == pytest.approx(ratio, rel=0.01) and 3.0 / near < 10.0 / far  # it grows


def test_highs_drive_the_lamp_more():
    at = np.arange(2 * RATE) / RATE
    low, high = (0.3 * np.sin(2 * np.pi * hz * at)[None] for hz in (200, 6000))
    held = {pct: [gain_over("optical", s, highs_pct=pct)[1][-1] for s in (low, high)] for pct in (0.0, 100.0)}

    assert held[0.0][1] == pytest.approx(held[0.0][0], abs=0.4)  # the lamp flickers with the low one
    assert held[100.0][0] == pytest.approx(held[0.0][0], abs=0.5) and held[100.0][1] < held[0.0][1] - 5


@pytest.mark.parametrize("kind", KINDS)
def test_colour_bends_and_the_gain_told_is_lined_up_with_it(kind):
    tone = 0.2 * np.sin(2 * np.pi * 1000 * np.arange(RATE) / RATE)[None]
    with_colour, plain = (made(kind, hold_on=False, colour_on=on).process(alone(tone, RATE)) for on in (True, False))
    bins = [np.abs(np.fft.rfft(out[0, -RATE // 2 :])) for out in (with_colour, plain)]

    heard = max(bins[0][1000], bins[0][1500]) / bins[0][500]
    assert 1e-4 < heard < 0.3 and max(bins[1][1000], bins[1][1500]) / bins[1][500] < 1e-10
    sound = np.concatenate([np.zeros(4800), np.full(4800, 0.5)])[None]
    processor = made(kind, operating_db=12.0)
    processor.process(alone(sound, RATE))
    gain = processor.gains_db["gain_db"]
    assert gain[4800 + LATENCY_FRAMES - 2] == 0.0 > gain[4800 + LATENCY_FRAMES + 20]


def steady(levels_db, **settings):
    """What a variable-mu stage holds of steady levels."""
    return np.array(
        [gain_over("variable_mu", np.full((1, 2 * RATE), 10 ** (db / 20)), **settings)[1][-1] for db in levels_db]
    )


def test_the_variable_mus_ratio_grows_with_level():
    at = np.array([-36.0, -35.0, -34.0, -21.0, -20.0, -19.0])
    out = at + steady(at, threshold_db=-40.0, knee_db=0.0, attack_ms=1.0, release_ms=50.0)

    assert 1.2 < 2.0 / (out[2] - out[0]) < 2.0 and 2.0 / (out[5] - out[3]) > 6.0
    settings = PROCESSORS["variable_mu"].Settings(threshold_db=-40.0, knee_db=0.0)
    np.testing.assert_allclose(PROCESSORS["variable_mu"].curve_db(settings, at), out, atol=1e-3)


def test_more_bias_holds_more_and_adds_octaves():
    depths = [steady([-10.0], threshold_db=-30.0, bias_pct=pct)[0] for pct in (0.0, 50.0, 100.0)]
    settings = PROCESSORS["variable_mu"].Settings
    octaves, thirds = np.array(
        [PROCESSORS["variable_mu"].harmonics_db(settings(bias_pct=pct))["db"][1:3] for pct in (0.0, 50.0, 100.0)]
    ).T

    assert depths[0] - 1.0 > depths[1] > depths[2] + 1.0
    assert octaves[0] < -120 and octaves[1] > -60 and octaves[2] > octaves[1] + 3 and thirds[0] > -80


@pytest.mark.parametrize("release_ms", [150.0, 400.0])
def test_its_way_back_has_as_many_stages_as_asked(release_ms):
    def halves(lit_s, programme):
        times = {"attack_ms": 5.0, "release_ms": release_ms, "programme": programme}
        return back_ms(lit("variable_mu", lit_s, -6.0, 40.0, threshold_db=-30.0, **times)[0], np.exp(-1))

    for programme in ("none", "two", "three"):
        assert halves(0.03, programme) == pytest.approx(release_ms, rel=0.2)  # behind a hit all are as set
    assert halves(2.0, "none") == pytest.approx(release_ms, rel=0.02)
    assert halves(2.0, "two") > 2.0 * release_ms
    assert halves(12.0, "three") > 2.0 * halves(12.0, "two")


@pytest.mark.parametrize("hue_pct", [-100.0, -50.0, 50.0, 100.0])
def test_its_hue_is_heard_and_not_louder(hue_pct):
    rng = np.random.default_rng(5)
    takes = {"bass": strings.make_bass()[:, : 12 * RATE], "voice": voices.make_singer()[:, 6 * RATE : 18 * RATE]}
    takes["noise"] = 0.1 * rng.standard_normal((1, 6 * RATE))
    meter = pyloudnorm.Meter(RATE)
    for name, take in takes.items():
        plain, hued = (
            made("variable_mu", hue_pct=pct).process(alone(np.ascontiguousarray(take), RATE))[0]
            for pct in (0.0, hue_pct)
        )
        assert abs(meter.integrated_loudness(hued) - meter.integrated_loudness(plain)) < 0.5, name
    tilted = [np.abs(np.fft.rfft(sound)) ** 2 for sound in (hued, plain)]
    hued_lows, lows = (np.sum(p[: 6 * 400]) / np.sum(p[6 * 3000 : 6 * 15000]) for p in tilted)
    assert hued_lows < 0.7 * lows if hue_pct > 0 else hued_lows > 1.4 * lows


def test_the_burst_picture_shows_a_hit_a_note_and_what_quick_times_do_to_a_low_tone():
    def shown(kind, **settings):
        return burst(parse_entry({"id": "p", "type": kind, "settings": settings}, kind), sample_rate=RATE)

    def bent(picture):
        """How far what is made of the tone is from a sine, as a share of its power."""
        power = np.abs(np.fft.rfft(picture["tone"])) ** 2
        return 1.0 - power[2] / power.sum()

    fet = shown("fet", release_ms=150.0)
    behind = np.array(fet["time_ms"]) > 120.0
    assert (np.array(fet["note_db"])[behind] <= np.array(fet["gain_db"])[behind] + 1e-6).all()
    assert shown("compressor")["note_db"] is None and shown("compressor", auto_release=True)["note_db"] is not None
    quick, slow = shown("fet", attack_us=10.0, release_ms=30.0), shown("fet", attack_us=10000.0, release_ms=1000.0)
    assert bent(quick) > 5e-4 > 20 * bent(slow)
