"""What a strip puts out of its chain: with some of what came, the difference, or what came; without a click."""

import numpy as np
import pytest

from reins.core.engine.mixer import Mixer
from reins.core.engine.offline import render_strip
from reins.core.time import Stream
from tests.conftest import RATE, kept
from tests.core.test_graph import change, entry, going_over, render, session

HOLDS = {"threshold_db": -40.0, "ratio": 8.0, "attack_ms": 1.0, "lookahead_ms": 7.0}


def strip(take, frames=24000, **values):
    document = session({"a": {"chain": [entry(**HOLDS)], **values}})
    return np.concatenate(list(render_strip(document, {"a": take}, "a", frames)), axis=1)


def test_mix_and_difference_are_sums_of_what_came_and_what_was_made(make_take, noise):
    take, source = make_take(noise, "a"), kept(noise)
    held = strip(take)

    np.testing.assert_allclose(strip(take, chain_mix_pct=30.0), 0.7 * source + 0.3 * held, atol=1e-12)
    np.testing.assert_allclose(strip(take, puts_out="difference"), source - held, atol=1e-12)
    half = strip(take, puts_out="difference", chain_mix_pct=50.0)
    np.testing.assert_allclose(half, 0.5 * (source - held), atol=1e-12)
    np.testing.assert_array_equal(strip(take, chain_on=False), source)
    np.testing.assert_array_equal(strip(take, chain_on=False, puts_out="difference"), 0.0)
    assert np.abs(source - held).max() > 0.01


@pytest.mark.parametrize("where", ["track", "bus"])
@pytest.mark.parametrize("values", [{"chain_on": False}, {"chain_mix_pct": 20.0}, {"puts_out": "difference"}])
def test_it_goes_over_while_playing_without_a_click_and_is_as_from_the_start(make_take, values, where):
    t = np.arange(2 * RATE) / RATE
    take = make_take(0.25 * np.sin(2 * np.pi * 200 * t)[None], "tone")
    held = {"chain": [entry(**HOLDS)]}
    first = session({"a": held}) if where == "track" else session({"a": {"bus": "b"}}, {"b": held})
    then = change(first, kind="set_strip", strip_id="a" if where == "track" else "b", values=values)
    mixer = Mixer(first, {"a": take})
    mixer.start(Stream(0))
    made = going_over(mixer, then)

    settled = slice(9600, None)  # the first hit is let through by the attack
    steepest = np.abs(np.diff(made[:, settled])).max()
    assert steepest < 1.3 * np.abs(made[:, settled]).max() * 2 * np.pi * 200 / RATE
    np.testing.assert_allclose(made[:, 40960:], render(then, {"a": take}, 61440)[:, 40960:], atol=1e-6)


def test_any_block_size_and_a_room_of_one_channel(make_take, noise):
    take = make_take(noise[:1].copy(), "a")
    document = session({"a": {"chain": [entry(type="room", mix_pct=100)], "chain_mix_pct": 40.0}})
    whole = render(document, {"a": take}, 24000, block=24000)

    np.testing.assert_array_equal(render(document, {"a": take}, 24000, block=700), whole)
    off = session({"a": {"chain_on": False, "chain": document.tracks["a"].chain}})
    passed = np.concatenate(list(render_strip(off, {"a": take}, "a", 24000)), axis=1)
    np.testing.assert_array_equal(passed, np.repeat(kept(noise[:1]), 2, axis=0))
