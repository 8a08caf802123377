"""Hits as a key: what follows them acts on their frames, however loud the sound is there, ahead where it is wanted."""

import json

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.engine.mixer import Mixer
from reins.core.engine.offline import render_mix, render_strip
from reins.core.finding.hits import Hit
from reins.core.hitmaps import to_find
from reins.core.routing import describe_tie, in_order
from reins.core.sessions import Document, Master, Track, parse_document
from reins.core.sound import TakeFacts
from reins.core.struck import BURST_S, StruckSound, _signs, map_of
from reins.core.time import Stream
from reins.errors import SettingsError
from tests.conftest import RATE

FRAMES = 24000
HITS = [(3000, -6.0), (9000, -20.0), (15001, -9.0)]


def ducking(source, **more):
    settings = {"threshold_db": -40, "knee_db": 0, "attack_ms": 0, "hold_ms": 0, "release_ms": 1, "ratio": 100}
    return parse_entry(
        {"type": "compressor", "id": "d", "settings": {**settings, "key": {"source": source}, **more}}, "x"
    )


def session(source, *, of="kick", chain=None, **kick):
    tracks = {
        "held": Track(name="Held", take_id="held", chain=chain or [ducking(source)]),
        "kick": Track(name="Kick", take_id="kick", mute=True, hits=HITS, **kick),
    }
    return Document(name="x", tracks=tracks, order=list(tracks), master=Master(chain=[]))


@pytest.fixture
def takes(make_take):
    """A kick that sounds all along and jumps nowhere: only its hits tell where it is struck."""
    return {"held": make_take(np.full((1, FRAMES), 0.1), "held"), "kick": make_take(np.full((1, FRAMES), 0.3), "kick")}


def gain_db(document, takes, block=1024, stream=Stream(0), frames=FRAMES):
    mixer = Mixer(document, takes)
    mixer.start(stream)
    out = [mixer.process(min(block, frames - first)) for first in range(0, frames, block)]
    return 20 * np.log10(np.concatenate(out, axis=1)[0] / (0.1 * np.sqrt(0.5)))


@pytest.mark.parametrize("chain_ms", [0, 7])
@pytest.mark.parametrize("ahead_ms", [0, 12.5, 50])
def test_what_follows_hits_acts_from_their_frame_on_as_deep_as_they_are_strong(takes, chain_ms, ahead_ms):
    late = parse_entry(
        {"type": "compressor", "id": "l", "settings": {"threshold_db": 0, "ratio": 1, "lookahead_ms": chain_ms}}, "x"
    )
    document = session("", chain=[late, ducking(f"kick/hits:{ahead_ms}" if ahead_ms else "kick/hits")])

    gain = gain_db(document, takes)

    begins = np.flatnonzero((gain[1:] < -1) & (gain[:-1] >= -1)) + 1
    np.testing.assert_array_equal(begins, [frame - round(ahead_ms * RATE / 1000) for frame, _ in HITS])
    for (_, strength_db), begin in zip(HITS, begins, strict=True):
        held = gain[begin + 2 : begin + round(BURST_S * RATE) - 2]
        np.testing.assert_allclose(held, -(strength_db + 40), atol=0.01)


@pytest.mark.parametrize("block", [1, 333, 9999])
def test_any_block_size_and_the_strip_alone_give_the_same_bits(takes, block):
    document = session("kick/hits:20")
    by_mix = np.concatenate(list(render_mix(Mixer(document, takes), 0, FRAMES, block_frames=1024)), axis=1)
    again = np.concatenate(list(render_mix(Mixer(document, takes), 0, FRAMES, block_frames=block)), axis=1)
    strip = np.concatenate(list(render_strip(document, takes, "held", FRAMES)), axis=1)

    np.testing.assert_array_equal(again, by_mix)
    np.testing.assert_allclose(strip[0] * np.sqrt(0.5), by_mix[0], atol=1e-12)


def test_a_loop_goes_through_the_same_hits_again(takes):
    gain = gain_db(session("kick/hits"), takes, stream=Stream(2000, (2000, 10000)), frames=24000)

    begins = np.flatnonzero((gain[1:] < -1) & (gain[:-1] >= -1)) + 1
    np.testing.assert_array_equal(begins, [1000, 7000, 9000, 15000, 17000, 23000])


