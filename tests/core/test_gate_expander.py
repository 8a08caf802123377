"""Gate, expander and ducker: by their definitions, by a slow second gate, and on the demo's planted truths."""

import itertools

import numpy as np
import pytest
import scipy.signal
from hypothesis import given, settings
from hypothesis import strategies as st

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from reins.core.processors import PROCESSORS
from reins.core.starting_points import find_starting_point
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from reins.demo import drums, strings, voices
from tests.conftest import RATE
from tests.reference.gate import expander_out_db, gate_gains

KINDS = ("gate", "expander", "ducker")


def run(kind, signal, *, block=4096, key_signal=None, **values):
    """(result, gain in dB), lined up with signal (channels, frames)."""
    values = values | ({"key": {"source": "k", **values.get("key", {})}} if key_signal is not None else {})
    entry = parse_entry({"type": kind, "settings": values}, "test")
    keys = {"k": key_signal.shape[0]} if key_signal is not None else {}
    chain = Chain([entry], channels=signal.shape[0], sample_rate=RATE, key_channels=keys)
    late, frames = chain.latency_frames, signal.shape[1]
    signal, key_signal = (None if x is None else np.pad(x, ((0, 0), (0, late))) for x in (signal, key_signal))
    parts, gains = [], []
    for first in range(0, signal.shape[1], block):
        part = np.ascontiguousarray(signal[:, first : first + block])
        parts.append(chain.process(part, {} if key_signal is None else {"k": key_signal[:, first : first + block]}))
        gains.append(chain.gains()[0][1]["gain_db"].copy())
    return np.concatenate(parts, axis=1)[:, late:], np.concatenate(gains)[late:][:frames]


def steps(*pieces):
    """A signal of constant levels: (dB, milliseconds) each."""
    return np.concatenate([np.full(round(ms * RATE / 1000), 10 ** (db / 20)) for db, ms in pieces])[None]


def test_hold_60_release_50_leaves_it_untouched_and_then_closes():
    # Common practice: after the level has fallen, untouched for 60 ms, closed 50 ms later.
    signal = steps((-10, 100), (-60, 200))

    _, gain = run("gate", signal, threshold_db=-30, hold_ms=60, release_ms=50, attack_ms=0, range_db=40)

    fell = round(0.1 * RATE)
    assert (gain[:fell] == 0).all()
    assert (gain[fell : fell + round(0.06 * RATE)] == 0).all()
    closing = gain[fell + round(0.06 * RATE) : fell + round(0.11 * RATE)]
    straight = -40 * np.arange(1, closing.size + 1) / closing.size
    np.testing.assert_allclose(closing, straight, atol=1e-6)
    np.testing.assert_allclose(gain[fell + round(0.11 * RATE) :], -40, atol=1e-9)


def test_opening_is_straight_in_amplitude_and_starts_closed():
    out, gain = run("gate", steps((-10, 50)), threshold_db=-30, attack_ms=20, range_db=90)

    frames = round(0.02 * RATE)
    np.testing.assert_allclose(out[0, :frames] / 10**-0.5, np.arange(1, frames + 1) / frames, atol=1e-9)
    assert gain[frames] == 0


@pytest.mark.parametrize(("range_db", "left"), [(0, 0.0), (6, -6.0), (40, -40.0)])
def test_range_says_how_much_quieter_closed_is(range_db, left):
    _, gain = run("gate", steps((-60, 300)), threshold_db=-30, range_db=range_db)

    np.testing.assert_allclose(gain, left, atol=1e-9)


def test_range_90_is_silence():
    out, gain = run("gate", steps((-60, 100)), threshold_db=-30, range_db=90)

    assert (out == 0).all()
    assert (gain < -119.9).all()


def test_hysteresis_keeps_a_wavering_tail_open():
    waver = steps((-10, 20), *[(-33, 5), (-28, 5)] * 10, (-50, 100))
    values = {"threshold_db": -30, "attack_ms": 0, "hold_ms": 0, "release_ms": 1}

    _, chatter = run("gate", waver, hysteresis_db=0, **values)
    _, steady = run("gate", waver, hysteresis_db=6, **values)

    assert (np.diff((chatter == 0).astype(int)) == 1).sum() == 10
    assert (np.diff((steady == 0).astype(int)) == 1).sum() == 0
    assert steady[round(0.125 * RATE)] < -80  # below the closing level it closes all the same


