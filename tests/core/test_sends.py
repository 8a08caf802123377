"""Sends: beside the way a strip goes, lined up, taken before or after the fader, without a click, with their tails."""

import numpy as np
import pytest

from reins.core.changes import parse_change
from reins.core.engine.length import sounding_frames, strip_frames
from reins.core.engine.mixer import Mixer
from reins.core.engine.offline import render_mix_and_stems, render_strip
from reins.core.leading import leading_to
from reins.core.sessions import Track, parse_document
from reins.core.time import Stream
from reins.errors import ConflictError, NotFoundError, SettingsError
from tests.conftest import RATE, kept
from tests.core.test_graph import change, entry, going_over, idle, render, session


def sent(level_db=0.0, tap="after", on=True, bus="room"):
    return [{"bus": bus, "level_db": level_db, "tap": tap, "on": on}]


@pytest.fixture
def clicks(make_take):
    signal = np.zeros((1, 12000))
    signal[0, [100, 5000]] = 0.25
    return make_take(signal, "clicks")


@pytest.mark.parametrize(("tap", "share"), [("after", 10 ** (-18 / 20)), ("before", 10 ** (-12 / 20))])
@pytest.mark.parametrize("own_ms", [0, 9])
def test_a_send_meets_what_goes_straight_to_the_frame_at_its_level(clicks, tap, share, own_ms):
    track = {"fader_db": -6, "chain": [idle(own_ms)], "sends": sent(-12, tap)}
    with_bus = session({"a": track}, {"room": {"chain": [idle(15)]}})
    alone = session({"a": {**track, "sends": []}}, {"room": {"chain": [idle(15)]}})

    both, dry = (render(document, {"a": clicks}, 12000) for document in (with_bus, alone))

    assert np.flatnonzero(np.abs(both[0]) > 1e-6).tolist() == [100, 5000]
    expected = np.repeat(kept(clicks.read(0, 12000)), 2, axis=0) * np.sqrt(0.5) * share
    np.testing.assert_allclose(both - dry, expected, atol=1e-7)


def test_any_block_size_and_the_stems_add_up_and_one_that_is_off_gives_nothing(make_take, noise):
    takes = {"a": make_take(noise, "a"), "b": make_take(noise[:1, ::-1].copy(), "b")}
    buses = {"room": {"chain": [entry(threshold_db=-30, ratio=4)]}, "far": {"fader_db": -3}}
    tracks = {"a": {"sends": sent(-6) + sent(-3, "before", bus="far")}, "b": {"pan_pct": 30, "sends": sent(on=False)}}
    document = session(tracks, buses)
    whole = render(document, takes, 24000, block=24000)

    for block in (1024, 700):
        np.testing.assert_array_equal(render(document, takes, 24000, block=block), whole)
    parts = [(mix, sum(stems.values())) for mix, stems in render_mix_and_stems(document, takes, 24000)]
    mix, stems = (np.concatenate(rows, axis=1) for rows in zip(*parts, strict=True))
    np.testing.assert_allclose(stems, mix, atol=1e-12)
    without = change(document, kind="remove_send", strip_id="b", bus="room")
    np.testing.assert_array_equal(render(without, takes, 24000), whole)


def test_a_soloed_bus_is_heard_with_what_is_sent_to_it_and_nothing_else(make_take, noise):
    takes = {"a": make_take(noise, "a"), "b": make_take(noise[:1, ::-1].copy(), "b")}
    buses = {"room": {"chain": [entry(threshold_db=-30, ratio=4)]}, "drums": {"sends": sent(-3)}}
    tracks = {"a": {"fader_db": -2, "pan_pct": 20, "sends": sent(-6)}, "b": {"bus": "drums"}}
    document = session(tracks, buses)
    soloed = change(document, kind="set_strip", strip_id="room", values={"solo": True})
    mix, stems = zip(*render_mix_and_stems(document, takes, 20000), strict=True)
    room = np.concatenate([parts["room"] for parts in stems], axis=1)
    assert np.abs(room).max() > 0.05 < np.abs(np.concatenate(mix, axis=1) - room).max()

    np.testing.assert_allclose(render(soloed, takes, 20000), room, atol=1e-12)
    assert list(next(iter(render_mix_and_stems(soloed, takes, 100)))[1]) == ["room"]
    led = leading_to(soloed, "master", chain=True)
    assert not any(strip.solo for strip in (*led.tracks.values(), *led.buses.values()))
    np.testing.assert_allclose(render(led, takes, 20000), room, atol=1e-12)

    alone = change(document, kind="set_strip", strip_id="b", values={"solo": True})
    without = change(document, kind="set_strip", strip_id="a", values={"mute": True})
    np.testing.assert_allclose(render(alone, takes, 20000), render(without, takes, 20000), atol=1e-12)


