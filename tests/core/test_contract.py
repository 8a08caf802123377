"""What every processor promises, over every type in PROCESSORS and settings drawn at random."""

from dataclasses import replace

import numpy as np
import pytest
import soundfile
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from reins.core.engine.graph import Graph
from reins.core.engine.length import session_frames, sounding_frames, strip_frames
from reins.core.engine.live import LiveClock
from reins.core.engine.mixer import Mixer
from reins.core.processors import PROCESSORS
from reins.core.processors.base import Block
from reins.core.processors.making import Make, tail_s
from reins.core.sessions import Bus, Document, Track
from reins.core.settings.fields import describe_fields
from reins.core.time import Beat, Stream, When
from reins.core.trials.pictures import burst, curve, frequency
from reins.errors import SettingsError
from reins.services.exporting import Output, write_mix
from tests.conftest import RATE, sound_of

RNG = np.random.default_rng(5)
SOUND = 0.3 * RNG.standard_normal((2, 2400)) * np.repeat([1.0, 0.02, 0.7], 800)


def values_of(row):
    if row["kind"] == "choice":
        return st.sampled_from(row["options"])
    if row["kind"] == "number":
        number = st.integers if isinstance(row["default"], int) else st.floats
        return number(row["low"], row["high"])
    if row["kind"] == "list" and row["fields"]:
        return st.lists(st.fixed_dictionaries({f["name"]: values_of(f) for f in row["fields"] if f["kind"] != "source"
                                               and "." not in f["name"]}), max_size=4)  # fmt: skip
    return st.just(row["default"])


@st.composite
def entries(draw, kind):
    """An entry of a type with settings at random: those that do not go together are refused, and drawn anew."""
    rows = [row for row in describe_fields(PROCESSORS[kind].Settings) if "." not in row["name"]]
    raw = {row["name"]: draw(values_of(row)) for row in rows if row["kind"] != "source" and draw(st.booleans())}
    raw.pop("crossovers_hz", None)
    if kind == "multiband":
        raw["bands"] = [*raw.get("bands", []), {}, {}, {}][:3]
    try:
        return parse_entry({"id": "p", "type": kind, "settings": raw}, kind)
    except SettingsError:
        return parse_entry({"id": "p", "type": kind, "settings": {}}, kind)


def made(entry, channels=2):
    make = Make.of(entry.type, entry.settings, sample_rate=RATE, on_take=False)
    return make.processor(entry.settings, channels=channels, sample_rate=RATE)


def place(first, frames, **beat):
    return When(Stream(first), 0, frames, RATE, Beat(**beat))


@pytest.mark.parametrize("kind", PROCESSORS)
@settings(max_examples=10, deadline=None)
@given(data=st.data())
def test_what_it_is_given_it_leaves_alone_and_what_it_promises_it_gives(kind, data):
    entry, cls = data.draw(entries(kind)), PROCESSORS[kind]
    for channels in (1, 2):
        processor = made(entry, channels)
        sound = SOUND[:channels].copy()
        assert processor.latency_frames == Make.of(kind, entry.settings, sample_rate=RATE, on_take=False).latency_frames

        out = processor.process(Block(sound, place(0, sound.shape[1])))

        np.testing.assert_array_equal(sound, SOUND[:channels])
        assert out.shape == (cls.channels_out(entry.settings, channels), sound.shape[1]) and np.isfinite(out).all()
        assert all(row.shape == (sound.shape[1],) for row in processor.gains_db.values())
        if "spectrum" in cls.views:
            assert set(cls.reach_db(entry.settings)) == set(processor.gains_db)
        if "states" in cls.views:
            assert set(np.unique(processor.marks["state"])) <= {0, 1, 2, 3}
    assert cls.settling_s(entry.settings) >= 0.0 and cls.tail_s(entry.settings) >= 0.0


@pytest.mark.parametrize("kind", PROCESSORS)
@settings(max_examples=6, deadline=None)
@given(data=st.data())
def test_place_and_beat_make_no_difference_to_what_does_not_heed_them(kind, data):
    entry = data.draw(entries(kind))

    heard = [
        made(entry).process(Block(SOUND, place(first, 4800, tempo_bpm=bpm))) for first, bpm in ((0, 120), (777, 96))
    ]

    np.testing.assert_array_equal(*heard)


@pytest.mark.parametrize("kind", PROCESSORS)
@settings(max_examples=8, deadline=None)
@given(data=st.data())
def test_after_its_tail_nothing_is_heard_any_more(kind, data):
    entry = data.draw(entries(kind))
    chain = Chain([entry], channels=2, sample_rate=RATE)
    tail = tail_s(kind, entry.settings, RATE)
    assume(tail < 20.0)
    loudest = np.abs(chain.process(SOUND)).max()

    near_nyquist = 48  # a millisecond: there filters ring a little longer than their analogue
    rings = chain.process(np.zeros((2, chain.latency_frames + round(tail * RATE) + near_nyquist)))
    loudest = max(loudest, np.abs(rings).max())  # a cut far down is loudest long after a short sound
    after = np.abs(chain.process(np.zeros((2, 4800)))).max()

    assert after <= max(loudest, 1e-9) * 10 ** (-45 / 20)  # a tail is told to 60 dB down; cuts of high order ring on