@settings(max_examples=40, deadline=None)
@given(
    levels=st.lists(
        st.tuples(st.sampled_from([-70, -45, -38, -34, -31, -20]), st.integers(1, 60)), min_size=1, max_size=9
    ),
    hysteresis=st.sampled_from([0, 3.0, 12]), attack=st.sampled_from([0, 0.5, 30]), hold=st.sampled_from([0, 10, 80.0]),
    release=st.sampled_from([1, 40.0, 300]), range_db=st.sampled_from([0, 6, 60, 90]), invert=st.booleans(),
    block=st.sampled_from([1000, 4096]),
)  # fmt: skip
def test_a_gate_does_what_a_slow_plain_one_does(levels, hysteresis, attack, hold, release, range_db, invert, block):
    signal = steps(*levels)
    values = {
        "threshold_db": -32.5, "hysteresis_db": hysteresis, "attack_ms": attack, "hold_ms": hold, "release_ms": release,
        "range_db": range_db, "invert": invert,
    }  # fmt: skip

    out, _ = run("gate", signal, block=block, **values)

    plain = gate_gains(20 * np.log10(signal[0]), sample_rate=RATE, **values)
    np.testing.assert_allclose(out[0], signal[0] * plain, atol=1e-7)


@pytest.mark.parametrize("direction", ["down", "up"])
@pytest.mark.parametrize(("ratio", "knee_db", "range_db"), [(2, 0, 60), (4, 12, 18), (20, 6, 60), (1, 6, 20)])
def test_the_expanders_curve_is_that_of_its_meaning(direction, ratio, knee_db, range_db):
    values = {"direction": direction, "threshold_db": -36, "ratio": ratio, "knee_db": knee_db, "range_db": range_db}
    entry = parse_entry({"type": "expander", "settings": values}, "test")
    levels = np.linspace(-80, 0, 161)

    curve = PROCESSORS["expander"].curve_db(entry.settings, levels)

    expected = [max(expander_out_db(level, **values), -120) for level in levels]
    np.testing.assert_allclose(curve, expected, atol=1e-5)


@pytest.mark.parametrize(("direction", "quiet_first"), [("down", True), ("up", True)])
def test_the_expanders_attack_opens_or_raises_and_its_release_goes_back(direction, quiet_first):
    signal = steps((-60, 2000), (-20, 2000), (-60, 1000))
    values = {"direction": direction, "threshold_db": -40, "ratio": 2, "knee_db": 0, "range_db": 60}

    _, gain = run("expander", signal, attack_ms=50, release_ms=200, hold_ms=30, **values)

    rest, moved = gain[2 * RATE - 1], gain[4 * RATE - 1]
    assert (rest, moved) == (pytest.approx(-20 if direction == "down" else 0, abs=0.01),
                             pytest.approx(0 if direction == "down" else 20, abs=0.01))  # fmt: skip
    after_attack = gain[2 * RATE + round(0.05 * RATE) - 1]
    assert (after_attack - rest) / (moved - rest) == pytest.approx(1 - np.exp(-1), abs=0.001)
    held = gain[4 * RATE : 4 * RATE + round(0.03 * RATE)]
    np.testing.assert_allclose(held, moved, atol=0.01)
    after_release = gain[4 * RATE + round(0.23 * RATE) - 1]
    assert (after_release - moved) / (rest - moved) == pytest.approx(1 - np.exp(-1), abs=0.002)


