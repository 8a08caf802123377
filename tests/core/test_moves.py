"""Reins: what moves a setting, against the formulas, the plain product and itself cut otherwise."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from reins.core.chainfile import parse_chain, parse_entry, parse_reins
from reins.core.dsp.matched import matched_table
from reins.core.engine.chain import Chain
from reins.core.moves.rules import check
from reins.core.moves.scales import ways_of
from reins.core.moves.spans import prepare_moved
from reins.core.processors import PROCESSORS
from reins.core.processors.shaper import LATENCY_FRAMES
from reins.core.settings.models import PartError
from reins.core.settings.paths import laid_over
from reins.core.time import Beat, Stream, When
from reins.errors import SettingsError
from tests.conftest import RATE
from tests.core.test_no_click import base
from tests.reference.moving import beat_values, key_values

RNG = np.random.default_rng(3)
NOISE = 0.3 * RNG.standard_normal((2, 12000)) * np.repeat([1.0, 0.05, 0.6], 4000)
BENT = [[0, 1, -0.4], [0.25, 0.6, 0], [0.5, 0.2, 0.001], [0.5, 0.9, 0.7], [1, 0]]
BY_BEAT = {"kind": "beat", "beats": 0.25, "points": BENT}
BY_KEY = {"kind": "key", "floor_db": -40.0, "ceiling_db": -8.0, "attack_ms": 2.0, "hold_ms": 5.0, "release_ms": 30.0}


def rein(moves, by, name="r", **more):
    return {"id": name, "moves": [{"what": what, "to": to} for what, to in moves.items()], "by": by, **more}


def drawn(points):
    return rein({"p.gain_db": 0.0}, {"kind": "beat", "points": points})


def lined(points):
    return {"moves": [{"what": "p.gain_db"}], "by": {"kind": "line", "points": points}}


def run(entries, reins, sound, cuts, *, start=0, tempo=120.0, keys=None):
    """A chain's result over a sound cut into blocks of these lengths, the last one again and again."""
    chain = Chain(
        entries, channels=sound.shape[0], sample_rate=RATE, reins=parse_reins(reins),
        key_channels={name: key.shape[0] for name, key in (keys or {}).items()},
    )  # fmt: skip
    when, outs, at = When(Stream(start), 0, 0, RATE, Beat(tempo)), [], 0
    cuts = list(cuts)
    while at < sound.shape[1]:
        count = min(cuts.pop(0) if len(cuts) > 1 else cuts[0], sound.shape[1] - at)
        parts = {name: np.ascontiguousarray(key[:, at : at + count]) for name, key in (keys or {}).items()}
        place = replace(when, first=at - chain.latency_frames, frames=count)
        outs.append(chain.process(np.ascontiguousarray(sound[:, at : at + count]), parts, place))
        at += count
    assert not chain.failures
    return np.concatenate(outs, axis=1)


def level(**settings):
    return [parse_entry({"id": "p", "type": "level", "settings": settings}, "x")]


ONES = np.ones((1, 60000))


@pytest.mark.parametrize(
    ("points", "more"),
    [
        (BENT, {}), ([[0, 0, 1.0], [1, 1]], {}), ([[0, 1, -1.0], [1, 0]], {"offset_beats": 0.3, "beats": 0.5}),
        ([[0, 0, 0.005], [0.3, 1, 0.3], [1, 0]], {"beats": 1 / 16}),
        ([[0, 0.5], [0.5, 0.5], [0.5, 1.0], [0.5, 0.25], [1, 0.5]], {}),
    ],
)  # fmt: skip
def test_a_gain_moved_by_the_beat_is_the_formulas_curve(points, more):
    by = {"kind": "beat", "beats": 1, "points": points} | more

    moved = run(level(), [rein({"p.gain_db": -18.0}, by)], ONES, [1024], tempo=97.0)

    padded = [(*point, 0)[:3] for point in points]
    value = beat_values(
        padded, ONES.shape[1], rate=RATE, tempo=97.0, beats=by["beats"], offset=more.get("offset_beats", 0.0)
    )
    ideal = 10.0 ** (-18.0 * value / 20.0)
    assert np.abs(moved[0] - ideal).max() < 10 ** (-90 / 20) / 100


