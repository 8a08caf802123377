"""The compressor against the paper, its definitions and its properties."""

import copy
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from reins.core.processors import Compressor, CompressorSettings, Key
from reins.core.settings.fields import settings_fields
from tests.conftest import RATE, Played
from tests.reference.compressor import gains_db, static_curve_db


def compressor(lanes=1, /, **values):
    keys = {"kick": 1} if "key" in values else {}
    return Played(Compressor(CompressorSettings(**values), channels=lanes, sample_rate=RATE, key_channels=keys))


def steady(level_db, frames, channels=1):
    return np.full((channels, frames), 10 ** (level_db / 20))


def db(x):
    return 20 * np.log10(np.maximum(np.abs(x), 1e-6))


@pytest.mark.parametrize("knee_db", [0.0, 6.0, 24.0])
@pytest.mark.parametrize("ratio", [1.0, 1.5, 4.0, 20.0])
def test_the_curve_is_that_of_the_paper(knee_db, ratio):
    levels = np.linspace(-60, 0, 241)

    out = Compressor.curve_db(CompressorSettings(threshold_db=-30, ratio=ratio, knee_db=knee_db), levels)

    expected = [static_curve_db(x, threshold_db=-30, ratio=ratio, knee_db=knee_db) for x in levels]
    np.testing.assert_allclose(out, expected, atol=1e-6)  # the polynomials' own error


def test_minus_24_db_comes_out_at_minus_27_at_threshold_minus_28_and_4_to_1():  # common practice
    out = compressor(threshold_db=-28, ratio=4, knee_db=0).process(steady(-24, RATE))

    assert db(out[0, -1]) == pytest.approx(-27.0, abs=1e-6)


def test_ratio_100_is_exactly_flat():
    out = compressor(threshold_db=-20, ratio=100, knee_db=0, attack_ms=0).process(steady(-3, 10))

    assert db(out[0, -1]) == pytest.approx(-20.0, abs=1e-7)


@pytest.mark.parametrize("hold_ms", [0.0, 2.0])
def test_the_gain_follows_the_plain_second_implementation(noise, hold_ms):
    values = {
        "threshold_db": -25.0,
        "ratio": 3.0,
        "knee_db": 5.0,
        "attack_ms": 3.0,
        "release_ms": 40.0,
        "hold_ms": hold_ms,
    }
    held = compressor(**values)

    held.process(noise[:1])

    expected = gains_db(db(noise[0]), sample_rate=RATE, **values)
    np.testing.assert_allclose(held.gains_db["gain_db"], expected, atol=1e-6)


@pytest.mark.parametrize("attack_ms", [1.0, 12.0, 200.0])
def test_attack_covers_63_percent_of_the_way_in_its_time(attack_ms):
    held = compressor(threshold_db=-40, ratio=4, knee_db=0, attack_ms=attack_ms)

    held.process(steady(-10, RATE))

    frames = round(attack_ms * RATE / 1000)
    assert held.gains_db["gain_db"][frames - 1] == pytest.approx(-22.5 * (1 - math.exp(-1)), rel=1e-6)


def test_release_starts_after_the_hold_and_covers_63_percent_in_its_time():
    held = compressor(threshold_db=-40, ratio=4, knee_db=0, attack_ms=0, hold_ms=50, release_ms=100)
    held.process(steady(-10, 4800))

    held.process(steady(-60, RATE))

    gain = held.gains_db["gain_db"]
    assert gain[2399] == pytest.approx(-22.5, abs=1e-6)
    assert gain[2400] > -22.5
    assert gain[2400 + 4800 - 1] == pytest.approx(-22.5 * math.exp(-1), rel=1e-6)


def test_automatic_release_lets_go_sooner_after_a_hit_than_after_a_long_note():
    def frames_until_back(note_frames):
        held = compressor(threshold_db=-40, ratio=10, attack_ms=1, release_ms=100, auto_release=True)
        held.process(steady(-10, note_frames))
        held.process(steady(-90, 10 * RATE))
        return int(np.argmax(held.gains_db["gain_db"] > -1.0))

    hit, note = frames_until_back(round(0.02 * RATE)), frames_until_back(2 * RATE)

    assert 0 < hit < 0.5 * RATE
    assert note > 3 * hit


