"""The limiter against an independent reading of its result, and its properties."""

import copy

import numpy as np
import pytest
import scipy.signal
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st

from reins.core.dsp.limiting import REACH, between_peaks, bound, interpolator
from reins.core.processors import Limiter, LimiterSettings
from tests.conftest import RATE, Played


def limiter(lanes=2, /, **values):
    return Played(Limiter(LimiterSettings(**values), channels=lanes, sample_rate=RATE))


def limited(signal, **values):
    """The result lined up with the source."""
    held = limiter(signal.shape[0], **values)
    latency = held.latency_frames
    return held.process(np.pad(signal, ((0, 0), (0, latency))))[:, latency:]


def material(name):
    rng = np.random.default_rng(4)
    n = np.arange(RATE)
    white = rng.standard_normal(RATE) * 0.5
    return {
        "white noise": white,
        "a quarter of the rate": 1.4 * np.sin(np.pi * n / 2 + np.pi / 4),
        "dull noise": scipy.signal.sosfilt(scipy.signal.butter(4, 6000, fs=RATE, output="sos"), white * 4),
        "a square": np.sign(np.sin(2 * np.pi * 997 * n / RATE)),
        "just below Nyquist": np.sin(2 * np.pi * 23000 * n / RATE),
        "lone peaks": np.where(n % 5000 == 0, 1.5, 0.05 * white),
    }[name]


MATERIAL = ["white noise", "a quarter of the rate", "dull noise", "a square", "just below Nyquist", "lone peaks"]


@pytest.mark.parametrize("name", MATERIAL)
@pytest.mark.parametrize("lookahead_ms", [0.5, 3.0, 10.0])
def test_an_independent_true_peak_reading_stays_under_the_ceiling(name, lookahead_ms):
    out = limited(material(name)[None], ceiling_db=-3.0, lookahead_ms=lookahead_ms)

    # A long filter at sixteen times the rate; 0.1 dB is allowed.
    reading = np.abs(scipy.signal.resample_poly(out[0], 16, 1, window=("kaiser", 12))).max()
    assert 20 * np.log10(reading) <= -3.0 + 0.1


@pytest.mark.parametrize("name", MATERIAL)
def test_without_true_peak_no_sample_passes_the_ceiling(name):
    out = limited(material(name)[None], ceiling_db=-6.0, true_peak=False, input_db=12.0)

    assert np.abs(out).max() <= 10 ** (-6 / 20)


def test_below_the_ceiling_nothing_changes_to_the_last_bit(noise):
    np.testing.assert_array_equal(limited(noise * 0.3), noise * 0.3)


def test_the_gain_is_in_place_before_the_peak_and_lets_go_at_the_release():
    signal = np.full((1, RATE), 0.1)
    signal[0, 10000] = 1.0
    held = limiter(1, ceiling_db=-6.0, true_peak=False, lookahead_ms=5.0, release_ms=100.0)

    held.process(np.pad(signal, ((0, 0), (0, 240))))

    gain = held.gains_db["gain_db"][240:]
    assert gain[9700] == 0.0
    assert gain[10000] == pytest.approx(-6.0, abs=1e-6)
    # The mean over the lookahead shifts the release by half of it, and by the window that held the peak.
    assert gain[10000 + 120 + 4800] == pytest.approx(-6.0 * np.exp(-1), abs=0.15)