def test_a_gain_that_follows_a_key_is_the_one_pole_on_the_value():
    moved = run(level(gain_db=-3.0), [rein({"p.gain_db": -20.0}, BY_KEY)], NOISE, [1024])

    value = key_values(NOISE, rate=RATE, **{k: v for k, v in BY_KEY.items() if k != "kind"})
    ideal = NOISE * 10.0 ** ((-3.0 - 17.0 * value) / 20.0)
    assert np.abs(moved - ideal).max() < 10 ** (-90 / 20) / 100
    quiet = 10.0 ** (-45 / 20) * np.sign(NOISE)  # a background under the floor is ignored
    np.testing.assert_allclose(
        run(level(), [rein({"p.gain_db": -20.0}, BY_KEY)], quiet, [1024]), quiet, atol=1e-12, rtol=0
    )


def test_a_line_stays_before_its_first_and_after_its_last_point():
    points = [[0.25, -6.0, 0.5], [0.5, -18.0], [0.75, 0.0]]
    moved = run(level(gain_db=-1), [lined(points)], ONES, [700])
    db = 20.0 * np.log10(moved[0])

    seconds = np.arange(ONES.shape[1]) / RATE
    first = -6.0 - 12.0 * np.expm1(3.0 * np.clip((seconds - 0.25) / 0.25, 0, 1)) / np.expm1(3.0)
    ideal = np.where(seconds < 0.5, first, -18.0 + 18.0 * np.clip((seconds - 0.5) / 0.25, 0, 1))
    assert np.abs(db - ideal).max() < 1e-6


def test_several_reins_add_up_on_the_scale_and_stop_at_the_limits():
    still = {"kind": "beat", "points": [[0, 1], [1, 1]]}
    entries = level(gain_db=-2.0)

    both = run(entries, [rein({"p.gain_db": -12.0}, still), lined([[0, -5.0]])], ONES, [1024])
    more = run(entries, [rein({"p.gain_db": 24.0}, still), rein({"p.gain_db": 20.0}, still, "s")], ONES, [1024])

    np.testing.assert_allclose(20 * np.log10(both[0, 5000:]), -2.0 - 10.0 - 3.0, atol=1e-6)
    np.testing.assert_allclose(20 * np.log10(more[0, 5000:]), 24.0, atol=1e-6)


def test_a_logarithmic_setting_moves_in_its_logarithm_and_off_counts_as_its_end():
    halfway = {"kind": "beat", "points": [[0, 0.5], [1, 0.5]]}
    entry = parse_entry({"id": "p", "type": "filter", "settings": {"high_cut_hz": 8000.0}}, "x")
    moved = run([entry], [rein({"p.high_cut_hz": 500.0}, halfway)], NOISE, [1024])
    plain = parse_entry({"id": "p", "type": "filter", "settings": {"high_cut_hz": 2000.0}}, "x")
    np.testing.assert_allclose(moved[:, 500:], run([plain], [], NOISE, [1024])[:, 500:], atol=1e-12)

    ways = ways_of(parse_entry({"type": "compressor"}, "x").settings)
    assert ways["key.low_cut_hz"].place(0.0) == pytest.approx(np.log(20.0))
    assert ways["key.high_cut_hz"].place(0.0) == pytest.approx(np.log(20000.0))
    assert ways["attack_ms"].place(0.0) == pytest.approx(np.log(0.01)) and "lookahead_ms" not in ways


def targets(kind):
    entry = parse_entry({"id": "p", "type": kind, "settings": base(kind)}, kind)
    return entry, ways_of(entry.settings)