def test_where_the_take_lies_and_how_loud_it_is_taken_goes_with_its_hits(takes):
    gain = gain_db(session("kick/hits", start_frame=100, trim_db=-6), takes)

    assert np.flatnonzero(gain < -1)[0] == 3100
    assert gain[3200] == pytest.approx(-28, abs=0.01)


def test_a_strip_follows_its_own_hits_and_two_follow_each_other(takes):
    """What is known beforehand closes no circle."""
    document = session("kick/hits")
    document = document.with_strip("kick", chain=[ducking("held/hits")]).with_strip("held", hits=[(500, -6.0)])
    assert set(in_order(document)) == {"held", "kick", "master"}
    own = session("hits:5").with_strip("held", hits=[(6000, -6.0)])
    assert np.flatnonzero(gain_db(own, takes) < -1)[0] == 6000 - 240
    assert describe_tie(own, "hits:5") == "its own hits, 5 ms ahead"
    assert describe_tie(own, "kick/hits") == "the hits of Kick"


@pytest.mark.parametrize(
    ("name", "says"),
    [("master/hits", "a bus or the master are not"), ("kick/hits:51", "0 to 50 ms"), ("kick/hits:-1", "0 to 50"),
     ("kick/hits:soon", "0 to 50 ms"), ("nobody/hits", "the hits of a track"), ("kick/hits:nan", "0 to 50 ms")],
)  # fmt: skip
def test_what_is_no_map_of_hits_is_refused_with_what_is_allowed(name, says):
    with pytest.raises(SettingsError, match=says):
        in_order(session(name))


@pytest.mark.parametrize(
    "hits", [[[5, -6], [5, -6]], [[9, -6], [5, -6]], [[-1, -6]], [[1, 30]], [[1]], [[1.5, -6]], [[0, None]]]
)
def test_a_map_lies_in_order_and_within_bounds(hits):
    with pytest.raises(SettingsError):
        parse_document(json.dumps({"name": "x", "tracks": {"a": {"name": "A", "hits": hits}}, "order": ["a"]}))


def test_a_burst_is_as_strong_as_its_hit_at_every_sample_and_holds_all_frequencies_alike():
    struck = StruckSound([(100, -12.0)], TakeFacts(1, RATE, FRAMES))
    burst = struck.read(100, round(BURST_S * RATE))[0]

    np.testing.assert_allclose(np.abs(burst), 10 ** (-12 / 20))
    power = np.abs(np.fft.rfft(burst)) ** 2
    thirds = [part.mean() for part in np.array_split(power[1:], 6)]
    assert 10 * np.log10(max(thirds) / min(thirds)) < 3
    assert not struck.read(0, 100).any() and not struck.read(100 + burst.size, 500).any()
    columns = struck.peak_columns(0, 6000, 6)
    np.testing.assert_allclose(columns, 10 ** (-12 / 20) * np.array([1, 1, 0, 0, 0, 0]))


def test_the_signs_of_a_burst_come_again_only_after_the_longest_there_is():
    """Of a maximal-length sequence of n bits 2^n - 1, of which 2^(n-1) are positive (Golomb)."""
    signs = _signs(2 * 8191)
    first = signs[:8191]
    np.testing.assert_array_equal(first, signs[8191:])
    assert (first > 0).sum() == 4096
    states = np.lib.stride_tricks.sliding_window_view(np.concatenate([first, first[:12]]) > 0, 13) @ (
        1 << np.arange(13)
    )
    assert np.unique(states).size == 8191


def test_a_map_counts_from_the_takes_beginning_and_before_its_trim():
    facts = TakeFacts(1, RATE, FRAMES)
    assert map_of([Hit(0.1, -3.0), Hit(0.5, -200.0)], facts, start_frame=1200, gain_db=6.0) == [
        (round(0.1 * RATE) - 1200, -9.0), (round(0.5 * RATE) - 1200, -120.0),
    ]  # fmt: skip


def test_a_map_is_found_once_and_anew_when_take_or_corrections_change():
    alone = session("self")
    followed = session("kick/hits").with_strip("kick", hits=[])
    there = followed.with_strip("kick", hits=HITS)
    assert to_find(alone) == set() and to_find(followed, alone) == {"kick"} and to_find(there, there) == set()
    assert to_find(there.with_strip("kick", take_id="other"), there) == {"kick"}
    assert to_find(there.with_strip("kick", marks={"hits": {"added": [[1.0]]}}), there) == {"kick"}
    assert to_find(followed) == {"kick"} and to_find(there) == set()