@pytest.mark.parametrize(
    "band",
    [
        {"shape": "high_shelf", "freq_hz": 13661.0, "q": 20.0, "gain_db": 21.0},
        {"shape": "bell", "freq_hz": 60.0, "q": 0.4, "gain_db": -24.0},
    ],
)
def test_bands_that_ring_long_say_so(band):
    entry = parse_entry({"type": "dynamic_eq", "settings": {"match_highs": True, "bands": [band]}}, "x")
    chain = Chain([entry], channels=2, sample_rate=RATE)
    loudest = np.abs(chain.process(SOUND)).max()

    chain.process(np.zeros((2, round(tail_s("dynamic_eq", entry.settings, RATE) * RATE))))

    assert np.abs(chain.process(np.zeros((2, 4800)))).max() < loudest * 10 ** (-45 / 20)


@pytest.mark.parametrize("kind", PROCESSORS)
def test_its_pictures_are_those_of_its_views(kind):
    entry, cls = parse_entry({"id": "p", "type": kind}, kind), PROCESSORS[kind]
    names = {row["name"] for row in describe_fields(cls.Settings)}

    assert cls.line is None or cls.line in names
    assert cls.line is None or "in_out" in cls.views
    assert ("bands" in names) == ("bands" in cls.views) and (cls.covers is not None) == ("spectrum" in cls.views)
    if "in_out" in cls.views:
        told = curve(entry)
        assert len(told["in_db"]) == len(told["out_db"])
    if "burst" in cls.views:
        assert np.isfinite(burst(entry, sample_rate=RATE)["gain_db"]).all()
    if "spectrum" in cls.views:
        assert np.isfinite(frequency(entry, sample_rate=RATE)["rest_db"]).all()


def test_exactly_one_type_is_made_by_ties():
    assert [kind for kind, cls in PROCESSORS.items() if cls.made_by_tie] == ["ducker"]


class Noting(PROCESSORS["compressor"]):
    """Notes where its blocks stand."""

    def process(self, block):
        self.__dict__.setdefault("noted", []).extend(np.round(block.when.seconds() * RATE).astype(int))
        return super().process(block)


@pytest.mark.parametrize("lookahead_ms", [0.0, 5.0])
def test_a_processor_hears_where_its_sound_stands_loop_and_latency_included(monkeypatch, lookahead_ms):
    monkeypatch.setitem(PROCESSORS, "compressor", Noting)
    entry = parse_entry({"id": "p", "type": "compressor", "settings": {"lookahead_ms": lookahead_ms}}, "x")
    late = parse_entry({"id": "l", "type": "limiter"}, "x")
    tracks = {"t": Track(name="t", take_id="a", chain=[entry, late], bus="b")}
    buses = {"b": Bus(name="b", chain=[entry.model_copy(update={"id": "q"})])}
    document = Document(name="x", sample_rate=RATE, tracks=tracks, order=["t"], buses=buses, bus_order=["b"])
    count = 4000
    graph = Graph(document, {"a": sound_of(np.arange(count, dtype=float)[None] / count)}, Stream(1000, (500, 1500)))
    stages = {k: graph.players[k].chain.chain for k in "tb"}
    for _ in range(4):
        graph.process(500)
        track, bus = (np.array(stages[k]._stages[0].processor.noted[-500:]) for k in "tb")
        # The ramp says itself where it stands: what the track's chain is fed is read ahead by all latency after it.
        np.testing.assert_allclose(stages["t"]._passed[0][0] * count, track, atol=1e-6)
        ahead = stages["t"].latency_frames
        np.testing.assert_array_equal((track - bus - ahead) % 1000, np.zeros(500))


def test_beats_and_bars_are_counted_from_the_sessions_beginning():
    when = When(Stream(RATE, (0, 2 * RATE)), RATE - 2, 4, RATE, Beat(90.0, 3))

    beats = when.beats()

    assert when.spans() == [(2 * RATE - 2, 2), (0, 2)]
    np.testing.assert_allclose(beats, np.array([2 * RATE - 2, 2 * RATE - 1, 0, 1]) / RATE * 1.5)
    np.testing.assert_allclose(when.bars(), beats / 3.0)
    assert replace(when, times=2).seconds().size == 8