@pytest.mark.parametrize("by", [BY_BEAT, BY_KEY], ids=["beat", "key"])
@pytest.mark.parametrize("kind", PROCESSORS)
def test_everything_that_may_move_does_and_blocks_make_no_difference(kind, by):
    entry, ways = targets(kind)
    reins = [
        rein(
            {f"p.{path}": 0.7 * way.high + 0.3 * way.lowest for path, way in list(ways.items())[k : k + 16]},
            by,
            f"r{k}",
        )
        for k in range(0, len(ways), 16)
    ]
    sound = NOISE[:, 2000:7000]

    whole = run([entry], reins, sound, [8192], start=17)

    assert np.isfinite(whole).all() and np.abs(whole - run([entry], [], sound, [8192], start=17)).max() > 1e-3
    for cuts in ([1024], [1, 63, 7, 500]):
        np.testing.assert_allclose(run([entry], reins, sound, cuts, start=17), whole, atol=1e-9, rtol=0)


@pytest.mark.parametrize("kind", PROCESSORS)
def test_what_a_line_keeps_at_a_value_is_as_if_it_stood_there(kind):
    """Every setting that may move, of every type: rows and gains against the same processor standing."""
    entry, ways = targets(kind)
    # By itself it raises the rate by what is driven into it, and most where that moves.
    if entry.settings.raises_itself:
        entry = replace_at(entry, "oversampling", 1)
    sound = NOISE[:, 3000:5000]
    for path, way in ways.items():
        value = 0.4 * float(way.high) + 0.6 * float(way.low) if not way.log else float(np.sqrt(way.high * way.low))
        stood = replace_at(entry, path, value)
        if stood is None:  # settings that bind each other
            continue
        kept = {"moves": [{"what": f"p.{path}"}], "by": {"kind": "line", "points": [[0, value]]}}
        moved, still = run([entry], [kept], sound, [700]), run([stood], [], sound, [700])
        # The first frames are left out: a gate is made with the depth of its settings.
        np.testing.assert_allclose(moved[:, 100:], still[:, 100:], atol=1e-9, rtol=0, err_msg=path)


@pytest.mark.parametrize("motion", ["none", "compress"])
@pytest.mark.parametrize("shape", ["bell", "low_shelf", "high_shelf"])
def test_a_swept_band_that_follows_the_analogue_curve_is_the_exact_one_nearly(shape, motion):
    band = {"shape": shape, "freq_hz": 900.0, "q": 1.3, "gain_db": 7.0, "motion": motion, "threshold_db": -30.0}

    def made(reins, **other):
        settings = {"match_highs": True, "bands": [band | other]}
        return run([parse_entry({"id": "p", "type": "dynamic_eq", "settings": settings}, "x")], reins, NOISE, [1024])

    def kept(path, value):
        return {"moves": [{"what": f"p.bands.0.{path}"}], "by": {"kind": "line", "points": [[0, value]]}}

    for values in ({"freq_hz": 7777.0}, {"q": 2.9}, {"gain_db": -4.4}, {"freq_hz": 7777.0, "q": 2.9}):
        moved, still = made([kept(*each) for each in values.items()]), made([], **values)
        # Between steps of a ladder, 12 to an octave, or 6 where both move; at rest exactly, moving between tables of
        # one dB.
        least = 4e-3 if len(values) == 1 else 2e-2
        assert np.sqrt(np.mean((moved - still) ** 2)) < least * np.sqrt(np.mean((still - NOISE) ** 2)), values


def test_where_frequency_and_q_of_a_band_both_sweep_only_tables_beside_the_way_are_made():
    band = {"freq_hz": 900.0, "q": 1.0, "gain_db": 7.0}
    entry = parse_entry({"id": "p", "type": "dynamic_eq", "settings": {"match_highs": True, "bands": [band]}}, "x")
    matched_table.cache_clear()
    ends = {"p.bands.0.freq_hz": 20.0, "p.bands.0.q": 20.0}
    by = {"kind": "beat", "beats": 0.25, "points": [[0, 1], [0.5, 0], [1, 1]]}

    out = run([entry], [rein(ends, by)], NOISE, [12000])

    assert np.isfinite(out).all() and matched_table.cache_info().misses < 240  # of some 1000 in the square


