"""Level and filter: at rest to the bit, against scipy's filters, swept without a step."""

import numpy as np
import pytest
import scipy.signal

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from tests.conftest import RATE
from tests.core.test_moves import NOISE, level, rein, run


def filtered(settings, sound):
    chain = Chain(
        [parse_entry({"type": "filter", "settings": settings}, "x")], channels=sound.shape[0], sample_rate=RATE
    )
    return chain.process(sound)


def impulse():
    sound = np.zeros((1, 1 << 15))
    sound[0, 0] = 1.0
    return sound


def answer_db(settings, hz):
    spectrum = np.abs(np.fft.rfft(filtered(settings, impulse())[0]))
    at = np.rint(np.asarray(hz) * (1 << 15) / RATE).astype(int)
    return 20.0 * np.log10(spectrum[at])


def test_at_rest_both_change_nothing_to_the_bit():
    for kind in ("level", "filter"):
        chain = Chain([parse_entry({"type": kind}, "x")], channels=2, sample_rate=RATE)
        np.testing.assert_array_equal(chain.process(NOISE), NOISE)


@pytest.mark.parametrize("kind", ["low_cut", "high_cut"])
@pytest.mark.parametrize("slope", [12, 24])
def test_cuts_are_scipys_butterworth_filters(kind, slope):
    made = filtered({f"{kind}_hz": 700.0, f"{kind}_slope": slope}, NOISE)

    btype = {"low_cut": "highpass", "high_cut": "lowpass"}[kind]
    sections = scipy.signal.butter(slope // 6, 700.0, btype, fs=RATE, output="sos")
    np.testing.assert_allclose(made, scipy.signal.sosfilt(sections, NOISE), atol=1e-9)


def test_resonance_raises_the_corner_by_as_much_as_it_says():
    for slope in (12, 24):
        plain, raised = (
            answer_db({"high_cut_hz": 1500.0, "high_cut_slope": slope, "resonance_db": db}, [1500.0, 50.0])
            for db in (0.0, 9.0)
        )
        assert raised[0] - plain[0] == pytest.approx(9.0, abs=0.01) and raised[1] == pytest.approx(plain[1], abs=0.05)


@pytest.mark.parametrize("tilt_db", [-12.0, -3.0, 6.0, 12.0])
def test_a_tilt_is_half_of_the_way_one_octave_to_either_side(tilt_db):
    low, below, middle, above, high = answer_db({"tilt_db": tilt_db, "tilt_hz": 800.0}, [10, 400, 800, 1600, 23900])

    assert middle == pytest.approx(0.0, abs=0.02)
    assert above == pytest.approx(tilt_db / 2, abs=0.15) and below == pytest.approx(-tilt_db / 2, abs=0.15)
    assert high == pytest.approx(tilt_db, abs=0.1) and low == pytest.approx(-tilt_db, abs=0.1)


def test_shelves_reach_their_gain_and_mix_blends():
    low, high = answer_db({"low_shelf_db": 6.0, "high_shelf_db": -9.0}, [2, 23990])
    assert low == pytest.approx(6.0, abs=0.1) and high == pytest.approx(-9.0, abs=0.1)
    half = filtered({"high_cut_hz": 300.0, "mix_pct": 50.0}, NOISE)
    np.testing.assert_allclose(half, 0.5 * NOISE + 0.5 * filtered({"high_cut_hz": 300.0}, NOISE), atol=1e-12)


def test_a_filter_swept_two_octaves_in_50_ms_leaves_no_step():
    seconds = np.arange(RATE) / RATE
    tone = 0.5 * np.sin(2 * np.pi * 1000.0 * seconds)[None]
    sweep = [{"moves": [{"what": "f.high_cut_hz"}], "by": {"kind": "line", "points": [[0.4, 2000.0], [0.45, 8000.0]]}}]
    entry = parse_entry({"id": "f", "type": "filter", "settings": {"high_cut_hz": 2000.0}}, "x")

    made = run([entry], sweep, tone, [1024])[0]

    window = np.blackman(9600)
    around = made[round(0.425 * RATE) - 4800 :][:9600] * window
    spectrum = np.abs(np.fft.rfft(around)) / (0.25 * window.sum())
    hz = np.fft.rfftfreq(9600, 1 / RATE)
    assert 20 * np.log10(spectrum[np.abs(hz - 1000.0) > 200.0].max()) < -60.0
    assert abs(made[round(0.42 * RATE) :][:2400]).max() > 0.1


def test_at_rest_a_swept_filter_is_the_still_one():
    still = {"kind": "beat", "points": [[0, 1], [1, 1]]}
    entry = parse_entry({"id": "f", "type": "filter", "settings": {"low_cut_hz": 300.0, "low_cut_slope": 24}}, "x")
    moved = run([entry], [rein({"f.low_cut_hz": 1200.0}, still)], NOISE, [1024])
    sections = scipy.signal.butter(4, 1200.0, "highpass", fs=RATE, output="sos")
    np.testing.assert_allclose(moved, scipy.signal.sosfilt(sections, NOISE), atol=1e-9)


def test_level_turns_widens_and_mutes():
    run_level = lambda **settings: run(level(**settings), [], NOISE, [1024])  # noqa: E731
    np.testing.assert_array_equal(run_level(gain_db=-90.0), np.zeros_like(NOISE))
    np.testing.assert_array_equal(run_level(inverted=True), -NOISE)
    mono = run_level(sides_pct=0.0)
    np.testing.assert_allclose(mono, np.repeat(NOISE.mean(axis=0)[None], 2, axis=0), atol=1e-15)
    wide = run_level(sides_pct=200.0)
    np.testing.assert_allclose(wide[0] - wide[1], 2.0 * (NOISE[0] - NOISE[1]), atol=1e-15)
    right = run_level(balance_pct=50.0)
    np.testing.assert_array_equal(right[1], NOISE[1])
    assert right[0] == pytest.approx(NOISE[0] * np.sqrt(2.0) * np.cos(0.375 * np.pi))
    low = run_level(sides_from_hz=300.0)
    sections = scipy.signal.butter(4, 300.0, "highpass", fs=RATE, output="sos")
    np.testing.assert_allclose(low[0] - low[1], scipy.signal.sosfilt(sections, NOISE[0] - NOISE[1]), atol=1e-9)
    np.testing.assert_allclose(low.sum(axis=0), NOISE.sum(axis=0), atol=1e-12)


def test_moved_down_to_the_end_is_silence_and_told_so():
    line = [
        {"moves": [{"what": "p.gain_db"}], "by": {"kind": "line", "points": [[0, -90.0], [0.1, -90.0], [0.2, 0.0]]}}
    ]
    made = run(level(), line, NOISE, [1024])
    assert not made[:, : round(0.1 * RATE)].any() and made[:, round(0.15 * RATE) :].any()
