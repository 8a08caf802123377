"""Buses, the master and keys: lined up to the frame whatever the latencies, changed while playing without a click."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.changes import parse_change
from reins.core.engine.listening import Listening
from reins.core.engine.mixer import Mixer
from reins.core.engine.offline import render_mix, render_mix_and_stems, render_strip
from reins.core.engine.plan import make_plan
from reins.core.leading import leading_to
from reins.core.routing import in_order
from reins.core.sessions import Bus, Document, Master, Track
from reins.core.soloing import heard
from reins.core.time import Stream
from reins.errors import ConflictError, InputError, SettingsError
from tests.conftest import RATE, kept


def entry(id="c", on=True, type="compressor", **settings):
    return parse_entry({"type": type, "id": id, "on": on, "settings": settings}, "test")


def idle(lookahead_ms, id="late"):
    """A processor that only delays."""
    return entry(id, threshold_db=0, ratio=1, lookahead_ms=lookahead_ms)


def session(tracks, buses=None, master=None):
    tracks = {k: t if isinstance(t, Track) else Track(name=k, take_id=k, **t) for k, t in tracks.items()}
    buses = {k: Bus(name=k, **b) for k, b in (buses or {}).items()}
    return Document(
        name="x", tracks=tracks, order=list(tracks), buses=buses, bus_order=list(buses),
        master=Master(**(master or {"chain": []})),
    )  # fmt: skip


def change(document, **raw):
    return parse_change(raw).apply(document)[0]


def render(document, takes, frames, block=1024):
    return np.concatenate(list(render_mix(Mixer(document, takes), 0, frames, block_frames=block)), axis=1)


def going_over(mixer, then):
    """What a started mixer makes, changed to another document after 20 of 60 blocks of 1024 frames."""
    before = [mixer.process(1024) for _ in range(20)]
    mixer.change(then)
    return np.concatenate([*before, *(mixer.process(1024) for _ in range(40))], axis=1)


@pytest.fixture
def click(make_take):
    signal = np.zeros((1, 12000))
    signal[0, [0, 5000]] = 0.25
    return make_take(signal, "click")


def test_every_path_meets_the_master_lined_up(click):
    takes = dict.fromkeys("abcd", click)
    document = session(
        {
            "a": {"pan_pct": -100, "chain": [idle(7)], "bus": "inner"},
            "b": {"pan_pct": -100, "bus": "outer"},
            "c": {"pan_pct": 100, "chain": [idle(20), idle(3, "more")]},
            "d": {"pan_pct": 100, "bus": "empty"},
        },
        {"inner": {"chain": [idle(11.3)], "bus": "outer"}, "outer": {"chain": [idle(2)]}, "empty": {}},
        {"chain": [idle(5), entry("limit", type="limiter")]},
    )

    out = render(document, takes, 12000)

    np.testing.assert_allclose(out[0], out[1], atol=1e-12)
    np.testing.assert_array_equal(np.flatnonzero(out[0] > 0.1), [0, 5000])
    assert out[0, 5000] == pytest.approx(0.5)


@pytest.mark.parametrize("tap", ["before", "after"])
@pytest.mark.parametrize(("key_ms", "own_ms"), [(0, 0), (9, 0), (0, 13), (6, 2.5)])
def test_a_key_acts_on_the_frame_it_belongs_to_whatever_the_latencies(make_take, click, tap, key_ms, own_ms):
    takes = {"held": make_take(np.full((1, 12000), 0.1), "held"), "key": click}
    duck = entry(
        "duck", threshold_db=-60, knee_db=0, attack_ms=0, release_ms=1, ratio=100, key={"source": f"key/{tap}"}
    )
    document = session(
        {
            "held": {"chain": [idle(own_ms), duck], "bus": "late"},
            "key": {"chain": [idle(key_ms)], "mute": True},  # a muted track still keys
        },
        {"late": {"chain": [idle(4)]}},
    )

    out = render(document, takes, 12000)[0]

    gain_db = 20 * np.log10(out / (0.1 * np.sqrt(0.5)))
    deep = np.flatnonzero(np.diff(gain_db) < -6) + 1
    np.testing.assert_array_equal(deep[deep > 100], [5000])


@pytest.mark.parametrize("block", [1, 333, 9999])
def test_any_block_size_mixes_the_same_bits(make_take, noise, block):
    takes = {"a": make_take(noise, "a"), "b": make_take(noise[:1] * 0.5, "b")}
    keyed = entry("k", threshold_db=-30, key={"source": "b/after", "low_cut_hz": 100})
    document = session(
        {"a": {"bus": "g"}, "b": {"chain": [idle(3)], "pan_pct": 40}},
        {"g": {"chain": [keyed], "fader_db": -3}},
        {"chain": [entry("limit", type="limiter", ceiling_db=-12)]},
    )

    out = render(document, takes, 3000, block)

    np.testing.assert_array_equal(out, render(document, takes, 3000))


def test_a_bus_holds_the_sum_of_its_tracks(make_take, noise):
    takes = {"a": make_take(noise, "a"), "b": make_take(noise[:, ::-1] * 0.5, "b")}
    both = make_take(noise + noise[:, ::-1] * 0.5, "both")
    held = [entry(threshold_db=-30, ratio=8, attack_ms=1)]

    grouped = render(session({"a": {"bus": "g"}, "b": {"bus": "g"}}, {"g": {"chain": held}}), takes, 20000)
    single = render(session({"both": {"chain": held}}), {"both": both}, 20000)

    np.testing.assert_allclose(grouped, single, atol=2e-6)  # takes are rounded to 24 bits each
    assert np.abs(grouped - noise[:, :20000]).max() > 0.05


def test_stems_add_up_to_the_mix(make_take, noise):
    takes = {"a": make_take(noise, "a"), "b": make_take(noise[:1], "b"), "c": make_take(noise[:, :9000], "c")}
    document = session(
        {"a": {"bus": "g", "chain": [entry(threshold_db=-40)]}, "b": {"bus": "g", "pan_pct": 30}, "c": {"fader_db": -8},
         "off": Track(name="off", take_id="c", mute=True)},
        {"g": {"chain": [entry("g", threshold_db=-30, lookahead_ms=4)], "pan_pct": -20}},
        {"chain": [entry("limit", type="limiter", on=False)], "fader_db": -2.5},
    )  # fmt: skip
    takes["off"] = takes["c"]

    rows = list(render_mix_and_stems(document, takes, 24000))

    mix = np.concatenate([m for m, _ in rows], axis=1)
    stems = {k: np.concatenate([s[k] for _, s in rows], axis=1) for k in rows[0][1]}
    assert set(stems) == {"g", "c"}
    np.testing.assert_allclose(sum(stems.values()), mix, atol=1e-12)
    np.testing.assert_array_equal(mix, render(document, takes, 24000, 8192))


def test_a_strip_is_handed_over_as_its_chain_makes_it(make_take, noise):
    takes = {"a": make_take(noise, "a"), "b": make_take(noise[:1], "b")}
    held = [entry(threshold_db=-40, lookahead_ms=5, key={"source": "b/before"})]
    document = session(
        {"a": {"chain": held, "fader_db": -20, "mute": True},
         "b": {"bus": "elsewhere"}},
        {"elsewhere": {"chain": [idle(8)]}},
    )  # fmt: skip

    out = np.concatenate(list(render_strip(document, takes, "a", 24000)), axis=1)

    open_ = change(document, kind="set_strip", strip_id="a", values={"mute": False, "fader_db": 0.0})
    open_ = change(open_, kind="set_strip", strip_id="b", values={"mute": True})
    np.testing.assert_allclose(out, render(open_, takes, 24000), atol=1e-12)


def test_polarity_and_trim_act_before_the_chain(make_take, noise):
    takes = {"a": make_take(noise, "a"), "b": make_take(noise, "b")}
    held = {"chain": [entry(threshold_db=-40)]}

    against = render(session({"a": held, "b": held | {"inverted": True}}), takes, 9000)
    louder = render(session({"a": held | {"trim_db": 6.0}}), takes, 9000)
    driven = render(session({"a": {"chain": [entry(threshold_db=-40, input_db=6)]}}), takes, 9000)

    np.testing.assert_allclose(against, 0.0, atol=1e-15)
    np.testing.assert_allclose(louder, driven, atol=1e-12)


def test_a_take_is_heard_from_where_it_begins(make_take, noise):
    takes = {"a": make_take(noise[:, :4000], "a")}

    out = render(session({"a": {"start_frame": 3000, "chain": [idle(6)]}}), takes, 9000)

    np.testing.assert_array_equal(out[:, :3000], 0.0)
    np.testing.assert_array_equal(out[:, 7000:], 0.0)
    np.testing.assert_allclose(out[:, 3000:7000], noise[:, :4000], atol=2**-23)


@pytest.mark.parametrize(
    ("solo", "safe", "sounds"),
    [((), (), "abc"), (("a",), (), "a"), (("g",), (), "ab"), (("c",), ("g",), "abc"), (("a", "c"), (), "ac")],
)
def test_solo_reaches_through_buses_and_spares_those_that_are_safe(solo, safe, sounds):
    document = session({"a": {"bus": "g"}, "b": {"bus": "g"}, "c": {}}, {"g": {"solo_safe": "g" in safe}})
    for name in solo:
        document = change(document, kind="set_strip", strip_id=name, values={"solo": True})

    assert "".join(k for k in document.tracks if heard(document, k).whole) == sounds


def test_a_muted_bus_is_silent(make_take, noise):
    document = session({"a": {"bus": "g"}}, {"g": {"mute": True}})

    assert np.abs(render(document, {"a": make_take(noise, "a")}, 4000)).max() == 0.0


@pytest.mark.parametrize("of", [None, "a", "g", "master"])
def test_difference_is_source_less_result_of_the_mix_or_of_one_strip(make_take, noise, of):
    takes = {"a": make_take(noise, "a"), "b": make_take(noise[:1], "b")}
    document = session(
        {"a": {"bus": "g", "chain": [entry(threshold_db=-40, lookahead_ms=2)], "fader_db": -3}, "b": {"pan_pct": 20}},
        {"g": {"chain": [entry("g", threshold_db=-30, lookahead_ms=4)]}},
        {"chain": [entry("limit", type="limiter", ceiling_db=-20)]},
    )
    heard = {}
    for what in ("result", "source", "difference"):
        mixer = Mixer(document, takes)
        mixer.listen(Listening(what, of))
        heard[what] = np.concatenate([mixer.process(1024) for _ in range(20)], axis=1)[:, 1024:]

    np.testing.assert_allclose(heard["difference"], heard["source"] - heard["result"], atol=1e-15)
    assert np.abs(heard["difference"]).max() > 0.01
    if of is None:  # the source of the mix is the mix with no chain anywhere
        bare = session({"a": {"bus": "g", "fader_db": -3}, "b": {"pan_pct": 20}}, {"g": {}})
        np.testing.assert_allclose(heard["source"], render(bare, takes, 20480)[:, 1024:], atol=1e-12)


def test_the_key_is_heard_as_the_detector_hears_it(make_take):
    sines = sum(0.2 * np.sin(2 * np.pi * f * np.arange(24000) / RATE) for f in (50, 2000))[None]
    takes = {"a": make_take(sines, "a")}
    document = session({"a": {"chain": [idle(5), entry("k", key={"low_cut_hz": 500, "gain_db": 6})], "fader_db": -30}})
    mixer = Mixer(document, takes)
    mixer.listen(Listening("key", "a", "k"))

    out = np.concatenate([mixer.process(1000) for _ in range(24)], axis=1)[0, 12000:]

    bins = 2 * np.abs(np.fft.rfft(out)) / out.size  # whole periods: 50 Hz is bin 12.5, 2 kHz bin 500
    assert bins[500] == pytest.approx(0.2 * 10 ** (6 / 20), rel=0.01)
    assert bins[10:16].max() < 0.002  # 80 dB down at a tenth of the cutoff, 24 dB/oct
    with pytest.raises(InputError, match="choose a processor"):
        mixer.listen(Listening("key", "a"))


def test_a_bands_key_is_heard_with_its_gain_and_cuts_and_the_band_is_the_region_of_it(make_take):
    two = sum(0.2 * np.sin(2 * np.pi * f * np.arange(24000) / RATE) for f in (50, 2000))[None]
    takes = {"a": make_take(0.1 * np.ones((1, 24000)), "a"), "b": make_take(two, "b")}
    band = {
        "motion": "compress",
        "freq_hz": 8000,
        "q": 4,
        "key": {"source": "b/before", "gain_db": -6, "low_cut_hz": 500},
    }
    eq = entry("eq", type="dynamic_eq", bands=[{}, band])
    document = session({"a": {"chain": [idle(5), eq]}, "b": {"fader_db": -30}})

    def bins(what):
        mixer = Mixer(document, takes)
        mixer.listen(Listening(what, "a", "eq", band="band2.gain_db"))
        out = np.concatenate([mixer.process(1000) for _ in range(24)], axis=1)[0, 12000:]
        return 2 * np.abs(np.fft.rfft(out)) / out.size  # whole periods: 50 Hz is bin 12.5, 2 kHz bin 500

    key, region = bins("key"), bins("band")
    assert key[500] == pytest.approx(0.2 * 10 ** (-6 / 20), rel=0.01)
    assert key[10:16].max() < 0.001
    # A band-pass of Q 4, two octaves down: 1 / sqrt(1 + Q^2 (f/f0 - f0/f)^2), some -23.5 dB but for the bilinear warp.
    assert 20 * np.log10(region[500] / key[500]) == pytest.approx(-23.5, abs=1)


def test_what_is_heard_of_a_detector_in_middle_and_sides_is_put_back_to_left_and_right(make_take, noise):
    mixer = Mixer(session({"a": {"chain": [entry("c", channels="mid_side")]}}), {"a": make_take(noise)})
    mixer.listen(Listening("key", "a", "c"))

    heard = np.concatenate([mixer.process(1024) for _ in range(20)], axis=1)

    np.testing.assert_allclose(heard[:, 1024:], kept(noise)[:, 1024:20480], atol=1e-12)


def steady(take, document, changed):
    """The mix of a steady signal over a change at frame 8192."""
    mixer = Mixer(document, dict.fromkeys("ab", take))
    mixer.start(Stream(0))
    parts = [mixer.process(1024) for _ in range(8)]
    mixer.change(changed)
    parts += [mixer.process(1024) for _ in range(24)]
    return np.concatenate(parts, axis=1)[0]


QUIET = {"chain": [entry(threshold_db=-40, ratio=2, attack_ms=0, release_ms=20)]}
CHANGES = {
    "a track leaves": lambda d: change(d, kind="remove_track", track_id="b"),
    "a track joins": lambda d: change(d, kind="add_track", track_id="n", track={"name": "n", "take_id": "a"}),
    "a bus is made": lambda d: change(d, kind="add_bus", bus_id="g", members=["a", "b"]),
    "the master's limiter goes on": lambda d: change(
        d, kind="set_processor", strip_id="master", processor_id="limiter", on=True
    ),
    "lookahead on the bus": lambda d: change(
        d, kind="set_processor", strip_id="h", processor_id="c", settings={"lookahead_ms": 12}
    ),
    "a key is tied": lambda d: d.with_strip("a", chain=[entry(threshold_db=-40, ratio=2, key={"source": "b/after"})]),
    "polarity": lambda d: change(d, kind="set_strip", strip_id="a", values={"inverted": True}),
    "trim": lambda d: change(d, kind="set_strip", strip_id="a", values={"trim_db": -12}),
}


@pytest.mark.parametrize("what", CHANGES)
def test_changes_while_playing_neither_click_nor_leave_a_gap(make_take, what):
    limiter = {"chain": [entry("limiter", type="limiter", on=False)]}
    document = session({"a": QUIET, "b": {"bus": "h"}}, {"h": QUIET}, limiter)
    changed = CHANGES[what](document)

    take = make_take(np.full((2, 60000), 0.1))
    out = steady(take, document, changed)

    before, after = out[8000], out[-1]
    assert np.abs(np.diff(out[8000:])).max() < 0.3 / 480  # nothing jumps: at most a fade of 10 ms
    assert min(before, after) - 0.02 < out[8000:].min()
    expected = steady(take, changed, changed)
    np.testing.assert_allclose(out[-2000:], expected[-2000:], rtol=2e-3)


def test_drafts_and_faders_change_without_a_new_graph(make_take, noise):
    document = session({"a": QUIET, "b": {}})
    mixer = Mixer(document, {"a": make_take(noise, "a"), "b": make_take(noise, "b")})
    graph = mixer.graph

    for raw in (
        {"kind": "set_strip", "strip_id": "a", "values": {"fader_db": -6, "pan_pct": 20}},
        {"kind": "use_draft", "strip_id": "a", "draft": 2},
        {"kind": "set_processor", "strip_id": "a", "processor_id": "c", "settings": {"lookahead_ms": 9}},
    ):
        document = change(document, **raw)
        mixer.change(document)
        mixer.process(1024)

    assert mixer.graph is graph


def test_a_circle_is_refused_with_the_names_along_it():
    document = session(
        {"kick": {"bus": "drums"}, "bass": {"chain": [entry(key={"source": "drums/after"})]}}, {"drums": {}, "all": {}}
    )

    with pytest.raises(ConflictError, match="circle: drums ← all ← drums"):
        change(
            change(document, kind="route_strip", strip_id="drums", bus="all"),
            kind="route_strip",
            strip_id="all",
            bus="drums",
        )
    tied = document.with_strip("kick", chain=[entry(key={"source": "bass/before"})])
    with pytest.raises(ConflictError, match="kick ← bass ← drums ← kick"):
        in_order(tied)
    with pytest.raises(SettingsError, match=r"key\.source is “bass”; allowed: self, before"):
        in_order(document.with_strip("kick", chain=[entry(key={"source": "bass"})]))


def test_removing_a_track_leaves_what_it_keyed_listening_to_itself():
    document = session({"kick": {}, "bass": {"chain": [entry(key={"source": "kick/after", "gain_db": 3})]}})

    left = change(document, kind="remove_track", track_id="kick")

    key = left.tracks["bass"].chain[0].settings.key
    assert (key.source, key.gain_db) == ("self", 3)
    in_order(left)


def test_what_leads_to_a_strip_is_all_that_its_sound_depends_on():
    document = session(
        {
            "a": {"bus": "g"},
            "b": {"bus": "g", "chain": [entry(key={"source": "c/after"})]},
            "c": {},
            "d": {"solo": True},
        },
        {"g": QUIET, "other": {}},
    )

    led = leading_to(document, "g")

    assert (list(led.tracks), list(led.buses)) == (["a", "b", "c"], ["g"])
    assert [t.mute for t in led.tracks.values()] == [True, True, True]  # d is soloed
    assert led.buses["g"].chain == []
    for raw in (
        {"kind": "set_processor", "strip_id": "g", "processor_id": "c", "settings": {"ratio": 9.0}},
        {"kind": "set_strip", "strip_id": "g", "values": {"fader_db": -3.0, "name": "Drums"}},
        {"kind": "set_strip", "strip_id": "d", "values": {"trim_db": 3.0}},
    ):
        assert leading_to(change(document, **raw), "g") == led
    assert leading_to(change(document, kind="set_strip", strip_id="c", values={"trim_db": 3.0}), "g") != led


def test_the_plan_leads_by_what_lies_behind():
    document = session(
        {"a": {"chain": [idle(1)], "bus": "g"}, "b": {}}, {"g": {"chain": [idle(2)]}}, {"chain": [idle(3)]}
    )

    plan = make_plan(document)

    assert plan.out_lead == {"a": 240, "b": 144, "g": 144, "master": 0}
    assert plan.in_lead == {"a": 288, "b": 144, "g": 240, "master": 144}


def test_a_session_without_tracks_and_a_track_without_a_take_are_silent(click):
    bare = Mixer(session({}), {})
    takeless = Mixer(session({"a": Track(name="a"), "b": {}}), {"b": click})

    assert (bare.left(0, 1), takeless.left(0, 1 << 20)) == (0, 12000)
    assert np.abs(bare.process(500)).max() == 0.0
    assert takeless.process(500)[0, 0] == pytest.approx(0.25 * np.sqrt(0.5))
