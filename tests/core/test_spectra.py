"""Spectra and the map: against what a discrete Fourier transform must give, ISO 16 and IEC 61260."""

import numpy as np
import pytest

from reins.core.dsp.octaves import OCTAVE, TWELFTHS_HZ
from reins.core.measure import spectra
from reins.core.measure.maps import TakeMap, kept_spectrum, map_picture
from reins.core.units import note_name
from tests.conftest import RATE, sound_of

THIRD_OCTAVES_HZ = 1000 * OCTAVE ** (np.arange(-16, 14) / 3)


def tone(hz, level_db=0.0, seconds=2.0, rate=RATE):
    return (10 ** (level_db / 20) * np.sin(2 * np.pi * hz * np.arange(round(seconds * rate)) / rate))[None]


def fed(signal):
    meter = spectra.SpectrumMeter(sample_rate=RATE)
    meter.feed(signal)
    return meter


def now(signal):
    spectrum = spectra.SpectrumOfNow(signal.shape[0], sample_rate=RATE)
    for first in range(0, signal.shape[1], 1024):
        spectrum.feed(signal[:, first : first + 1024])
    return spectra.to_db(spectrum.power())


@pytest.mark.parametrize("hz", [25, 55, 440, 1000, 9000, 15000])
@pytest.mark.parametrize("level_db", [0, -30])
def test_a_sine_reads_its_level_where_it_is(hz, level_db):
    point = spectra.POINTS_HZ[np.abs(np.log(spectra.POINTS_HZ / hz)).argmin()]

    seen = now(tone(point, level_db))
    take = spectra.to_db(spectra.spectrum_of_take(sound_of(tone(point, level_db, 20.0))))

    # The Fourier transform of a full-scale sine has all its power, 0 dB, around one line.
    assert seen.max() == pytest.approx(level_db, abs=0.02)
    assert spectra.POINTS_HZ[seen.argmax()] == pytest.approx(point, rel=0.015)
    assert take.max() == pytest.approx(level_db, abs=0.1)


def test_what_sounds_now_falls_as_the_standard_has_it():
    # IEC 61672-1, time weighting F: one pole of 125 ms, so 34.7 dB a second once the sound has stopped.
    spectrum = spectra.SpectrumOfNow(1, sample_rate=RATE)
    signal = np.concatenate([tone(2000, seconds=1.0), np.zeros((1, RATE))], axis=1)
    levels = []
    for first in range(0, signal.shape[1], 1600):
        spectrum.feed(signal[:, first : first + 1600])
        levels.append(spectra.to_db(spectrum.power()).max())

    assert (levels[35] - levels[50]) / 0.5 == pytest.approx(34.7, abs=0.3)


def test_two_channels_count_by_their_mean_power():
    one_side = np.concatenate([tone(440), 0 * tone(440)])

    assert now(one_side).max() == pytest.approx(-3.01, abs=0.02)


def test_white_noise_rises_three_db_an_octave_and_sums_to_its_power():
    noise = 0.1 * np.random.default_rng(3).standard_normal((1, 60 * RATE))

    levels = spectra.to_db(fed(noise).power(THIRD_OCTAVES_HZ, peaked=False))

    # Power of white noise in a third octave (IEC 61260 edges): its share of the bandwidth, read so that a sine is 0 dB.
    width = THIRD_OCTAVES_HZ * (10**0.05 - 10**-0.05)
    expected = 10 * np.log10(2 * 0.1**2 * width / (RATE / 2))
    np.testing.assert_allclose(levels[:6], expected[:6], atol=1.0)  # few hertz, so few of them in a minute
    np.testing.assert_allclose(levels[6:], expected[6:], atol=0.4)
    np.testing.assert_allclose(levels[14:-1], expected[14:-1], atol=0.1)
    # Side by side the narrow bands hold the whole power, 2 x 0.01 as a sine is read, but for what lies above 20 kHz.
    assert fed(noise).power_in_twelfths().sum() == pytest.approx(2 * 0.1**2 * 20.2 / 24, rel=0.02)


