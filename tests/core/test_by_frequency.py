"""De-esser, dynamic EQ, multiband: against scipy and published formulas, by properties, on the demo's truths."""

import numpy as np
import pytest
import scipy.signal
from hypothesis import given, settings
from hypothesis import strategies as st

from reins.core.chainfile import describe_change, parse_entry, parse_settings
from reins.core.dsp.filters import sections_response
from reins.core.engine.gliding import GlidingChain
from reins.core.processors import PROCESSORS
from reins.core.processors.weighting import rising_sections
from reins.core.starting_points import find_starting_point
from reins.demo import strings
from reins.errors import SettingsError
from tests.conftest import RATE
from tests.reference.by_frequency import FREQUENCIES, chain_of, cookbook, db, level_db, measured, run, sine

KINDS = ("deesser", "dynamic_eq", "multiband")


@pytest.mark.parametrize("motion", ["none", "compress"])
@pytest.mark.parametrize("topology", ["parallel", "serial"])
@pytest.mark.parametrize("shape", ["bell", "low_shelf", "high_shelf"])
@pytest.mark.parametrize(("hz", "q", "gain_db"), [(60, 0.7, 9), (1000, 4, -12), (9000, 1.3, 6), (16000, 0.5, -20)])
def test_a_band_at_rest_answers_like_the_cookbook(shape, topology, motion, hz, q, gain_db):
    band = {
        "shape": shape,
        "freq_hz": hz,
        "q": q,
        "gain_db": gain_db,
        "motion": motion,
        "threshold_db": 0,
        "knee_db": 0,
    }

    answer = measured("dynamic_eq", topology=topology, bands=[band])

    expected = scipy.signal.freqz(*cookbook(shape, hz, q, gain_db), worN=FREQUENCIES, fs=RATE)[1]
    np.testing.assert_allclose(db(answer), db(expected), atol=0.01)


def test_bands_in_series_multiply_and_in_parallel_add():
    bands = [{"freq_hz": 400, "q": 2, "gain_db": 6}, {"shape": "high_shelf", "freq_hz": 3000, "q": 0.7, "gain_db": -9}]
    each = [
        scipy.signal.freqz(
            *cookbook(b.get("shape", "bell"), b["freq_hz"], b["q"], b["gain_db"]), worN=FREQUENCIES, fs=RATE
        )[1]
        for b in bands
    ]

    np.testing.assert_allclose(
        db(measured("dynamic_eq", topology="serial", bands=bands)), db(each[0] * each[1]), atol=0.01
    )
    summed = 1 + (each[0] - 1) + (each[1] - 1)
    np.testing.assert_allclose(db(measured("dynamic_eq", bands=bands)), db(summed), atol=0.01)