def test_average_detection_reads_a_full_scale_sine_at_minus_3_01_db():
    sine = np.sin(2 * np.pi * 1000 * np.arange(RATE) / RATE)[None]
    held = compressor(threshold_db=-13.01, ratio=100, knee_db=0, rms_pct=100, rms_ms=100, attack_ms=0, release_ms=1)

    held.process(sine)

    assert held.gains_db["gain_db"][-480:].mean() == pytest.approx(-10.0, abs=0.01)


def test_half_a_blend_lies_halfway_in_db_between_peak_and_average():
    def gain(rms_pct):
        held = compressor(threshold_db=-40, ratio=100, knee_db=0, rms_pct=rms_pct, rms_ms=20, attack_ms=0)
        held.process(steady(-6, 960))  # one window: the average lies 1.99 dB below the peak
        return held.gains_db["gain_db"][-1]

    assert gain(100) == pytest.approx(-34 - 10 * math.log10(1 - math.exp(-1)), abs=1e-6)
    assert gain(50) == pytest.approx((gain(0) + gain(100)) / 2, abs=1e-9)


def test_range_is_the_most_it_takes_away():
    held = compressor(threshold_db=-60, ratio=100, range_db=6, attack_ms=0)

    held.process(steady(0, 100))

    assert held.gains_db["gain_db"].min() == pytest.approx(-6.0, abs=1e-9)


def test_lookahead_delays_the_sound_and_not_the_gain():
    held = compressor(threshold_db=-20, ratio=100, knee_db=0, attack_ms=0, lookahead_ms=5)
    signal = np.concatenate([steady(-60, 1000), steady(0, 1000)], axis=1)

    out = held.process(signal)

    assert held.latency_frames == 240
    assert db(out).max() == pytest.approx(-20.0, abs=1e-6)
    np.testing.assert_array_equal(out[0, :240], 0.0)


@pytest.mark.parametrize(("link_by", "expected"), [("max", -20.0), ("mean", -10.0)])
def test_linked_channels_follow_the_louder_or_the_average(link_by, expected):
    held = compressor(2, threshold_db=-30, ratio=100, knee_db=0, attack_ms=0, link_by=link_by)

    out = held.process(np.concatenate([steady(-10, 50), steady(-30, 50)]))

    np.testing.assert_allclose(db(out[:, -1]), [-10 + expected, -30 + expected], atol=1e-6)


def test_unlinked_channels_are_held_each_by_itself():
    held = compressor(2, threshold_db=-30, ratio=100, knee_db=0, attack_ms=0, link_pct=0)

    out = held.process(np.concatenate([steady(-10, 50), steady(-40, 50)]))

    np.testing.assert_allclose(db(out[:, -1]), [-30, -40], atol=1e-6)


def test_middle_only_leaves_the_sides_alone(noise):
    held = compressor(2, threshold_db=-60, ratio=8, channels="mid_side", apply_to="first", link_pct=0)

    out = held.process(noise)

    np.testing.assert_allclose(out[0] - out[1], noise[0] - noise[1], atol=1e-15)
    assert np.abs(out.sum(axis=0)).max() < 0.5 * np.abs(noise.sum(axis=0)).max()


