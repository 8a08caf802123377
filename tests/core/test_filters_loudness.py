"""Filters against scipy.signal; loudness, range and true peak against the EBU's test signals."""

import numpy as np
import pyloudnorm
import pytest
import scipy.signal

from reins.core.dsp.filters import butterworth_cut, run_sections
from reins.core.dsp.loudness import LoudnessMeter, TruePeakMeter, k_weighting
from tests.conftest import RATE


@pytest.mark.parametrize("order", [1, 2, 3, 4, 8, 20])
@pytest.mark.parametrize(("kind", "scipy_kind"), [("low_cut", "highpass"), ("high_cut", "lowpass")])
@pytest.mark.parametrize("cutoff_hz", [40.0, 1000.0, 15000.0])
def test_cuts_answer_like_scipys_butterworth(noise, order, kind, scipy_kind, cutoff_hz):
    sections = butterworth_cut(kind, cutoff_hz=cutoff_hz, order=order, sample_rate=RATE)
    out = noise.copy()

    run_sections(sections, np.zeros((sections.shape[0], 2, 2)), out)

    expected = scipy.signal.sosfilt(scipy.signal.butter(order, cutoff_hz, scipy_kind, fs=RATE, output="sos"), noise)
    np.testing.assert_allclose(out, expected, atol=1e-9)


def test_k_weighting_at_48_khz_is_the_standards_table():
    # ITU-R BS.1770-4, tables 1 and 2 (values from memory).
    shelf = [1.53512485958697, -2.69169618940638, 1.19839281085285, -1.69065929318241, 0.73248077421585]
    high_pass = [1.0, -2.0, 1.0, -1.99004745483398, 0.99007225036621]

    np.testing.assert_allclose(k_weighting(48000), [shelf, high_pass], atol=1e-8)


def sine(level_dbfs, seconds, frequency_hz=1000.0, rate=RATE):
    t = np.arange(round(seconds * rate)) / rate
    return np.tile(10 ** (level_dbfs / 20) * np.sin(2 * np.pi * frequency_hz * t), (2, 1))


def loudness_of(parts, rate=RATE):
    meter = LoudnessMeter(sample_rate=rate)
    signal = np.concatenate(parts, axis=1)
    for first in range(0, signal.shape[1], 5000):
        meter.feed(np.ascontiguousarray(signal[:, first : first + 5000]))
    return meter


# EBU Tech 3341, table 1, cases 1 to 5 (levels and times from memory); the tolerance is the standard's own.
@pytest.mark.parametrize(
    ("parts", "expected_lufs"),
    [
        ([(-23, 20)], -23.0),
        ([(-33, 20)], -33.0),
        ([(-36, 10), (-23, 60), (-36, 10)], -23.0),
        ([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23.0),
        ([(-26, 20), (-20, 20.1), (-26, 20)], -23.0),
    ],
)
@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_integrated_loudness_of_the_ebu_signals(parts, expected_lufs, rate):
    meter = loudness_of([sine(level, seconds, rate=rate) for level, seconds in parts], rate)

    assert meter.integrated_lufs() == pytest.approx(expected_lufs, abs=0.1)


# EBU Tech 3342, table 1, cases 1 to 4 (from memory); tolerance of the standard: 1 LU.
@pytest.mark.parametrize(
    ("levels", "expected_lu"), [((-20, -30), 10), ((-20, -15), 5), ((-40, -20), 20), ((-50, -35, -20, -35, -50), 15)]
)
def test_loudness_range_of_the_ebu_signals(levels, expected_lu):
    assert loudness_of([sine(level, 20) for level in levels]).range_lu() == pytest.approx(expected_lu, abs=1.0)


# EBU Tech 3341, cases 15 to 19: sines at a quarter, sixth and eighth of the rate with set phases (from memory).
@pytest.mark.parametrize(
    ("divisor", "phase_deg", "amplitude", "expected_dbtp"),
    [(4, 0, 0.5, -6), (4, 45, 0.5, -6), (6, 60, 0.5, -6), (8, 67.5, 0.5, -6), (4, 45, 1.41, 3)],
)
def test_true_peak_of_the_ebu_signals(divisor, phase_deg, amplitude, expected_dbtp):
    n = np.arange(RATE)
    signal = amplitude * np.sin(2 * np.pi * n / divisor + np.radians(phase_deg))
    signal *= np.clip(np.minimum(n, n[::-1]) / 2000, 0, 1)
    meter = TruePeakMeter(1)

    for part in np.split(signal, 7 * np.arange(1, 900)):
        meter.feed(np.ascontiguousarray(part[None]))

    reading = 20 * np.log10(meter.finish())
    assert expected_dbtp - 0.4 <= reading <= expected_dbtp + 0.2


def test_true_peak_agrees_with_a_long_interpolation_of_band_limited_noise():
    rng = np.random.default_rng(5)
    low = scipy.signal.sosfilt(scipy.signal.butter(8, 8000, fs=RATE, output="sos"), rng.standard_normal(RATE))[None]
    meter = TruePeakMeter(1)

    meter.feed(low)

    long = np.abs(scipy.signal.resample_poly(low[0], 8, 1, window=("kaiser", 12))).max()
    assert 20 * np.log10(meter.finish() / long) == pytest.approx(0.0, abs=0.2)


def repeated(levels, times):
    return [sine(level, seconds) for _ in range(times) for level, seconds in levels]


# EBU Tech 3341, cases 9 and 12 (from memory): short-term and momentary loudness stay at -23.0, once their window is
# full.
def test_short_term_loudness_of_the_ebu_signal_is_steady():
    readings = loudness_of(repeated([(-20, 1.34), (-30, 1.66)], 5)).short_term_lufs()

    np.testing.assert_allclose(readings, -23.0, atol=0.1)


def test_momentary_loudness_of_the_ebu_signal_is_steady():
    readings = loudness_of(repeated([(-20, 0.18), (-30, 0.22)], 25)).momentary_lufs()

    np.testing.assert_allclose(readings, -23.0, atol=0.1)


def test_loudness_agrees_with_a_general_purpose_library(noise):
    signal = np.tile(noise, (1, 20)) * np.linspace(0.1, 1, noise.shape[1] * 20)

    ours = loudness_of([signal]).integrated_lufs()

    # The library realises the K weighting by another bilinear form; it differs by some hundredths.
    assert ours == pytest.approx(pyloudnorm.Meter(RATE).integrated_loudness(signal.T), abs=0.1)


def test_silence_has_no_loudness():
    meter = loudness_of([np.zeros((2, RATE * 4))])

    assert meter.integrated_lufs() is None
    assert meter.range_lu() is None