def test_automatic_release_lets_go_slower_after_a_long_passage():
    def left_after(loud_frames):
        held = limiter(1, ceiling_db=-12.0, auto_release=True, release_ms=50.0)
        held.process(np.full((1, loud_frames), 1.0))
        held.process(np.full((1, RATE // 4), 0.01))
        return held.gains_db["gain_db"][-1]

    assert left_after(480) > -0.5
    assert left_after(3 * RATE) < -4


def test_link_holds_both_channels_or_each_by_itself():
    signal = np.stack([np.full(4000, 1.0), np.full(4000, 0.1)])

    tied = limited(signal, ceiling_db=-6.0, link_pct=100.0)
    apart = limited(signal, ceiling_db=-6.0, link_pct=0.0)

    np.testing.assert_allclose(tied[1] / tied[0], 0.1)
    np.testing.assert_array_equal(apart[1], 0.1)


def test_unlinking_while_it_holds_keeps_the_gain(noise):
    held = limiter(ceiling_db=-20.0, release_ms=1000.0)
    before = held.process(noise[:, :8000].copy())

    held.apply(LimiterSettings(ceiling_db=-20.0, release_ms=1000.0, link_pct=0.0))
    after = held.process(noise[:, 8000:].copy())

    assert before.shape[1] + after.shape[1] == 24000
    assert held.gains_db["gain_db"][0] < -5


def test_the_interpolator_finds_a_known_peak_and_cannot_reach_further_than_said():
    phases = interpolator()
    n = np.arange(32) - 15
    sine = np.cos(2 * np.pi * 0.2 * (n - 0.5))  # its crest lies halfway between two samples

    between = [float(row @ sine) for row in phases]

    assert max(between) == pytest.approx(1.0, abs=1e-3)
    assert int(np.argmax(between)) == 4
    assert np.abs(phases).sum(axis=1).max() < REACH


@pytest.mark.parametrize("ceiling", [0.2, 0.5, 0.9])
def test_peaks_between_samples_are_found_wherever_they_pass_the_ceiling(ceiling):
    rng = np.random.default_rng(8)
    sound = 0.3 * rng.standard_normal((2, 3000)) * (rng.random(3000) > 0.5)
    peaks = np.empty((2, 3000 - 31))

    between_peaks(sound, 0, interpolator(), bound(), ceiling, peaks)

    made = [[np.correlate(channel, row) for row in interpolator()] for channel in sound]
    wanted = np.abs(np.array(made)).max(axis=1)
    passes = wanted > ceiling
    assert 0 < passes.sum() < passes.size
    np.testing.assert_allclose(peaks[passes], wanted[passes], rtol=1e-12)
    assert (peaks[~passes] <= ceiling).all()


@pytest.mark.parametrize("auto_release", [False, True])
def test_after_a_rest_it_holds_as_if_nothing_had_been(noise, auto_release):
    how = {"ceiling_db": -12.0, "release_ms": 2.0, "auto_release": auto_release}
    rested = limiter(**how)

    rested.process(np.concatenate([noise, np.zeros((2, 20 * RATE))], axis=1))

    assert rested.gains_db["gain_db"][-1] == 0.0
    np.testing.assert_array_equal(rested.process(noise.copy()), limiter(**how).process(noise.copy()))


@settings(max_examples=40, deadline=None)
@given(
    values=st.builds(
        LimiterSettings,
        ceiling_db=st.floats(-24, 0), input_db=st.floats(-24, 24), true_peak=st.booleans(),
        lookahead_ms=st.floats(0.5, 10), release_ms=st.floats(1, 5000), auto_release=st.booleans(),
        link_pct=st.floats(0, 100),
    ),
    cuts=st.lists(st.integers(1, 3000), min_size=1, max_size=8),
)  # fmt: skip
def test_any_setting_holds_the_ceiling_whatever_the_block_size(values, cuts):
    rng = np.random.default_rng(6)
    signal = rng.standard_normal((2, 6000)) * np.repeat([0.9, 0.0, 0.01], 2000)
    whole = Played(Limiter(values, channels=2, sample_rate=RATE))
    pieces = copy.deepcopy(whole)

    expected = whole.process(signal)
    parts = [
        pieces.process(np.ascontiguousarray(p)) for p in np.split(signal, sorted({min(c, 5999) for c in cuts}), axis=1)
    ]

    assert np.abs(expected).max() <= 10 ** (values.ceiling_db / 20) + 1e-15
    np.testing.assert_allclose(np.concatenate(parts, axis=1), expected, rtol=0, atol=1e-9)


def test_silence_after_sound_is_exactly_silent(noise):
    held = limiter(ceiling_db=-24.0, auto_release=True)
    held.process(noise)

    out = held.process(np.zeros((2, 2 * RATE)))

    np.testing.assert_array_equal(out[:, held.latency_frames :], 0.0)


@pytest.mark.parametrize(("of_rate", "over_db"), [(0.3, 0.15), (0.4, 0.15), (0.44, 0.6), (0.48, 1.7)])
def test_how_far_what_jumps_near_half_the_rate_passes_the_ceiling_between_samples_is_as_told(of_rate, over_db):
    """docs/formats/chain.md tells these; read by resampling eight times finer (soxr, very high quality)."""
    at = np.arange(RATE // 4)
    for jump in np.linspace(0.3, 6.0, 8):
        tone = np.sin(2 * np.pi * of_rate * at + np.where(at > RATE // 10, jump, 0.0))
        made = limited(0.95 * np.pad(tone, (0, 2000))[None], ceiling_db=-6.0)
        peak = np.abs(soxr.resample(made[0], RATE, 8 * RATE, quality="VHQ")).max()
        assert 20 * np.log10(peak) < -6.0 + over_db, jump
        assert np.abs(made).max() <= 10 ** (-6.0 / 20) + 1e-12
