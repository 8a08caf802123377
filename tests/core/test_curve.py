"""The free curve: against scipy's monotone cubic, steady levels on it, its times and their shapes, waveforms bent."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import PchipInterpolator

from reins.core.chainfile import parse_entry
from reins.core.dsp.by_level import BITS_WITHIN, FIRST_BITS, table_of
from reins.core.dsp.curving import MOST_GAIN_DB, gain_table, joined_db, levels, monotone_cubic
from reins.core.engine.chain import Chain
from reins.core.processors import PROCESSORS
from reins.errors import SettingsError
from tests.conftest import RATE

POINTS = [[-60, -90], [-42, -48], [-24, -24], [-8, -12], [0, -8]]


def chain(channels=1, **settings):
    return Chain(
        [parse_entry({"id": "p", "type": "curve", "settings": settings}, "x")], channels=channels, sample_rate=RATE
    )


def gain_of(sound, **settings):
    one = chain(**settings)
    one.process(sound)
    return one.gains()[0][1]["gain_db"]


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.floats(0.5, 30), st.floats(-40, 40)), min_size=2, max_size=16))
def test_the_smooth_curve_is_scipys_pchip(pieces):
    x = np.cumsum([p[0] for p in pieces]) - 100.0
    y = np.array([p[1] for p in pieces])
    at = np.linspace(x[0], x[-1], 400)
    np.testing.assert_allclose(monotone_cubic(x, y, at), PchipInterpolator(x, y)(at), atol=1e-8)


def test_straight_lines_are_rounded_over_the_knee_and_go_on_by_their_slopes():
    points = np.array([[-40.0, -40.0], [-20.0, -20.0], [0.0, -15.0]])
    at = levels()
    hard = joined_db(points, smooth=False, knee_db=0, below=2.0, above=0.5)
    np.testing.assert_allclose(hard[at < -40], -40 + 2 * (at[at < -40] + 40), atol=1e-9)
    np.testing.assert_allclose(hard[at > 0], -15 + 0.5 * at[at > 0], atol=1e-9)
    soft = joined_db(points, smooth=False, knee_db=8, below=1.0, above=0.25)
    bare = joined_db(points, smooth=False, knee_db=0, below=1.0, above=0.25)
    corner = np.abs(at + 20).argmin()
    # A knee W wide takes W (1 - slope) / 8 off a corner (Giannoulis et al. 2012, eq. (4) at the threshold).
    assert soft[corner] - bare[corner] == pytest.approx(-8 * 0.75 / 8, abs=0.02)
    outside = np.abs(at + 20) > 4.1
    outside &= np.abs(at) > 4.1
    np.testing.assert_allclose(soft[outside], bare[outside], atol=1e-9)


@pytest.mark.parametrize("join", ["straight", "smooth"])
def test_steady_levels_come_out_on_the_curve(join):
    made = PROCESSORS["curve"].Settings(points=POINTS, join=join, knee_db=0, slope_below=2)
    at = np.array([-75.0, -60.0, -51.0, -42.0, -30.0, -16.0, -4.0, 0.0, 6.0])
    x, y = np.array(POINTS, float).T
    inside = PchipInterpolator(x, y)(np.clip(at, -60, 0)) if join == "smooth" else np.interp(at, x, y)
    wanted = inside + 2 * np.minimum(at + 60, 0) + np.maximum(at, 0)
    np.testing.assert_allclose(PROCESSORS["curve"].curve_db(made, at), wanted, atol=0.05)


def test_the_level_rises_and_falls_by_its_times_and_shapes_bend_them():
    step = np.concatenate([np.full((1, RATE), 0.01), np.full((1, RATE), 0.5), np.full((1, RATE), 0.01)], axis=1)
    common = {"points": [[-60, -60], [0, -30]], "knee_db": 0, "attack_ms": 50, "release_ms": 200}
    gain = gain_of(step, **common)
    before, after = gain[RATE - 1], gain[2 * RATE - 1]
    at = lambda rows, ms, start=RATE: (rows[start + round(ms * RATE / 1000)] - before) / (after - before)  # noqa: E731
    assert at(gain, 50) == pytest.approx(0.632, abs=0.01)
    assert at(gain, 200, 2 * RATE) == pytest.approx(1 - 0.632, abs=0.01)
    quick, slow = (gain_of(step, attack_shape=shape, **common) for shape in (-1, 1))
    assert at(quick, 10) > at(gain, 10) + 0.1 and at(slow, 10) < at(gain, 10) - 0.1
    assert (
        at(slow, 1000 - 1) == pytest.approx(1.0, abs=0.01) and np.diff(slow[RATE : 2 * RATE]).max() < 1e-9
    )  # no ringing


def test_without_times_it_bends_the_waveform():
    t = np.arange(RATE) / RATE
    tone = 0.5 * np.sin(2 * np.pi * 200 * t)[None]
    out = chain(points=[[-60, -60], [-20, -20], [0, -10]], knee_db=0, attack_ms=0, release_ms=0).process(tone)
    loud = np.abs(tone) > 0.11
    level = 20 * np.log10(np.abs(tone[loud]))
    np.testing.assert_allclose(20 * np.log10(np.abs(out[loud])), -20 + 0.5 * (level + 20), atol=0.05)
    np.testing.assert_allclose(out[np.abs(tone) < 0.09], tone[np.abs(tone) < 0.09], atol=1e-4)


def test_silence_stays_silent_and_no_gain_is_above_sixty():
    lifting = {"points": [[-120, -20], [0, 0]], "slope_below": 0, "attack_ms": 0, "release_ms": 0}
    assert not chain(**lifting).process(np.zeros((1, RATE))).any()
    assert gain_of(np.full((1, RATE), 1e-6), **lifting).max() <= 60.0


@pytest.mark.parametrize(
    ("points", "said"),
    [
        ([[0, 0]], "points"), ([[-20, -20], [-20, -10]], "rise"), ([[0, 0], [-20, -20]], "rise"),
        ([[-20, -20], [0, 99]], "60"), ([[k, k] for k in range(-17, 0)], "points"),
    ],
)  # fmt: skip
def test_points_that_cannot_be_are_refused(points, said):
    with pytest.raises(SettingsError, match=said):
        chain(points=points)


def test_twice_as_much_lifts_no_further_than_the_most():
    out = np.maximum(levels(), -30.0)
    once, twice = gain_table(out), gain_table(out, times=2.0)
    np.testing.assert_allclose(twice, np.minimum(2.0 * (out - levels()), MOST_GAIN_DB) * (levels() > -139.0))
    assert twice.max() == once.max() == MOST_GAIN_DB


def bent(sound, times, block=700, **more):
    """What bending at once makes of a sound at a raised rate, and the gain told of it, lined up with the sound."""
    one = chain(sound.shape[0], attack_ms=0, release_ms=0, oversampling=times, **more)
    late, longer = one.latency_frames, np.pad(sound, ((0, 0), (0, one.latency_frames)))
    made, told = [], []
    for start in range(0, longer.shape[1], block):
        made.append(one.process(longer[:, start : start + block]))
        told.append(one.gains()[0][1]["gain_db"])
    return np.concatenate(made, axis=1)[:, late:], np.concatenate(told)[late:]


HALVED = {"points": [[-60, -60], [-20, -20], [0, -10]], "knee_db": 6}


@pytest.mark.parametrize("more", [{}, {"link_pct": 0}, {"makeup_db": 6, "mix_pct": 50, "output_db": -3}])
@pytest.mark.parametrize("times", [2, 4, 8, 16])
def test_bent_at_a_raised_rate_a_slow_tone_is_what_the_curve_says(times, more):
    """A sine of 100 Hz hardly folds: bent sample by sample it is the reference."""
    sound = np.array([[0.5], [0.2]]) * np.sin(2 * np.pi * 100 * np.arange(RATE // 2) / RATE + [[0.0], [1.0]])
    exact = chain(2, attack_ms=0, release_ms=0, **HALVED, **more)
    wanted = exact.process(sound)
    made, told = bent(sound, times, **HALVED, **more)
    middle = slice(2000, -2000)
    # Where the other channel becomes the louder one the gain has a corner, which no filter passes.
    within = 3e-5 if "link_pct" in more else 1e-3
    np.testing.assert_allclose(made[:, middle], wanted[:, middle], atol=within)
    np.testing.assert_allclose(told, exact.gains()[0][1]["gain_db"], atol=1e-3)
    np.testing.assert_array_equal(bent(sound, times, 333, **HALVED, **more)[0], made)


@pytest.mark.parametrize(("dB_out", "within"), [(0.0, 4e-6), (0.5, 4e-6), (4.0, 2e-5), (10.0, 2e-4)])
def test_the_table_of_gains_lies_by_the_formula(dB_out, within):
    """Level out to the power of dB out for one in, whatever level it is asked at."""
    levels_in = 0.1 * 2.0 ** np.random.default_rng(3).uniform(-3.0, 1.0, 20000)
    wanted = (levels_in / 0.1) ** (dB_out - 1.0)
    constants, slopes = table_of(lambda amplitudes: (amplitudes / 0.1) ** (dB_out - 1.0) - 1.0).astype(float)
    segments = (np.float32(levels_in).view(np.int32) - FIRST_BITS) >> BITS_WITHIN

    made = 1.0 + constants[segments] + slopes[segments] * levels_in

    assert (np.abs(made - wanted) / np.maximum(wanted, 1.0)).max() < within


def test_bent_at_a_raised_rate_nothing_is_nothing_and_corners_fold_back_far_lower():
    noise = 0.3 * np.random.default_rng(1).standard_normal((2, 5000))
    np.testing.assert_array_equal(bent(noise, 4, points=[[-60, -60], [0, 0]])[0], noise)
    size, bin_ = 1 << 14, 3413  # an odd bin near 10 kHz
    tone = 0.5 * np.sin(2 * np.pi * bin_ * np.arange(2 * size) / size)[None]
    folded = []
    for times in (2, 16):
        power = np.abs(np.fft.rfft(bent(tone, times, **HALVED)[0][0, size // 2 : size // 2 + size])) ** 2
        beside = np.arange(power.size) * RATE / size < 20000
        beside[bin_::bin_] = False
        folded.append(10 * np.log10(power[beside].max() / power[bin_]))
    assert folded[0] > -50.0 and folded[1] < -80.0  # the -80 of what is bent anywhere else


@pytest.mark.parametrize("first_ms", [0.0, 0.05])
def test_bending_and_more_than_that_take_over_as_if_they_had_run_from_the_start(first_ms):
    sound = 0.5 * np.sin(2 * np.pi * 300 * np.arange(RATE) / RATE)[None]
    how = {**HALVED, "oversampling": 4, "release_ms": 0}
    one, other = (chain(**how, attack_ms=ms) for ms in (first_ms, 0.05 - first_ms))
    head, tail = sound[:, :20000], np.ascontiguousarray(sound[:, 20000:])
    one.process(head)
    other.process(head)
    np.testing.assert_allclose(one.evolved(other.entries).process(tail), other.process(tail), atol=1e-9)