def test_the_tables_of_a_sweep_are_there_before_it_plays():
    band = {"freq_hz": 900.0, "gain_db": 7.0}
    raw = {"id": "p", "type": "dynamic_eq", "settings": {"match_highs": True, "bands": [band]}}
    entry, reins = parse_entry(raw, "x"), [rein({"p.bands.0.freq_hz": 9000.0}, BY_BEAT)]
    reins.append({"moves": [{"what": "p.bands.0.freq_hz"}], "by": {"kind": "line", "points": [[0, 200], [1, 500]]}})
    matched_table.cache_clear()

    prepare_moved(parse_reins(reins), [entry], RATE)

    ready = matched_table.cache_info().misses
    run([entry], reins, NOISE, [1024])
    assert 40 < ready == matched_table.cache_info().misses


def replace_at(entry, path, value):
    try:
        raw = laid_over(entry.settings, {path: value}).model_dump()
        return parse_entry({"id": "p", "type": entry.type, "settings": raw}, "x")
    except SettingsError:
        return None


def test_a_processor_that_takes_no_rows_is_given_them_one_by_one(monkeypatch):
    class WithoutRows(PROCESSORS["filter"]):
        def takes(self, rows):
            return False

    raw = {"id": "p", "type": "filter", "settings": {"high_cut_hz": 4000.0}}
    reins = [rein({"p.high_cut_hz": 300.0}, BY_BEAT)]
    in_rows = run([parse_entry(raw, "x")], reins, NOISE, [1024])

    monkeypatch.setitem(PROCESSORS, "filter", WithoutRows)

    entry = parse_entry(raw, "x")
    one_by_one = run([entry], reins, NOISE, [1024])
    np.testing.assert_allclose(run([entry], reins, NOISE, [1, 63, 7, 500]), one_by_one, atol=1e-9)
    apart = np.square(one_by_one - in_rows).sum() / np.square(in_rows).sum()
    assert 0.0 < apart < 0.03  # it glides in Hz, where rows go straight in tan(pi f / rate)


@settings(max_examples=12, deadline=None)
@given(cuts=st.lists(st.integers(1, 65536), min_size=1, max_size=6), start=st.integers(0, 200))
def test_blocks_from_one_frame_to_65536_give_the_same(cuts, start):
    entries = [
        parse_entry({"id": "c", "type": "compressor", "settings": {"lookahead_ms": 2.0}}, "x"),
        parse_entry({"id": "f", "type": "filter", "settings": {"tilt_db": 3.0}}, "x"),
        parse_entry({"id": "p", "type": "level"}, "x"),
    ]
    reins = [
        rein({"p.gain_db": -20.0, "p.sides_pct": 20.0, "f.high_cut_hz": 400.0}, BY_KEY),
        rein({"c.threshold_db": -50.0, "c.makeup_db": 12.0, "f.tilt_db": -9.0}, BY_BEAT, "s"),
    ]
    sound = NOISE[:, 3000 : 3000 + min(6000, 40 * max(cuts))]

    np.testing.assert_array_equal(
        run(entries, reins, sound, [*cuts, 1024], start=start), run(entries, reins, sound, [1024], start=start)
    )


def test_what_is_moved_is_lined_up_through_the_latency_of_what_stands_before():
    late = parse_entry({"id": "c", "type": "compressor", "settings": {"lookahead_ms": 20.0, "ratio": 1}}, "x")
    by = {"kind": "beat", "beats": 0.25, "points": BENT}
    for name in ("p.gain_db", "c.output_db"):
        moved = run([late, *level()], [rein({name: -20.0}, by)], np.ones((1, 12000)), [512])
        plain = run(level(), [rein({"p.gain_db": -20.0}, by)], np.ones((1, 12000)), [512])
        np.testing.assert_allclose(moved[:, 960:], plain[:, : 12000 - 960], atol=1e-9)
    keyed = run([late, *level()], [rein({"p.gain_db": -20.0}, BY_KEY)], NOISE, [512])
    plain = run(level(), [rein({"p.gain_db": -20.0}, BY_KEY)], NOISE, [512])
    np.testing.assert_allclose(keyed[:, 960:], plain[:, : 12000 - 960], atol=1e-9)


