"""De-esser and multiband: against scipy and published formulas, by definition, on the demo's planted esses."""

import numpy as np
import pytest
import scipy.signal

from reins.core.starting_points import find_starting_point
from reins.demo import voices
from tests.conftest import RATE
from tests.reference.by_frequency import FREQUENCIES, db, level_db, measured, run, sine

KINDS = ("deesser", "dynamic_eq", "multiband")


@pytest.mark.parametrize("crossovers", [[300], [200, 2000], [60, 250, 1000, 4000, 12000]])
def test_bands_of_the_multiband_are_linkwitz_riley_and_add_up_flat(crossovers):
    whole = measured("multiband", crossovers_hz=crossovers)
    lowest = measured("multiband", crossovers_hz=crossovers, bands=[{"solo": True}])
    highest = measured("multiband", crossovers_hz=crossovers, bands=[*({} for _ in crossovers), {"solo": True}])

    np.testing.assert_allclose(db(whole), 0, atol=0.01)
    for answer, kind, hz in ((lowest, "lowpass", crossovers[0]), (highest, "highpass", crossovers[-1])):
        # Linkwitz, J. Audio Eng. Soc. 24(1), 1976: two Butterworth filters of second order in a row.
        twice = (
            db(scipy.signal.sosfreqz(scipy.signal.butter(2, hz, kind, fs=RATE, output="sos"), FREQUENCIES, fs=RATE)[1])
            * 2
        )
        seen = twice > -80
        if kind == "lowpass" or len(crossovers) == 1:
            np.testing.assert_allclose(db(answer)[seen], twice[seen], atol=0.02)