def test_upward_expansion_gives_back_the_crest_factor_that_compression_took():
    rng = np.random.default_rng(4)
    hits = np.concatenate([rng.standard_normal(RATE // 4) * np.exp(-np.arange(RATE // 4) / 2500) for _ in range(8)])[
        None
    ]
    hits *= 0.5 / np.abs(hits).max()
    flat, _ = run("compressor", hits, threshold_db=-26, ratio=3, knee_db=0, attack_ms=0, release_ms=60)

    # The known compression leaves a third of each dB over -26: three times as much over the same threshold undoes it.
    raised, _ = run(
        "expander", flat, direction="up", threshold_db=-26, ratio=3, knee_db=0, range_db=24, attack_ms=0, release_ms=60
    )

    def crest_db(x):
        return 20 * np.log10(np.abs(x).max() / np.sqrt(np.mean(x * x)))

    assert crest_db(hits) - crest_db(flat) > 4
    assert crest_db(raised) == pytest.approx(crest_db(hits), abs=1.5)


def test_a_ducker_goes_down_by_its_amount_waits_and_comes_back():
    tone = np.full((2, 3 * RATE), 0.1)
    key = np.concatenate([steps((-90, 500), (-20, 500)), steps((-90, 2000))], axis=1)

    _, gain = run("ducker", tone, key_signal=key, amount_db=9, threshold_db=-40, down_ms=20, hold_ms=100, back_ms=300)

    assert gain[RATE // 2 - 1] == 0
    assert gain[RATE // 2 + round(0.02 * RATE) - 1] == pytest.approx(-9 * (1 - np.exp(-1)), abs=0.02)
    assert gain[RATE - 1] == pytest.approx(-9, abs=0.01)
    np.testing.assert_allclose(gain[RATE : RATE + round(0.1 * RATE)], -9, atol=0.01)
    assert gain[RATE + round(0.4 * RATE) - 1] == pytest.approx(-9 * np.exp(-1), abs=0.02)


def test_a_ducker_is_the_compressor_its_description_says():
    rng = np.random.default_rng(9)
    signal, key = rng.standard_normal((2, 30000)) * 0.1, rng.standard_normal((1, 30000)) * np.linspace(0, 0.5, 30000)

    ducked, _ = run(
        "ducker",
        signal,
        key_signal=key,
        amount_db=12,
        threshold_db=-30,
        down_ms=5,
        hold_ms=20,
        back_ms=100,
        floor_db=-90,
    )
    held, _ = run(
        "compressor", signal, key_signal=key, threshold_db=-30, ratio=100, knee_db=0, range_db=12, attack_ms=5,
        hold_ms=20, release_ms=100,
    )  # fmt: skip

    np.testing.assert_array_equal(ducked, held)


def test_the_keys_floor_ignores_a_constant_background():
    tone = np.full((1, RATE), 0.1)
    background = steps((-45, 400), (-20, 200), (-45, 400))

    _, without = run(
        "ducker", tone, key_signal=background, threshold_db=-50, amount_db=20, floor_db=-90, hold_ms=0, back_ms=10
    )
    _, with_floor = run(
        "ducker", tone, key_signal=background, threshold_db=-50, amount_db=20, floor_db=-40, hold_ms=0, back_ms=10
    )

    assert without[RATE // 4] < -4
    assert with_floor[RATE // 4] == 0
    assert with_floor[RATE // 2] == pytest.approx(-20, abs=0.1)


@settings(max_examples=30, deadline=None)
@given(data=st.data(), kind=st.sampled_from(KINDS))
def test_any_allowed_setting_gives_finite_output_whatever_the_blocks(data, kind):
    fields = PROCESSORS[kind].Settings.model_fields
    values = {}
    for name, field in fields.items():
        limits = {type(m).__name__: m for m in field.metadata}
        if "Ge" in limits:
            values[name] = data.draw(
                st.floats(limits["Ge"].ge, limits["Le"].le, width=32).map(float) | st.just(limits["Le"].le)
            )
            values[name] = min(max(values[name], limits["Ge"].ge), limits["Le"].le)
    values |= {
        "link_pct": data.draw(st.sampled_from([0.0, 40.0, 100.0])),
        "channels": data.draw(st.sampled_from(["stereo", "mid_side"])),
    }
    rng = np.random.default_rng(data.draw(st.integers(0, 99)))
    signal = rng.standard_normal((2, 6000)) * 10 ** rng.uniform(-4, 1, 6000)

    out, _ = run(kind, signal, **values)

    assert np.isfinite(out).all()
    np.testing.assert_array_equal(out, run(kind, signal, block=data.draw(st.sampled_from([1, 37, 1024])), **values)[0])


@pytest.mark.parametrize("kind", KINDS)
def test_silence_stays_silent_and_what_rests_is_untouched(kind, noise):
    rest = {"gate": {"range_db": 0}, "expander": {"ratio": 1}, "ducker": {"amount_db": 0}}[kind]

    assert (run(kind, np.zeros((2, 20000)))[0] == 0).all()
    np.testing.assert_array_equal(run(kind, noise, **rest)[0], noise)


def test_what_a_gate_did_is_counted(make_take):
    # Open for 100 + 20, 50 + 20 and 30 + 20 ms (hold 20): three openings, the shortest 50 ms.
    take = make_take(steps((-60, 100), (-10, 100), (-60, 200), (-10, 50), (-60, 200), (-10, 30), (-60, 320)))
    entry = parse_entry(
        {"type": "gate", "id": "g", "settings": {"threshold_db": -30, "attack_ms": 0, "hold_ms": 20, "release_ms": 50}},
        "x",
    )

    span = measure_span(Trial(take, [entry]), "g", 0, take.facts.frames)

    assert span.gate == {
        "open_pct": pytest.approx(24, abs=0.01), "openings": 3, "shortest_ms": pytest.approx(50, abs=0.03),
    }  # fmt: skip
    states = span.state_columns(0, RATE, 100)
    assert [states[i] for i in (5, 15, 21, 23, 30)] == [0, 1, 2, 3, 0]


def test_how_long_a_dip_takes_to_return_is_measured(make_take):
    take = make_take(np.full((1, 3 * RATE), 0.1))
    key = make_take(np.tile(np.concatenate([steps((-20, 100)), steps((-100, 900))], axis=1), 3), "key")
    values = {"amount_db": 12, "threshold_db": -40, "down_ms": 0, "hold_ms": 0, "back_ms": 100, "key": {"source": "k"}}
    entry = parse_entry({"type": "ducker", "id": "d", "settings": values}, "x")

    span = measure_span(Trial(take, [entry], {"k": key}), "d", 0, 3 * RATE)

    # From -12 dB to -0.5 dB by one pole: 100 ms times ln(24).
    assert span.return_s == pytest.approx(0.1 * np.log(24), abs=0.002)
    assert span.statistics()["deepest_db"] == pytest.approx(-12, abs=0.01)


def settings_of(kind, name):
    return find_starting_point(kind, name).settings


def rms_db(signal):
    return 20 * np.log10(np.sqrt(np.mean(signal**2)) + 1e-12)


@pytest.fixture(scope="module")
def kit():
    kick, hats = drums.make_kick(), drums.make_hats()
    return kick, drums.make_snare(kick, hats)


def test_the_snares_gate_opens_on_every_hit_and_hides_its_neighbours(kit):
    _, snare = kit

    out, gain = run("gate", snare, **settings_of("gate", "Snare, only its own hits"))

    hits = [round(at * RATE) for at, _ in drums.snare_hits()]
    assert all(gain[hit + 96 : hit + 960].max() == 0 for hit in hits)  # within 2 to 20 ms, ghosts included
    pauses = [(a + round(0.3 * RATE), b - 480) for a, b in itertools.pairwise(hits) if b - a > round(0.4 * RATE)]
    assert len(pauses) > 40
    assert max(rms_db(out[0, a:b]) - rms_db(snare[0, a:b]) for a, b in pauses) < -20


def test_the_announcers_gate_hides_the_room_and_loses_no_first_syllable():
    take = voices.make_announcer()

    out, _ = run("gate", take, **settings_of("gate", "Speech, a quiet room between phrases"))

    gaps = [(round(a * RATE), round(b * RATE)) for a, b in voices.gaps_s()]
    assert max(rms_db(out[0, a:b]) - rms_db(take[0, a:b]) for a, b in gaps) < -30
    syllables = voices.spoken_syllables()
    starts = [b.consonant_s for a, b in itertools.pairwise(syllables) if b.consonant_s - a.end_s > 0.5]
    for start in (round(at * RATE) for at in [syllables[0].consonant_s, *starts]):
        first = slice(start, start + round(0.02 * RATE))
        assert rms_db(out[0, first]) == pytest.approx(rms_db(take[0, first]), abs=1)


def test_the_bass_under_the_kick_evens_out_what_both_share(kit):
    kick, bass = kit[0], strings.make_bass()

    ducked, _ = run("ducker", bass, key_signal=kick, **settings_of("ducker", "Bass under kick"))

    band = scipy.signal.butter(4, [35, 60], "bandpass", fs=RATE, output="sos")

    def spread_db(low):
        filtered = scipy.signal.sosfiltfilt(band, 0.56 * kick[0] + 0.45 * low[0])  # their faders at -5 and -7 dB
        starts = [round(at * RATE) for at, _ in drums.kick_hits()]
        return np.std([rms_db(filtered[a : a + round(0.15 * RATE)]) for a in starts])

    assert spread_db(ducked) < spread_db(bass) - 1