def test_a_bands_gain_moves_with_its_sound_before_the_grit_of_the_bands():
    def multiband(grit_pct):
        settings = {"crossovers_hz": [10000], "bands": [{}, {"grit_pct": grit_pct}], "lookahead_ms": 2.0}
        return [parse_entry({"id": "p", "type": "multiband", "settings": settings}, "x")]

    tone = np.tile(np.sin(2 * np.pi * 200 / RATE * np.arange(12000)), (2, 1))  # nothing of it in the band that is bent
    moves = [rein({"p.bands.0.gain_db": -20.0}, BY_BEAT), rein({"p.output_db": -9.0}, BY_BEAT, name="o")]
    plain, gritty = (run(multiband(grit_pct), moves, tone, [512]) for grit_pct in (0, 100))
    np.testing.assert_allclose(gritty[:, LATENCY_FRAMES + 500 :], plain[:, 500:-LATENCY_FRAMES], atol=1e-6)


def test_a_rein_that_is_off_moves_nothing_and_a_chain_without_reins_has_no_mover():
    entries = level(gain_db=-6.0)
    off = rein({"p.gain_db": -40.0}, BY_BEAT, on=False)

    np.testing.assert_array_equal(run(entries, [off], NOISE, [1024]), run(entries, [], NOISE, [1024]))
    assert Chain(entries, channels=2, sample_rate=RATE, reins=parse_reins([off]))._mover is None


@pytest.mark.parametrize(
    ("bad", "sentence"),
    [
        (rein({"p.gain_db": 30.0}, BY_BEAT), "moves.0.to is 30; allowed for p.gain_db: a number from -90 to 24 dB"),
        (rein({"q.gain_db": 0.0}, BY_BEAT), "“q.gain_db” names no processor; allowed: one of p"),
        (rein({"p.inverted": 0.0}, BY_BEAT), "“inverted” of the level is not there or may not be moved; allowed: gain"),
        (rein({"strip.fader_db": 0.0}, BY_BEAT), "names no processor"),
        (rein({"p.gain_db": 0.0}, {"kind": "wind"}), "by.kind is “wind”; allowed: beat, line, key"),
        (rein({}, BY_BEAT), "moves"), ({"moves": []}, "it must be an object with moves and by"),
        (rein({"p.gain_db": 0.0}, {"kind": "beat", "beats": 0}), "beats is 0; allowed: a number from 0.0625 to 64"),
        (drawn([[0, 0], [0.5, 1]]), "allowed: the first at 0, the last at 1"),
        (drawn([[0, 0], [0.6, 1], [0.5, 1], [1, 0]]), "point 2 stands at 0.5"),
        (drawn([[0, 0], [1, 2]]), "point 1 is [1, 2, 0]; allowed: a place"),
        (drawn([[k / 64, 0] for k in range(65)]), "up to 64"),
        (rein({"p.gain_db": 0.0}, BY_KEY | {"ceiling_db": -39.5}), "at least 1 dB above floor_db"),
        (rein({"p.gain_db": 0.0}, {"kind": "line", "points": [[0, 0]]}), "a line says itself where the setting goes"),
        ({"moves": [{"what": "p.gain_db"}], "by": BY_BEAT}, "the value that the setting goes to"),
        (lined([[0, 99]]), "by.points.0.1 is 99; allowed"), (lined([[2, 0], [1, 0]]), "point 1 stands at 1"),
    ],
)  # fmt: skip
def test_a_wrong_rein_is_a_sentence(bad, sentence):
    with pytest.raises((SettingsError, PartError)) as caught:
        check(parse_reins([bad]), level(), None)
    assert sentence in str(caught.value)


def test_a_chain_file_names_processors_by_their_place_too():
    text = """{"format": "reins-chain", "version": 1, "processors": [{"type": "level"}],
        "reins": [{"moves": [{"what": "0.gain_db", "to": -18}], "by": {"kind": "beat"}}]}"""

    entries, reins = parse_chain(text, "c.json")

    chain = Chain(entries, channels=1, sample_rate=RATE, reins=reins)
    assert 20 * np.log10(chain.process(np.ones((1, 100)))[0, 0]) == pytest.approx(-18.0, abs=1e-6)
    with pytest.raises(SettingsError, match=r"c\.json: .*allowed: one of 0, a point"):
        parse_chain(text.replace("0.gain_db", "1.gain_db"), "c.json")
