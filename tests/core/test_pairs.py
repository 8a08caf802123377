"""Pairs: two processors in one step, each within its limits, doing together what is said."""

import numpy as np
import pytest

from reins.core.engine.chain import Chain
from reins.core.limits import MAX_PROCESSORS
from reins.core.pairs import PAIRS, entries_of
from reins.demo import voices
from reins.errors import ConflictError, NotFoundError, SettingsError
from tests.conftest import RATE
from tests.core.test_graph import change, entry, session


@pytest.mark.parametrize("pair", PAIRS, ids=lambda pair: pair.name)
def test_each_is_added_at_the_end_in_one_step_and_says_what_it_does(pair):
    document = session({"a": {"chain": [entry("first")]}})

    made = change(document, kind="add_pair", strip_id="a", name=pair.name, processor_ids=["x", "y"])

    chain = made.tracks["a"].chain
    assert [(e.id, e.type) for e in chain[1:]] == [("x", pair.parts[0][0]), ("y", pair.parts[1][0])]
    assert pair.sentence.endswith(".")


def test_the_quick_one_catches_what_the_slow_one_leaves():
    singer = voices.make_singer()[:, 20 * RATE : 28 * RATE]
    chain = Chain(entries_of("Level, then catch", ["x", "y"]), channels=1, sample_rate=RATE)
    chain.process(np.ascontiguousarray(singer))
    first, second = (told["gain_db"] for _, told, _ in chain.gains())

    assert np.median(first) < -3 and -8 < second.min() < -1
    assert np.mean(second < -0.5) < np.mean(first < -0.5)


def test_middle_and_sides_are_held_apart():
    rng = np.random.default_rng(4)
    middle, sides = 0.3 * rng.standard_normal((2, RATE))
    for loud, quiet in ((0, 1), (1, 0)):
        parts = np.stack([middle, sides])
        parts[quiet] *= 0.001
        chain = Chain(entries_of("Middle and sides apart", ["x", "y"]), channels=2, sample_rate=RATE)
        chain.process(np.stack([parts[0] + parts[1], parts[0] - parts[1]]))
        held = [told["gain_db"].min() for _, told, _ in chain.gains()]
        assert held[loud] < -1.5 and held[quiet] > -0.1


def test_what_is_wrong_is_said():
    full = session({"a": {"chain": [entry(f"e{i}") for i in range(MAX_PROCESSORS - 1)]}})
    add = {"kind": "add_pair", "strip_id": "a", "name": PAIRS[0].name}
    with pytest.raises(ConflictError, match="the chain is full"):
        change(full, **add)
    with pytest.raises(NotFoundError, match="no pair “none”"):
        change(session({"a": {}}), **add | {"name": "none"})
    with pytest.raises(SettingsError, match="processor_ids"):
        change(session({"a": {}}), **add, processor_ids=["one"])


def test_the_two_of_a_tied_pair_move_alike_until_they_are_parted():
    add = {"kind": "add_pair", "strip_id": "a", "name": "Middle and sides apart", "processor_ids": ["x", "y"]}
    document = change(session({"a": {}}), **add)
    own = {"kind": "set_processor", "strip_id": "a"}

    def both(name):
        return [getattr(entry.settings, name) for entry in document.tracks["a"].chain]

    document = change(document, **own, processor_id="x", settings={"threshold_db": -26, "attack_ms": 10})
    assert both("threshold_db") == [-26, -34] and both("attack_ms") == [10, 15]  # on their scales: dB, a ratio
    document = change(document, **own, processor_id="y", settings={"ratio": 20, "auto_release": True})
    assert both("ratio") == [25, 20] and both("auto_release") == [True, True]
    there = change(document, **own, processor_id="y", settings={"threshold_db": 0})
    assert there.tracks["a"].chain[0].settings.threshold_db == 0  # not 8, which is over the limit
    document = change(document, **own, processor_id="y", on=False)
    assert [entry.on for entry in document.tracks["a"].chain] == [False, False]
    document = change(document, **own, processor_id="y", settings={"apply_to": "both"})
    assert both("apply_to") == ["first", "both"]

    document = change(document, kind="part_processors", strip_id="a", processor_id="y")
    document = change(document, **own, processor_id="x", settings={"threshold_db": -20})
    assert both("threshold_db") == [-20, -34]
    with pytest.raises(ConflictError, match="tied to no other"):
        change(document, kind="part_processors", strip_id="a", processor_id="x")
    gone = change(change(session({"a": {}}), **add), kind="remove_processor", strip_id="a", processor_id="y")
    gone = change(gone, **own, processor_id="x", settings={"threshold_db": -20})
    assert gone.tracks["a"].chain[0].settings.threshold_db == -20