def test_what_sounds_on_after_the_last_take_is_heard_live_and_exported_alike(make_take, tmp_path):
    ring = parse_entry({"id": "p", "type": "dynamic_eq", "settings": {
        "bands": [{"freq_hz": 50.0, "q": 20.0, "gain_db": 18.0}]}}, "x")  # fmt: skip
    tracks = {"t": Track(name="t", take_id="a", bus="b"), "u": Track(name="u", take_id="c")}
    buses = {"b": Bus(name="b", chain=[ring])}
    document = Document(name="x", sample_rate=RATE, tracks=tracks, order=["t", "u"], buses=buses, bus_order=["b"])
    hum = 0.2 * np.sin(2 * np.pi * 50 * np.arange(RATE // 2) / RATE)[None]
    takes = {"a": make_take(hum, "a"), "c": make_take(hum[:, :4800], "c")}
    clock = LiveClock(document, takes)
    clock.play(0)

    blocks = []
    while not clock.ended():
        blocks.append(clock.next_block().samples.T)
        clock.played(clock.stream, clock._sent)
    write_mix(document, takes, tmp_path, Output("wav", "32f"), lambda *_: None, mix=True, stems=True)

    live = np.concatenate(blocks, axis=1)
    mix = soundfile.read(tmp_path / "mix.wav", dtype="float32")[0].T
    assert session_frames(document, takes) == RATE // 2 < mix.shape[1] == sounding_frames(document, takes)
    np.testing.assert_array_equal(live[:, : mix.shape[1]], mix)
    assert np.abs(mix[:, RATE // 2 + 2400 : RATE // 2 + 4800]).max() > 0.05 > 1e-3 > np.abs(mix[:, -2400:]).max()
    assert strip_frames(document, takes, "t") == RATE // 2 and strip_frames(document, takes, "b") == mix.shape[1]


def test_what_costs_much_is_given_in_longer_blocks_further_ahead_and_sounds_the_same(make_take, noise):
    chain = [parse_entry({"id": "p", "type": "compressor", "settings": {"threshold_db": -30.0}}, "x")]
    document = Document(
        name="x", sample_rate=RATE, tracks={"t": Track(name="t", take_id="a", chain=chain)}, order=["t"]
    )
    clock = LiveClock(document, {"a": make_take(np.tile(noise, 3))})

    def given(load):
        """All that is given before the listener has played any of it."""
        return list(iter(lambda: clock.next_block(load=load), None))

    def lengths(blocks):
        return [block.samples.shape[0] for block in blocks]

    clock.play(0)
    light = given(load=0.2)
    clock.play(0)
    heavy = given(load=0.6)
    at_first = clock.ahead_frames
    clock.played(clock.stream, clock.ahead_frames)
    still = given(load=0.4)  # what made it long has become less by that
    clock.played(clock.stream, clock._sent)
    again = given(load=0.2)

    assert lengths(light) == 7 * [1024] and lengths(heavy) == [1024, 1024, 2048, 4096, 4096]
    assert 0.15 * RATE < at_first <= 0.3 * RATE
    assert lengths(still) == 3 * [4096] and lengths(again) == 7 * [1024]
    one, other = (np.concatenate([block.samples for block in blocks]) for blocks in (light, heavy))
    np.testing.assert_array_equal(one, other[: len(one)])


def test_no_tail_is_longer_than_twenty_seconds(make_take):
    bands = [{"freq_hz": 20.0, "q": 20.0, "gain_db": 24.0}] * 8
    chain = [parse_entry({"id": f"p{k}", "type": "dynamic_eq", "settings": {"bands": bands}}, "x") for k in range(4)]
    document = Document(
        name="x", sample_rate=RATE, tracks={"t": Track(name="t", take_id="a", chain=chain)}, order=["t"]
    )

    assert sounding_frames(document, {"a": make_take(np.zeros((1, 10)))}) == 10 + 20 * RATE


class Widening(PROCESSORS["level"]):
    """Makes two sides of one: as it came, and upside down."""

    @classmethod
    def channels_out(cls, settings, channels):
        return 2

    def process(self, block):
        made = super().process(block)
        return made if made.shape[0] == 2 else np.stack([made[0], -made[0]])


def test_what_widens_is_followed_by_chain_pan_and_keys(monkeypatch):
    monkeypatch.setitem(PROCESSORS, "level", Widening)
    wide = parse_entry({"id": "w", "type": "level"}, "x")
    duck = {"id": "d", "type": "ducker", "settings": {"key": {"source": "t/after:right"}}}
    tracks = {
        "t": Track(name="T", take_id="mono", chain=[wide, parse_entry({"id": "c", "type": "compressor"}, "x")]),
        "u": Track(name="U", take_id="mono", mute=True, chain=[parse_entry(duck, "x")]),
    }
    mono = SOUND[:1].copy()
    plain = Document(name="x", tracks=tracks | {"t": tracks["t"].model_copy(update={"chain": []})}, order=["t", "u"])
    document = Document(name="x", tracks=tracks, order=["t", "u"])

    made = {k: Mixer(d, {"mono": sound_of(mono)}) for k, d in (("wide", document), ("changed", plain))}
    for mixer in made.values():
        mixer.start(Stream(0))
    out = made["wide"].process(2400)
    made["changed"].process(1024)
    made["changed"].change(document)
    later = np.concatenate([made["changed"].process(344) for _ in range(4)], axis=1)

    assert made["wide"].graph.players["t"].plain.shape[0] == 2
    np.testing.assert_allclose(out[0], -out[1], atol=1e-12)  # stereo, at rest untouched: no mono pan law
    assert np.abs(out[0]).max() > 0.05
    np.testing.assert_allclose(later[0, 1000:], -later[1, 1000:], atol=1e-9)
    keyed = made["wide"].graph.players["u"].chain.chain.heard("d").signal
    np.testing.assert_allclose(keyed[0], made["wide"].graph.players["t"].plain[1], atol=1e-12)
