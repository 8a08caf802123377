"""Bells and shelves after the analogue curve: against the prototypes of the cookbook, and at work."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.changes import AddProcessor, StartFrom
from reins.core.dsp.matched import matched
from reins.core.engine.chain import Chain
from reins.core.processors import PROCESSORS
from reins.core.sessions import Document, Track
from tests.conftest import RATE

SHAPES = ("bell", "low_shelf", "high_shelf")
HZ = np.geomspace(20, 18000, 200)
GAINS = np.array([-24.0, -12, -6, -2, -0.1, 0.1, 2, 6, 12, 24])


def analogue_db(shape, f0, q, gain_db, hz=HZ):
    """R. Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter coefficients": H(s) of each shape."""
    a, s = 10 ** (gain_db / 40), 1j * hz / f0
    if shape == "bell":
        h = (s**2 + s * a / q + 1) / (s**2 + s / (a * q) + 1)
    elif shape == "low_shelf":
        h = a * (s**2 + np.sqrt(a) / q * s + a) / (a * s**2 + np.sqrt(a) / q * s + 1)
    else:
        h = a * (a * s**2 + np.sqrt(a) / q * s + 1) / (s**2 + np.sqrt(a) / q * s + a)
    return 20 * np.log10(np.abs(h))


def rows_db(rows, rate):
    """By section: what filters given as g, k, m0, m1, m2 do."""
    g, k, m0, m1, m2 = (row[:, None] for row in rows)
    s = 1j * np.tan(np.pi * HZ / rate) / g
    return 20 * np.log10(np.abs(m0 + (m1 * s + m2) / (s * s + k * s + 1)))


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("shape", SHAPES)
def test_it_lies_within_half_a_db_of_the_analogue_up_to_eighteen_kilohertz(shape, rate):
    worst = 0.0
    for f0 in (20, 200, 1000, 3500, 6500, 8000, 9000, 11000, 14000, 16000, 18000, 20000):
        for q in (0.3, 0.5, 0.71, 1, 2, 4):
            rows = matched(shape, freq_hz=f0, q=q, gains_db=GAINS, sample_rate=rate)
            wanted = np.stack([analogue_db(shape, f0, q, gain) for gain in GAINS])
            worst = max(worst, np.abs(rows_db(rows, rate) - wanted).max())
            assert (rows[:2] > 0).all()  # stable
    assert worst < 0.5


@pytest.mark.parametrize("shape", SHAPES)
def test_at_any_setting_it_is_stable_and_cut_undoes_boost(shape):
    for f0 in (20, 5000, 11000, 20000):
        for q in (0.1, 20):
            gains = np.array([-84.0, -30, -1, 0, 1, 30, 84])
            rows = matched(shape, freq_hz=f0, q=q, gains_db=gains, sample_rate=44100)
            assert np.isfinite(rows).all() and (rows[:2] > 0).all()
            answer = rows_db(rows, 44100)
            np.testing.assert_allclose(answer + answer[::-1], 0, atol=1e-6)


def eq(settings, channels=1):
    return Chain([parse_entry({"id": "p", "type": "dynamic_eq", "settings": settings}, "x")], channels=channels,
                 sample_rate=RATE)  # fmt: skip


@pytest.mark.parametrize("shape", SHAPES)
def test_what_comes_out_follows_the_curve_that_is_drawn(shape):
    band = {"shape": shape, "freq_hz": 12000, "q": 0.8, "gain_db": 9}
    impulse = np.zeros((1, 8192))
    impulse[0, 0] = 1.0
    made = {on: eq({"bands": [band], "match_highs": on}) for on in (False, True)}
    heard = {on: 20 * np.log10(np.abs(np.fft.rfft(chain.process(impulse)[0]))) for on, chain in made.items()}
    hz = np.fft.rfftfreq(8192, 1 / RATE)
    below = (hz > 20) & (hz < 18000)

    for on, chain in made.items():
        drawn = PROCESSORS["dynamic_eq"].response_db(chain.entries[0].settings, hz[below], {}, RATE)
        np.testing.assert_allclose(heard[on][below], drawn, atol=0.01)
    error = {on: np.abs(heard[on][below] - analogue_db(shape, 12000, 0.8, 9, hz[below])).max() for on in heard}
    assert error[True] < 0.5 < error[False]


@pytest.mark.parametrize("topology", ["parallel", "serial"])
def test_a_band_that_moves_stays_stable_and_stands_as_one_at_rest(topology, noise):
    band = {"shape": "high_shelf", "freq_hz": 9000, "q": 1.5, "gain_db": -7.3}
    moving = {"motion": "compress", "threshold_db": 0.0, "attack_ms": 0, "release_ms": 1, "range_db": 40, "ratio": 100}
    still = eq({"bands": [band], "match_highs": True, "topology": topology}, 2)
    at_rest = eq({"bands": [band | moving], "match_highs": True, "topology": topology}, 2)
    np.testing.assert_allclose(at_rest.process(0.1 * noise), still.process(0.1 * noise), atol=2e-3 * 0.1)

    wild = eq({"bands": [band | moving | {"threshold_db": -60}, band | moving | {"shape": "bell", "motion": "expand"}],
               "match_highs": True, "topology": topology}, 2)  # fmt: skip
    loud = np.tile(noise * np.repeat(np.random.default_rng(1).choice([1e-3, 4.0], 240), 100), 4)
    assert np.abs(wild.process(loud)).max() < 1e4


def test_the_desk_adds_it_on_and_a_chain_file_has_it_off():
    document = Document(name="x", sample_rate=RATE, tracks={"t": Track(name="T")}, order=["t"])
    document, _ = AddProcessor(kind="add_processor", strip_id="t", processor_id="p", type="dynamic_eq").apply(document)
    assert document.strip("t").chain[0].settings.match_highs
    document, _ = StartFrom(
        kind="start_from", strip_id="t", processor_id="p", name="Voice, lows and presence"
    ).apply(document)  # fmt: skip
    assert document.strip("t").chain[0].settings.match_highs
    assert not parse_entry({"type": "dynamic_eq"}, "x").settings.match_highs