def test_a_low_cut_in_the_key_keeps_bass_from_driving_the_hold():
    bass = 0.5 * np.sin(2 * np.pi * 40 * np.arange(RATE) / RATE)[None]

    open_key, cut_key = compressor(threshold_db=-30), compressor(threshold_db=-30, key=Key(low_cut_hz=400))
    open_key.process(bass)
    cut_key.process(bass)

    assert open_key.gains_db["gain_db"][-1] < -10
    assert cut_key.gains_db["gain_db"][RATE // 2 :].min() > -0.01  # 24 dB/oct leaves 40 Hz 80 dB down


def test_an_outside_key_drives_it_whatever_the_sound_does():
    held = compressor(2, threshold_db=-20, ratio=100, knee_db=0, attack_ms=0, key=Key(source="kick"))

    out = held.process(steady(-50, 10, 2), steady(-10, 10))

    np.testing.assert_allclose(db(out), -60.0, atol=1e-6)


def test_mix_makeup_drive_and_output_add_up_as_written():
    held = compressor(
        threshold_db=-20, ratio=2, knee_db=0, attack_ms=0, input_db=6, makeup_db=3, mix_pct=25, output_db=-2
    )

    out = held.process(steady(-10, 10))

    hold = 10 ** ((6 + 3 - 8) / 20)  # -10 + 6 is 16 dB over: half of it is taken
    expected = 10 ** (-10 / 20) * (0.75 + 0.25 * hold) * 10 ** (-2 / 20)
    assert out[0, -1] == pytest.approx(expected, rel=1e-9)


def test_below_the_threshold_nothing_changes_to_the_last_bit(noise):
    np.testing.assert_array_equal(compressor(2, threshold_db=0, knee_db=0).process(noise * 0.1), noise * 0.1)


def test_silence_after_sound_is_exactly_silent_and_leaves_no_denormals(noise):
    held = compressor(2, threshold_db=-40, auto_release=True, rms_pct=50, release_ms=1, key=Key(low_cut_hz=100))
    held.process(noise)

    out = held.process(np.zeros((2, 4 * RATE)))

    np.testing.assert_array_equal(out, 0.0)
    carried = np.concatenate([held._state.ravel(), *(s.ravel() for s in held._key_path._state)])
    assert not ((np.abs(carried) > 0) & (np.abs(carried) < 1e-30)).any()


def test_a_knee_too_narrow_to_be_told_from_none_is_none(noise):
    narrow, none = (compressor(2, threshold_db=-20, knee_db=knee_db).process(noise) for knee_db in (5e-324, 0.0))
    np.testing.assert_array_equal(narrow, none)


def any_settings():
    def strategy(field):
        if field.json_schema_extra["kind"] == "number":
            low, high = (getattr(m, n) for m, n in zip(field.metadata, ("ge", "le"), strict=True))
            return st.one_of(st.sampled_from([float(low), float(high)]), st.floats(low, high))
        return st.booleans() if field.annotation is bool else st.sampled_from(field.annotation.__args__)

    flat = {name: strategy(f) for name, f in settings_fields(CompressorSettings) if "." not in name}
    key = {name: strategy(f) for name, f in settings_fields(Key) if name not in ("source", "also")}
    return st.builds(CompressorSettings, key=st.builds(Key, **key), **flat)


@settings(max_examples=60, deadline=None)
@given(values=any_settings(), cuts=st.lists(st.integers(1, 3000), min_size=1, max_size=8))
def test_any_setting_gives_finite_sound_whatever_the_block_size(values, cuts):
    rng = np.random.default_rng(3)
    signal = rng.standard_normal((2, 9000)) * np.repeat([0.9, 0.0, 1e-5], 3000)
    whole = Played(Compressor(values, channels=2, sample_rate=RATE))
    pieces = copy.deepcopy(whole)

    expected = whole.process(signal)
    parts = [
        pieces.process(np.ascontiguousarray(p)) for p in np.split(signal, sorted({min(c, 8999) for c in cuts}), axis=1)
    ]

    assert np.isfinite(expected).all()
    np.testing.assert_allclose(np.concatenate(parts, axis=1), expected, rtol=0, atol=1e-9)


@pytest.mark.parametrize("block", [1, 7, 64, 1024, 65536])
def test_block_sizes_from_1_to_65536_give_the_same_bits(noise, block):
    values = {"threshold_db": -30, "rms_pct": 30, "lookahead_ms": 3, "auto_release": True, "link_pct": 60}
    expected = compressor(2, **values).process(noise)

    held = compressor(2, **values)
    parts = [held.process(np.ascontiguousarray(noise[:, i : i + block])) for i in range(0, noise.shape[1], block)]

    np.testing.assert_array_equal(np.concatenate(parts, axis=1), expected)


def test_deeper_is_as_drive_but_not_louder(noise):
    plain = {"threshold_db": -20.0, "ratio": 4.0, "attack_ms": 2.0}
    deeper, driven = (
        Played(Compressor(CompressorSettings(**plain, **more), channels=2, sample_rate=RATE)).process(noise)
        for more in ({"operating_db": 9.0}, {"input_db": 9.0, "output_db": -9.0})
    )

    np.testing.assert_allclose(deeper, driven, atol=1e-12)
    assert Compressor.acts_from_db(CompressorSettings(**plain, operating_db=9.0, input_db=2.0)) == -31.0