def test_a_multiband_band_holds_itself_alone_and_amount_scales_it():
    both = sine(80, -12) + sine(6000, -12)
    bands = [{"threshold_db": -32, "ratio": 4, "attack_ms": 0, "release_ms": 4000}, {}]

    out, gains = run("multiband", both, crossovers_hz=[700], bands=bands)
    _, half = run("multiband", both, crossovers_hz=[700], bands=bands, amount_pct=50)
    _, more = run("multiband", both, crossovers_hz=[700], bands=bands, amount_pct=150)

    lows, highs = (scipy.signal.sosfilt(scipy.signal.butter(6, 700, kind, fs=RATE, output="sos"), out)[0, RATE // 2 :]
                   for kind in ("lowpass", "highpass"))  # fmt: skip
    assert gains["band1.gain_db"][-1] == pytest.approx(-15, abs=0.05)
    assert gains["band2.gain_db"].min() == 0
    assert half["band1.gain_db"][-1] == pytest.approx(-7.5, abs=0.03)
    assert more["band1.gain_db"][-1] == pytest.approx(-22.5, abs=0.08)
    assert level_db(lows) == pytest.approx(-12 - 3.01 - 15, abs=0.1)
    assert level_db(highs) == pytest.approx(-12 - 3.01, abs=0.05)


def test_multiband_mute_solo_off_gain_mix_and_key():
    tone = sine(80, -12)

    def level(**values):
        return level_db(run("multiband", tone, crossovers_hz=[700], **values)[0][0, RATE // 2 :]) + 12 + 3.01

    held = {"threshold_db": -42, "ratio": 100, "range_db": 10, "attack_ms": 0, "gain_db": 3}
    assert level(bands=[{"mute": True}]) < -70
    assert level(bands=[{}, {"solo": True}]) < -60
    assert level(bands=[held]) == pytest.approx(-7, abs=0.1)
    assert level(bands=[{**held, "on": False}]) == pytest.approx(0, abs=0.05)
    np.testing.assert_array_equal(run("multiband", tone, crossovers_hz=[700], bands=[held], mix_pct=0)[0], tone)
    at_half = 20 * np.log10(0.5 + 0.5 * 10 ** (-7 / 20))
    assert level(bands=[held], mix_pct=50) == pytest.approx(at_half, abs=0.1)
    keyed = {"bands": [held], "crossovers_hz": [700], "key": {"source": "k"}}
    assert run("multiband", tone, hears=0 * tone, **keyed)[1]["band1.gain_db"].min() == 0
    assert run("multiband", tone, hears=sine(6000, -6), **keyed)[1]["band1.gain_db"].min() == 0


@pytest.mark.parametrize("act_on", ["band", "whole"])
def test_the_deesser_hears_its_band_and_holds_it_or_all(act_on):
    values = {"low_hz": 4000, "high_hz": 9000, "threshold_db": -40, "ratio": 4, "knee_db": 0, "attack_ms": 0,
        "range_db": 60,
              "release_ms": 4000, "act_on": act_on}  # fmt: skip
    # The band's middle: the bilinear transform's geometric mean of the edges.
    middle = np.arctan(np.sqrt(np.tan(np.pi * 4000 / RATE) * np.tan(np.pi * 9000 / RATE))) * RATE / np.pi

    quiet, still = run("deesser", sine(500, -6), **values)
    out, gains = run("deesser", sine(middle, -20), **values)
    both, _ = run("deesser", sine(middle, -20) + sine(200, -20), **values)

    assert still["gain_db"].min() == 0
    np.testing.assert_array_equal(quiet, sine(500, -6))
    assert gains["gain_db"][-1] == pytest.approx(-15, abs=0.2)  # the edges lie close: 0.2 dB less is heard
    assert level_db(out[0, RATE // 2 :]) == pytest.approx(-20 - 3.01 - 15, abs=0.3)
    low = scipy.signal.sosfilt(scipy.signal.butter(4, 800, fs=RATE, output="sos"), both)[0, RATE // 2 :]
    assert level_db(low) == pytest.approx(-23.01 - (15 if act_on == "whole" else 0), abs=0.3)


def test_relative_treats_quiet_and_loud_alike():
    mixed = sine(300, -10, 2.0) + sine(7000, -20, 2.0)
    values = {"low_hz": 5000, "high_hz": 10000, "relative": True, "threshold_db": -15, "ratio": 3, "attack_ms": 0}

    loud, quiet = (run("deesser", gain * mixed, **values)[1]["gain_db"][-RATE // 2 :] for gain in (1.0, 0.05))

    assert loud.max() < -2
    np.testing.assert_allclose(quiet, loud, atol=1e-4)


@pytest.mark.parametrize("down_db", [20.0, 45.0])
def test_relative_does_not_know_how_loud_a_take_is_nor_takes_the_room_of_a_long_pause_for_a_line(down_db):
    room = 1e-3 * np.random.default_rng(5).standard_normal((1, 8 * RATE))
    room = scipy.signal.sosfilt(scipy.signal.butter(1, 500, fs=RATE, output="sos"), room)
    breath, line = sine(7000, -40, 0.3), sine(300, -14, 2.0) + sine(7000, -24, 2.0)
    take = np.concatenate([line, room, breath, room[:, :RATE], line], axis=1)
    values = {"low_hz": 5000, "high_hz": 10000, "relative": True, "threshold_db": -15, "ratio": 3, "attack_ms": 0}

    gain_db, quieter_db = (run("deesser", lin * take, **values)[1]["gain_db"] for lin in (1.0, 10.0 ** (-down_db / 20)))

    begun = slice(RATE // 2, None)  # it fades in from silence
    np.testing.assert_allclose(quieter_db[begun], gain_db[begun], atol=1e-3)
    assert gain_db[RATE : 2 * RATE].min() < -2  # of the line
    assert gain_db[10 * RATE : 11 * RATE].min() > -0.5  # of the breath


def test_the_deesser_can_hold_the_middle_alone():
    ess = sine(7000, -12)
    middle, sides = np.concatenate([ess, ess]), np.concatenate([ess, -ess])
    values = {
        "threshold_db": -40,
        "ratio": 100,
        "range_db": 12,
        "channels": "mid_side",
        "apply_to": "first",
        "link_pct": 0,
    }

    np.testing.assert_array_equal(run("deesser", sides, **values)[0], sides)
    assert level_db(run("deesser", middle, **values)[0][:, RATE // 2 :]) < -12 - 3.01 - 8


def test_esses_come_down_and_vowels_stay_in_quiet_and_loud_lines():
    singer, syllables = voices.make_singer(), voices.sung_syllables()
    point = find_starting_point("deesser", "Voice, loud esses")
    band = scipy.signal.butter(4, voices.ESS_BAND_HZ, "bandpass", fs=RATE, output="sos")

    out, _ = run("deesser", singer, **point.settings)

    plain, ess = ((f(singer), f(out)) for f in (lambda x: x, lambda x: scipy.signal.sosfiltfilt(band, x)))

    def lost(first_s, last_s, parts=plain):
        before, after = (level_db(x[0, round(first_s * RATE) : round(last_s * RATE)]) for x in parts)
        return before - after

    esses = {0.0: [], -voices.CHORUS_OVER_VERSE_DB: []}
    for s in syllables:
        if s.consonant == "s":
            esses[s.level_db].append(lost(s.consonant_s, s.start_s, ess))
    assert min(map(min, esses.values())) > 5
    assert abs(np.median(esses[0.0]) - np.median(esses[-voices.CHORUS_OVER_VERSE_DB])) < 1
    assert max(lost(s.start_s, s.end_s) for s in syllables) < 0.5


def two_tones(kind, settings, levels_db=(-12.0, -12.0)):
    """Power spectrum in dB of full scale, a bin 2 Hz, of tones at 300 Hz and 6 kHz through a processor that is late."""
    at = np.arange(RATE) / RATE
    sound = sum(10 ** (db / 20) * np.sin(2 * np.pi * hz * at) for db, hz in zip(levels_db, (300, 6000), strict=True))
    out, _ = run(kind, np.stack([sound, sound]), **settings)
    return 20 * np.log10(np.maximum(np.abs(np.fft.rfft(out[0, RATE // 2 :])) / (RATE / 4), 1e-12))


def test_grit_bends_only_the_esses_that_are_held():
    held = {"threshold_db": -30.0, "ratio": 8.0, "range_db": 12.0, "release_ms": 500.0}
    plain, gritty = (two_tones("deesser", {**held, "grit_pct": pct}) for pct in (0.0, 60.0))
    at_rest = two_tones("deesser", {**held, "grit_pct": 60.0}, (-12.0, -60.0))

    assert gritty[18000 // 2] > -60 > plain[18000 // 2] + 20  # the third of the ess
    assert gritty[900 // 2] < -110  # none of the vowel
    assert gritty[300 // 2] == pytest.approx(plain[300 // 2], abs=0.01)
    assert at_rest[18000 // 2] < -110  # nothing is held, nothing is bent


def test_grit_goes_with_the_amount_and_without_any_changes_nothing():
    plain, none, half = (
        two_tones("multiband", {"crossovers_hz": [800], "bands": [{}, {}], "amount_pct": amount, "grit_pct": grit})
        for amount, grit in ((0.0, 0.0), (0.0, 80.0), (50.0, 80.0))
    )
    assert none == pytest.approx(plain, abs=0.01) and half[900 // 2] > plain[900 // 2] + 20


def test_grit_of_a_multiband_is_each_bands_own():
    bands = {"crossovers_hz": [1500.0]}
    low = two_tones("multiband", {**bands, "bands": [{"grit_pct": 60.0}, {}]})
    both = two_tones("multiband", {**bands, "grit_pct": 60.0})
    dry = two_tones("multiband", {**bands, "grit_pct": 60.0, "mix_pct": 0.0})

    assert low[900 // 2] > -60 and low[18000 // 2] < -90
    assert both[900 // 2] == pytest.approx(low[900 // 2], abs=0.5) and both[18000 // 2] > -60
    assert max(both[k // 2] for k in (5400, 6600, 11700, 12300)) < -70  # hardly a sum or difference of the two
    assert dry[900 // 2] < -110 and dry[300 // 2] == pytest.approx(-12.0, abs=0.01)