@pytest.mark.parametrize("slope", [6, 12, 18, 24, 36, 48, 72, 96, 120])
@pytest.mark.parametrize(("cut", "kind", "hz"), [("low_cut", "highpass", 80), ("high_cut", "lowpass", 6000)])
def test_cuts_of_every_slope_are_butterworth(cut, kind, hz, slope):
    answer = db(measured("dynamic_eq", **{f"{cut}_hz": hz, f"{cut}_slope": slope}))

    sections = scipy.signal.butter(slope // 6, hz, kind, fs=RATE, output="sos")
    expected = db(scipy.signal.sosfreqz(sections, worN=FREQUENCIES, fs=RATE)[1])
    seen = expected > -80
    np.testing.assert_allclose(answer[seen], expected[seen], atol=0.02)


@pytest.mark.parametrize("kind", KINDS)
def test_at_rest_nothing_changes(kind):
    signal = 0.1 * np.random.default_rng(1).standard_normal((2, 9000))

    out, _ = run(kind, signal, **({"threshold_db": 0} if kind == "deesser" else {}))

    if kind == "multiband":  # all-pass: level stays at every frequency, phase turns
        spectra = [np.abs(np.fft.rfft(x, 1 << 15)) for x in (signal[0], out[0])]
        np.testing.assert_allclose(np.sum(spectra[0] ** 2), np.sum(spectra[1] ** 2), rtol=2e-3)
    else:
        np.testing.assert_array_equal(out, signal)


def test_a_moving_band_holds_by_its_curve():
    # Threshold -40 dB, ratio 4: -20 dB in the band comes out 15 dB lower (definition of the ratio).
    band = {"freq_hz": 1000, "q": 2, "motion": "compress", "threshold_db": -40, "ratio": 4, "knee_db": 0,
        "range_db": 60,
            "attack_ms": 0, "release_ms": 4000}  # fmt: skip

    out, gains = run("dynamic_eq", sine(1000, -20), bands=[band])

    assert gains["band1.gain_db"][-1] == pytest.approx(-15, abs=0.05)
    assert level_db(out[0, RATE // 2 :]) == pytest.approx(-20 - 3.01 - 15, abs=0.1)


def test_a_moving_band_lets_up_by_its_reach_at_most():
    band = {"freq_hz": 100, "motion": "expand", "threshold_db": -40, "ratio": 2, "knee_db": 0, "range_db": 6,
        "attack_ms": 0,
            "release_ms": 4000}  # fmt: skip

    out, gains = run("dynamic_eq", sine(100, -20), bands=[band])

    assert gains["band1.gain_db"][-1] == pytest.approx(6, abs=0.01)
    assert level_db(out[0, RATE // 2 :]) == pytest.approx(-20 - 3.01 + 6, abs=0.1)


@pytest.mark.parametrize("count", [2, 3])
def test_bands_beside_each_other_move_as_each_does_alone(noise, count):
    bands = [
        {"freq_hz": 100 * 4**k, "motion": ("compress", "expand", "compress")[k], "threshold_db": -45 + 3 * k,
         "ratio": 2 + k, "attack_ms": 1 + 5 * k, "release_ms": 30 * (1 + k), "shape": ("bell", "bell", "high_shelf")[k]}
        for k in range(count)
    ]  # fmt: skip

    together = run("dynamic_eq", noise, bands=bands)[1]

    for number, band in enumerate(bands, 1):
        alone = run("dynamic_eq", noise, bands=[band])[1]["band1.gain_db"]
        assert np.ptp(alone) > 1
        np.testing.assert_array_equal(together[f"band{number}.gain_db"], alone)


def test_a_band_may_watch_the_whole_or_be_weighted_as_highs_seem():
    def moved(watch, hz, **more):
        band = {"freq_hz": 5000, "q": 4, "motion": "compress", "threshold_db": -50, "ratio": 2, "knee_db": 0,
            "range_db": 60,
                "attack_ms": 0, "release_ms": 4000, "watch": watch, **more}  # fmt: skip
        return run("dynamic_eq", sine(hz, -30), bands=[band])[1]["band1.gain_db"][-1]

    assert moved("band", 200) == 0
    assert moved("whole", 200) == pytest.approx(-10, abs=0.05)
    assert moved("band", 5000) == pytest.approx(-10, abs=0.05)
    # 3 dB/oct above 100 Hz: 10 log10(50) = 17 dB more at 5 kHz.
    assert moved("band", 5000, weight_db_oct=3) == pytest.approx(-10 - 17 / 2, abs=0.2)


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_the_weighting_rises_by_three_db_an_octave(rate):
    hz = np.geomspace(200, 12000, 50)

    rise = db(sections_response(rising_sections(rate), hz, rate))

    np.testing.assert_allclose(rise, 10 * np.log10(hz / 100), atol=0.65)


def test_bands_follow_keys_of_their_own():
    low, high = sine(100, -6), sine(5000, -30)
    band = {
        "motion": "compress",
        "threshold_db": -40,
        "ratio": 100,
        "knee_db": 0,
        "range_db": 20,
        "attack_ms": 0,
        "freq_hz": 5000,
    }
    keyed = {**band, "freq_hz": 100, "key": {"source": "k"}}

    _, gains = run("dynamic_eq", high, hears=low, bands=[band, keyed])
    _, silent = run("dynamic_eq", high, hears=0 * low, bands=[band, keyed])

    assert gains["band1.gain_db"].min() == pytest.approx(-10, abs=0.1)
    assert gains["band2.gain_db"].min() == pytest.approx(-20, abs=0.01)
    assert silent["band2.gain_db"].min() == 0


@pytest.mark.parametrize("topology", ["parallel", "serial"])
def test_the_rest_is_held_and_a_spared_band_stays(topology):
    values = {"topology": topology, "bands": [{"freq_hz": 1000, "q": 1, "motion": "spare"}],
              "rest": {"on": True, "threshold_db": -40, "ratio": 100, "knee_db": 0, "range_db": 20,
              "attack_ms": 1}}  # fmt: skip

    spared, _ = run("dynamic_eq", sine(1000, -12), **values)
    rest, gains = run("dynamic_eq", sine(60, -12), **values)

    assert level_db(spared[0, RATE // 2 :]) == pytest.approx(-12 - 3.01, abs=0.05)
    assert gains["rest.gain_db"].min() == pytest.approx(-20, abs=0.01)
    assert level_db(rest[0, RATE // 2 :]) == pytest.approx(-12 - 3.01 - 20, abs=1.5)  # its region reaches down a little


def test_matched_loudness_takes_back_a_boost():
    noise = 0.05 * np.random.default_rng(2).standard_normal((1, RATE))
    pink = scipy.signal.lfilter([0.049922, -0.095993, 0.050612, -0.004408], [1, -2.494956, 2.017265, -0.522189], noise)
    bands = [{"shape": "high_shelf", "freq_hz": 1000, "q": 0.7, "gain_db": 12}]
    k = scipy.signal.sosfilt(_k_weighting(), pink)

    out, _ = run("dynamic_eq", pink, bands=bands, match_loudness=True)
    loud, _ = run("dynamic_eq", pink, bands=bands)

    assert level_db(scipy.signal.sosfilt(_k_weighting(), loud)) - level_db(k) > 6
    assert level_db(scipy.signal.sosfilt(_k_weighting(), out)) == pytest.approx(level_db(k), abs=0.5)


def _k_weighting():
    """ITU-R BS.1770-4, tables 1 and 2 (48 kHz)."""
    return np.array([
        [1.53512485958697, -2.69169618940638, 1.19839281085285, 1, -1.69065929318241, 0.73248077421585],
        [1.0, -2.0, 1.0, 1, -1.99004745483398, 0.99007225036621],
    ])  # fmt: skip


def note_level(take, at_s, midi):
    hz = 440 * 2 ** ((midi - 69) / 12)
    part = take[0, round(at_s * RATE) : round((at_s + 0.3) * RATE)]
    window = np.hanning(part.size)
    return db(2 * np.sum(part * window * np.exp(-2j * np.pi * hz * np.arange(part.size) / RATE)) / window.sum())


def test_the_boom_comes_down_to_its_neighbours_and_other_notes_stay():
    bass, notes = strings.make_bass(), [n for n in strings.bass_notes() if n[1] > 0.3]
    point = find_starting_point("dynamic_eq", "Bass, one loud note")

    out, _ = run("dynamic_eq", bass, **point.settings)

    after = {midi: [note_level(out, at, midi) for at, _, m in notes if m == midi] for midi in {n[2] for n in notes}}
    others = np.concatenate([levels for midi, levels in after.items() if midi != strings.BOOM_MIDI])
    assert np.abs(np.array(after[strings.BOOM_MIDI]) - np.median(others)).max() < 2
    for at, _, midi in notes:
        if midi != strings.BOOM_MIDI:
            assert abs(note_level(out, at, midi) - note_level(bass, at, midi)) < 0.5


@st.composite
def allowed(draw, fields):
    values = {}
    for row in fields:
        place = values
        *parents, last = row["name"].split(".")
        for part in parents:
            place = place.setdefault(part, {})
        if row["kind"] == "number":
            place[last] = draw(st.floats(row["low"], row["high"]))
        elif row["kind"] == "choice":
            place[last] = draw(st.sampled_from(row["options"]))
        elif row["kind"] == "list" and row["fields"]:
            place[last] = draw(st.lists(allowed(row["fields"]), max_size=3))
    return values


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=25, deadline=None)
@given(data=st.data())
def test_any_allowed_setting_gives_finite_sound_and_any_block_size_the_same(kind, data):
    from reins.core.settings.fields import describe_fields

    values = data.draw(allowed(describe_fields(PROCESSORS[kind].Settings)))
    values["lookahead_ms"] = 0.7
    if kind == "deesser":
        values |= {"low_hz": min(values["low_hz"], values["high_hz"] / 1.2)}
        values["threshold_db"] = min(max(values["threshold_db"], -40), 0)
    if kind == "dynamic_eq":
        del values["lookahead_ms"]
    if kind == "multiband":
        values["crossovers_hz"] = [150.0, 1500.0][: max(len(values.get("bands", [])) - 1, 1)]
    rng = np.random.default_rng(data.draw(st.integers(0, 9)))
    signal = rng.standard_normal((2, 700)) * 10 ** rng.uniform(-4, 0.5)
    signal[:, 300:450] = 0

    whole, cut = chain_of(kind, values, channels=2), chain_of(kind, values, channels=2)
    out = whole.process(signal)
    size = data.draw(st.sampled_from([3, 37, 512]))
    parts = [cut.process(np.ascontiguousarray(signal[:, k : k + size])) for k in range(0, signal.shape[1], size)]

    assert np.isfinite(out).all()
    np.testing.assert_allclose(np.concatenate(parts, axis=1), out, atol=1e-9, rtol=1e-9)
    assert not chain_of(kind, values, channels=2).process(np.zeros((2, 600))).any()


def test_frequency_and_q_dragged_while_playing_do_not_click():
    tone = sine(440, -12, 0.5)
    play = GlidingChain(chain_of("dynamic_eq", {"bands": [{"freq_hz": 300, "q": 8, "gain_db": 20}]}), sample_rate=RATE)
    parts = []
    for block in range(0, tone.shape[1] - 1024, 1024):
        parts.append(play.process(tone[:, block : block + 1024], tone[:, block : block + 1024]))
        if not play.gliding:
            freq, q = 300 * 1.2 ** (block / 1024 % 7), 1 + block / 1024 % 5
            play.change(play.chain.evolved(parse_many([{"freq_hz": freq, "q": q, "gain_db": 20}])))

    out = np.concatenate(parts, axis=1)[0]
    # A click is a sudden bend: the second difference of the loudest 440 Hz there may be is all that may be seen.
    bend = np.abs(np.diff(out, 2)).max()
    assert bend < 1.5 * 10 ** (20 / 20) * 10 ** (-12 / 20) * (2 * np.pi * 440 / RATE) ** 2


def parse_many(bands):
    return [parse_entry({"type": "dynamic_eq", "settings": {"bands": bands}}, "test")]


@pytest.mark.parametrize(("kind", "values", "says"), [
    ("deesser", {"low_hz": 6000, "high_hz": 5000}, "at least 5 % above low_hz, which is 6000 Hz"),
    ("deesser", {"threshold_db": 5}, "from -60 to 0 dB unless relative is on"),
    ("deesser", {"relative": True, "threshold_db": -50}, "from -40 to 20 dB while relative is on"),
    ("dynamic_eq", {"bands": [{}, {"freq_hz": 5}]}, "bands.1.freq_hz is 5; allowed: a number from 20 to 20000 Hz"),
    ("dynamic_eq", {"bands": [{"colour": 1}]}, "there is no setting “colour”; allowed: on, shape, freq_hz"),
    ("dynamic_eq", {"bands": [{}] * 9}, "up to 8"),
    ("dynamic_eq", {"low_cut_slope": 13}, "6, 12, 18"),
    ("multiband", {"crossovers_hz": [500, 550]}, "each at least a third of an octave above"),
    ("multiband", {"crossovers_hz": [5]}, "numbers from 20 to 20000 Hz"),
    ("multiband", {"crossovers_hz": [500], "bands": [{}] * 3}, "2 bands between 1 crossovers_hz"),
    ("multiband", {"crossovers_hz": []}, "at least 1"),
])  # fmt: skip
def test_wrong_settings_are_refused_with_what_is_allowed(kind, values, says):
    with pytest.raises(SettingsError, match="x") as refused:
        parse_settings(kind, values, "x")
    assert says in str(refused.value)


def test_changes_of_bands_are_told_in_a_persons_words():
    def said(kind, before, after):
        return describe_change(kind, *(parse_settings(kind, values, "x") for values in (before, after)))

    one = {"freq_hz": 7000.0}
    assert said("dynamic_eq", {"bands": [{}, {}]}, {"bands": [{}, one]}) == "band 2 frequency 1.00 kHz → 7.00 kHz"
    assert said("dynamic_eq", {}, {"bands": [one]}) == "0 bands → 1"
    assert said("dynamic_eq", {"bands": [one, {}]}, {"bands": [{}, one]}) == "bands put in order"
    assert said("multiband", {"crossovers_hz": [200.0]}, {"crossovers_hz": [300.0]}) == "crossovers 200 Hz → 300 Hz"


@pytest.mark.parametrize(("level_db", "lifted_db"), [(-20, 0), (-40, 5), (-60, 12), (-120, 12)])
def test_a_band_lifts_the_quiet_and_leaves_the_loud(level_db, lifted_db):
    """Upward compression: under the threshold (1 - 1 / ratio) of what is missing, within the range."""
    band = {"direction": "lift", "threshold_db": -30, "ratio": 2, "range_db": 12, "knee_db": 0, "attack_ms": 5}
    tone = 10 ** (level_db / 20) * np.sin(2 * np.pi * 300 * np.arange(RATE) / RATE)[None]
    bands = {"crossovers_hz": [2000], "bands": [band | {"rms_pct": 0}, {}]}
    chain = chain_of("multiband", bands)
    chain.process(tone)
    gain = chain.gains()[0][1]["band1.gain_db"][RATE // 2 :]
    assert gain.min() == pytest.approx(lifted_db, abs=0.6) and gain.max() <= 12.0