@pytest.mark.parametrize("to", [{"level_db": -30.0}, {"tap": "before"}, {"on": False}])
def test_it_changes_while_playing_without_a_click_and_ends_where_it_would_have_begun(make_take, to):
    t = np.arange(2 * RATE) / RATE
    take = make_take(0.25 * np.sin(2 * np.pi * 200 * t)[None], "tone")
    first = session({"a": {"fader_db": -12, "sends": sent(0)}}, {"room": {"chain": [idle(5)]}})
    then = change(first, kind="put_send", strip_id="a", bus="room", **to)
    mixer = Mixer(first, {"a": take})
    mixer.start(Stream(0))
    graph = mixer.graph
    made = going_over(mixer, then)

    assert mixer.graph is graph  # it glides
    assert np.abs(np.diff(made)).max() < 1.2 * np.abs(made).max() * 2 * np.pi * 200 / RATE
    np.testing.assert_allclose(made[:, 40960:], render(then, {"a": take}, 61440)[:, 40960:], atol=1e-12)


def test_a_muted_strip_sends_nothing_and_a_moved_pan_goes_along(make_take, noise):
    take = make_take(noise[:1].copy(), "a")
    silent = session({"a": {"mute": True, "sends": sent(0, "before")}}, {"room": {}})
    assert not render(silent, {"a": take}, 12000).any()
    rein = {"id": "r", "moves": [{"what": "strip.pan_pct"}], "by": {"kind": "line", "points": [[0, 100]]}}
    track = {"reins": [rein], "fader_db": -90, "sends": sent(0, "before")}
    moved = session({"a": Track.model_validate({"name": "a", "take_id": "a", **track})}, {"room": {}})
    made = render(moved, {"a": take}, 12000)
    np.testing.assert_allclose(made[0], 0.0, atol=1e-12)
    np.testing.assert_allclose(made[1], take.read(0, 12000)[0], atol=1e-7)


def test_its_tail_counts_and_what_leads_there_is_all_that_is_sent(clicks):
    room = {"chain": [entry(type="room", decay_s=1.0, mix_pct=100)]}
    document = session({"a": {"sends": sent(0)}, "b": {}}, {"room": room})
    takes = {"a": clicks, "b": clicks}

    assert sounding_frames(document, takes) > 12000 + 2 * RATE
    assert strip_frames(document, takes, "room") == sounding_frames(document, takes)
    assert list(leading_to(document, "room", chain=True).tracks) == ["a"]
    assert leading_to(document, "a", chain=True).tracks["a"].sends == []
    wet = np.concatenate(list(render_strip(document, takes, "room", 24000)), axis=1)
    assert np.abs(wet[:, 6000:]).max() > 1e-4


def test_what_is_wrong_is_said_and_nothing_changed():
    document = session({"a": {}}, {"room": {}, "far": {"sends": sent(bus="room")}})
    put = {"kind": "put_send", "strip_id": "a"}
    with pytest.raises(ConflictError, match="circle: room ← far ← room"):
        change(document, kind="put_send", strip_id="room", bus="far")
    with pytest.raises(ConflictError, match="circle: room"):
        change(document, kind="put_send", strip_id="room", bus="room")
    with pytest.raises(SettingsError, match="send's bus is “none”; allowed: one of the buses: room, far"):
        change(document, **put, bus="none")
    with pytest.raises(SettingsError, match="level_db is 40"):
        change(document, **put, bus="room", level_db=40.0)
    with pytest.raises(SettingsError, match="tap is"):
        change(document, **put, bus="room", tap="sideways")
    with pytest.raises(ConflictError, match="The master cannot be sent"):
        change(document, kind="put_send", strip_id="master", bus="room")
    with pytest.raises(NotFoundError):
        change(document, kind="remove_send", strip_id="a", bus="room")
    twice = document.model_dump_json().replace('"sends":[]', '"sends":[{"bus":"room"},{"bus":"room"}]', 1)
    with pytest.raises(SettingsError, match="two go to the bus “room”; allowed: one each"):
        parse_document(twice)


def test_a_bus_that_goes_takes_its_sends_along_and_each_step_says_what_it_did():
    document = session({"a": {}}, {"room": {}})
    raw = {"kind": "put_send", "strip_id": "a", "bus": "room", "level_db": -9.0}
    made, label = parse_change(raw).apply(document)
    assert label == "a: sent to room" and made.tracks["a"].sends[0].level_db == -9.0
    gone = change(made, kind="remove_bus", bus_id="room")
    assert gone.tracks["a"].sends == []