def test_lows_read_as_they_are_down_to_twenty_five_hertz():
    noise = 0.1 * np.random.default_rng(3).standard_normal((1, 60 * RATE))
    points = spectra.POINTS_HZ[(spectra.POINTS_HZ >= 25) & (spectra.POINTS_HZ < 1000)]
    expected = 10 * np.log10(2 * 0.1**2 * points * (10**0.05 - 10**-0.05) / (RATE / 2))

    np.testing.assert_allclose(spectra.to_db(fed(noise).power(points)), expected, atol=1.0)
    at_30 = np.abs(spectra.POINTS_HZ - 30).argmin()
    assert now(tone(60, -20, 3.0))[at_30] < -60
    assert spectra.to_db(spectra.spectrum_of_take(sound_of(tone(60, -20, 30.0))))[at_30] < -60


def test_third_octaves_have_the_standards_middle_frequencies():
    # IEC 61260-1:2014, annex A: exact mid-band frequencies, base ten.
    for nominal, exact in (
        (31.5, 31.623),
        (125, 125.89),
        (500, 501.19),
        (1000, 1000.0),
        (8000, 7943.3),
        (20000, 19953),
    ):
        assert np.abs(THIRD_OCTAVES_HZ / exact - 1).min() < 1e-4, nominal


def test_notes_are_named_from_a4():
    # ISO 16: A4 = 440 Hz. Others from handbook tables of equal temperament.
    assert note_name(440.0) == "A4"
    assert note_name(261.626) == "C4"
    assert note_name(43.654) == "F1"
    assert note_name(7300.0) == "A♯8 −37 ct"
    assert 440.0 in np.round(spectra.POINTS_HZ, 9)


def test_the_map_shows_when_and_where():
    silence = np.zeros((1, RATE))
    take = np.concatenate([silence, tone(110, -6, 1.0), silence, tone(8000, -20, 1.0), silence], axis=1)

    picture = spectra.map_columns(sound_of(take), 0, RATE / 50, 250)

    rows = [np.abs(np.log(spectra.MAP_HZ / hz)).argmin() for hz in (110, 8000)]
    assert picture[75, rows[0]] == pytest.approx(-6, abs=0.3)
    assert picture[175, rows[1]] == pytest.approx(-20, abs=0.3)
    assert picture[75].argmax() in (rows[0], rows[0] + 1, rows[0] - 1)
    assert picture[[20, 125, 225]].max() < -60
    assert picture[75, rows[1]] < -60


def test_the_kept_map_shows_what_the_samples_do(make_take):
    rng = np.random.default_rng(5)
    take = make_take(0.1 * rng.standard_normal((1, 20 * RATE)) * np.repeat(rng.random(20) ** 3, RATE))

    whole = map_picture(take, TakeMap(take), 0, take.facts.frames, 100)
    again = TakeMap(take)
    quiet = map_picture(take, again, 0, take.facts.frames, 100, gain=0.5)
    fresh = map_picture(take, None, 0, take.facts.frames, 400)

    assert (take.folder / "map.u8").stat().st_size == whole.shape[1] * -(-take.facts.frames // again.hop)
    moved = (whole.astype(int) - quiet)[quiet > 1]
    assert set(np.unique(moved)) <= {12, 13}  # 6.02 dB in steps of half a dB
    loudest = fresh.reshape(100, 4, -1).max(axis=1)
    assert np.abs(loudest.astype(int) - whole)[:, 40:].mean() < 6


def test_a_takes_spectrum_is_measured_once_and_kept(make_take):
    take = make_take(tone(1000, -12, 5.0))

    first = kept_spectrum(take)
    (take.folder / "spectrum.f64").write_bytes(np.arange(120.0).tobytes())

    assert TWELFTHS_HZ[first.argmax()] == pytest.approx(1000)
    np.testing.assert_array_equal(kept_spectrum(take), np.arange(120.0))
