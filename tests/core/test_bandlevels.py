"""What each band is measured by, against tones and noises whose levels in the band are known."""

import numpy as np
import pytest
from scipy import signal

from reins.core.chainfile import parse_entry
from reins.core.engine.bandlevels import above_pct, above_spectrum_db, shares_pct, threshold_of
from reins.core.measure.spectra import POINTS_HZ, spectrum_of_take, to_db
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from tests.conftest import RATE, sound_of


def heard(kind, sound, more=(), **settings):
    entry = parse_entry({"id": "p", "type": kind, "settings": settings}, "x")
    return measure_span(Trial(sound_of(sound), [*more, entry]), "p", 0, sound.shape[1]).loudest, entry


def tone(hz, db, seconds=2.0):
    return 10 ** (db / 20) * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)[None]


def db(row):
    return 20 * np.log10(row[2:-2])


def test_an_eq_band_hears_what_it_covers_and_the_rest_what_none_does():
    sound = tone(1000, -20)
    sound[:, RATE:] += tone(100, -14, 1.0)
    bands = [
        {"freq_hz": 1000, "q": 2, "motion": "compress", "threshold_db": -30},
        {"freq_hz": 100, "q": 2, "motion": "expand", "threshold_db": -26},
        {"freq_hz": 5000, "motion": "compress", "watch": "whole"},
        {"freq_hz": 8000},
    ]
    rows, entry = heard("dynamic_eq", sound, bands=bands, rest={"on": True})
    assert set(rows) == {"band1.gain_db", "band2.gain_db", "band3.gain_db", "rest.gain_db"}  # what moves
    assert db(rows["band1.gain_db"])[:40] == pytest.approx(-20, abs=0.3)
    late = rows["band2.gain_db"].size // 2 + 8
    assert 20 * np.log10(rows["band2.gain_db"][late:-2]) == pytest.approx(-14, abs=0.6)
    assert db(rows["band3.gain_db"])[:40] == pytest.approx(-20, abs=0.1)  # it watches everything
    assert db(rows["rest.gain_db"])[:40].max() < -40  # the notch at 1 kHz leaves nothing of the tone
    assert threshold_of(entry, "band2.gain_db") == -26 and threshold_of(entry, "rest.gain_db") == -24
    assert above_pct(rows["band2.gain_db"], -26) == pytest.approx(50, abs=3)
    shares = shares_pct(rows["band1.gain_db"])
    assert len(shares) == 201 and sum(shares) == pytest.approx(100, abs=0.5)
    assert sum(shares[158:165]) > 90  # from -21 to -18 dB


def test_a_multibands_average_is_that_of_its_detector_and_a_deessers_band_is_its_own():
    noise = np.random.default_rng(5).standard_normal((1, 2 * RATE)) * 0.1
    rows, _ = heard("multiband", noise, crossovers_hz=[1000], bands=[{"rms_pct": 100}, {}])
    half = signal.butter(2, 1000, fs=RATE, output="sos")  # the lower band of a Linkwitz-Riley crossover, twice
    low = signal.sosfilt(half, signal.sosfilt(half, noise[0]))
    k = 1 - np.exp(-1 / (0.01 * RATE))
    mean = signal.lfilter([k], [1, k - 1], low**2)
    columns = mean[: mean.size // 1024 * 1024].reshape(-1, 1024).max(axis=1)
    want = 10 * np.log10(columns[4:-4]).mean()
    assert 20 * np.log10(rows["band1.gain_db"][4:-4]).mean() == pytest.approx(want, abs=0.5)
    rows, entry = heard("deesser", tone(7000, -18), low_hz=5000, high_hz=9000)
    assert db(rows["gain_db"])[:40] == pytest.approx(-18, abs=0.8)  # its own cuts take a little
    assert threshold_of(entry, "gain_db") == entry.settings.threshold_db
    relative = parse_entry({"type": "deesser", "settings": {"relative": True, "threshold_db": 0}}, "x")
    assert threshold_of(relative, "gain_db") is None


def test_it_stands_at_the_sounds_time_behind_what_is_late():
    sound = np.zeros((1, 2 * RATE))
    sound[:, RATE : RATE + 4800] = tone(1000, -20, 0.1)
    late = parse_entry({"id": "l", "type": "limiter", "settings": {"lookahead_ms": 10, "ceiling_db": 0}}, "x")
    bands = [{"freq_hz": 1000, "motion": "compress"}]
    for more in ((), (late,)):
        rows, _ = heard("dynamic_eq", sound, more, bands=bands)
        loud = np.flatnonzero(rows["band1.gain_db"] > 0.05)
        assert loud.min() == RATE // 1024 and loud.max() == (RATE + 4800) // 1024


def noise(kind, seconds=6):
    """Pink noise from 20 Hz, or that of an ess, at an RMS of 0.1."""
    frames = seconds * RATE
    spectrum, hz = np.fft.rfft(np.random.default_rng(1).standard_normal(frames)), np.fft.rfftfreq(frames, 1 / RATE)
    if kind == "pink":
        sound = np.fft.irfft(spectrum / np.where(hz < 20, 1e9, np.sqrt(np.maximum(hz, 1))), frames)
    else:
        edges = signal.butter(2, [4500, 9500], "bandpass", fs=RATE, output="sos")
        sound = signal.sosfilt(edges, np.fft.irfft(spectrum, frames))
    return (0.1 * sound / sound.std())[None]


EQ = {"motion": "compress"}


@pytest.mark.parametrize(
    ("sort", "kind", "name", "span", "settings"),
    [
        *(("pink", "dynamic_eq", "band1.gain_db", (0.9 * hz, 1.1 * hz), {"bands": [EQ | {"freq_hz": hz, "q": q}]})
          for hz, q in ((60, 1), (60, 4), (1000, 0.5), (1000, 4), (5000, 1), (12000, 2))),
        ("pink", "dynamic_eq", "band1.gain_db", (900, 1100), {"bands": [EQ | {"watch": "whole"}]}),
        ("pink", "dynamic_eq", "band1.gain_db", (900, 1100), {"bands": [EQ | {"rms_pct": 100, "rms_ms": 100}]}),
        ("pink", "dynamic_eq", "rest.gain_db", (300, 500), {"bands": [EQ], "rest": {"on": True}}),
        ("pink", "multiband", "band1.gain_db", (50, 150), {"crossovers_hz": [200, 2500]}),
        ("pink", "multiband", "band3.gain_db", (4000, 9000), {"crossovers_hz": [200, 2500]}),
        ("pink", "deesser", "gain_db", (5000, 9000), {}),
        ("ess", "deesser", "gain_db", (5000, 9000), {}),
        ("ess", "dynamic_eq", "band1.gain_db", (5500, 8000), {"bands": [EQ | {"freq_hz": 6500, "q": 1.5}]}),
    ],
)  # fmt: skip
def test_a_threshold_lies_across_a_spectrum_where_noise_of_that_level_is_held(sort, kind, name, span, settings):
    sound = noise(sort)
    rows, entry = heard(kind, sound, **settings)
    shown = to_db(spectrum_of_take(sound_of(sound)))[(span[0] < POINTS_HZ) & (span[1] > POINTS_HZ)]
    reached = 20 * np.log10(np.median(rows[name]))
    assert reached - above_spectrum_db(entry, name, RATE) == pytest.approx(shown.max(), abs=2.0)
