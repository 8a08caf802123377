"""Another kind of compressor in a compressor's place: as deep, as quick, as loud."""

import itertools

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.changes import parse_change
from reins.core.kinds import KINDS, REFERENCE_DB, as_kind
from reins.core.processors import PROCESSORS
from reins.core.processors.base import alone
from reins.core.sessions import Document, Track
from reins.errors import SettingsError
from tests.conftest import RATE

GIVEN = {
    "compressor": {"threshold_db": -24.0, "ratio": 4.0, "attack_ms": 3.0, "release_ms": 200.0, "makeup_db": 4.0},
    "fet": {"input_db": 8.0, "ratio": 8.0, "attack_us": 800.0, "release_ms": 300.0, "output_db": -5.0},
    "optical": {"threshold_db": -30.0, "firm": True},
    "variable_mu": {"threshold_db": -32.0, "bias_pct": 40.0, "attack_ms": 15.0, "release_ms": 250.0},
    "three_speed": {"threshold_db": -28.0, "ratio": 3.0, "hits_attack_ms": 6.0, "hits_release_ms": 180.0},
}


def settings_of(kind, **more):
    shared = {"mix_pct": 80.0, "link_pct": 60.0, "key": {"high_cut_hz": 9000.0}}
    return parse_entry({"type": kind, "settings": GIVEN[kind] | shared | more}, kind).settings


def steady(kind, settings, level_db):
    """(level out, held) of a steady level, measured, colour off."""
    plain = settings.model_copy(update={"colour_on": False} if kind != "compressor" else {})
    processor = PROCESSORS[kind](plain, channels=1, sample_rate=RATE)
    out = processor.process(alone(np.full((1, 3 * RATE), 10 ** (level_db / 20)), RATE))
    return 20 * np.log10(out[0, -1]), processor.gains_db["gain_db"][-1]


@pytest.mark.parametrize(("kind", "to"), [*itertools.permutations(KINDS, 2)])
def test_it_holds_as_deep_and_is_as_loud_and_keeps_what_both_have(kind, to):
    before = settings_of(kind)
    level = PROCESSORS[kind].acts_from_db(before) + REFERENCE_DB

    after = as_kind(kind, before, to)

    (loud, held), (loud_after, held_after) = (steady(k, s, level) for k, s in ((kind, before), (to, after)))
    assert held < -3 and held_after == pytest.approx(held, abs=0.3)
    assert loud_after == pytest.approx(loud, abs=0.5)
    assert (after.mix_pct, after.link_pct, after.key) == (before.mix_pct, before.link_pct, before.key)


def test_times_go_over_in_their_own_units():
    fet = as_kind("compressor", settings_of("compressor"), "fet")
    assert (fet.attack_us, fet.release_ms, fet.ratio) == (3000.0, 200.0, 4.0)
    assert as_kind("fet", settings_of("fet"), "three_speed").hits_attack_ms == 0.8
    assert as_kind("compressor", settings_of("compressor", ratio=9.0), "optical").firm is True
    assert as_kind("compressor", settings_of("compressor", ratio=60.0), "fet").ratio == 20.0


def test_it_is_one_step_and_reins_lose_only_what_is_not_there():
    entry = parse_entry({"id": "p", "type": "compressor", "settings": GIVEN["compressor"]}, "x")
    moves = [{"what": "p.threshold_db", "to": -40.0}, {"what": "p.makeup_db", "to": 6.0}]
    rein = {"id": "r", "moves": moves, "by": {"kind": "beat", "beats": 1.0, "points": [[0, 0], [1, 1]]}}
    track = Track.model_validate({"name": "T", "take_id": "a", "chain": [entry.model_dump()], "reins": [rein]})
    document = Document(name="x", sample_rate=RATE, tracks={"t": track}, order=["t"])
    change = {"kind": "change_kind", "strip_id": "t", "processor_id": "p", "type": "optical"}

    made, label = parse_change(change).apply(document)

    strip = made.tracks["t"]
    assert (strip.chain[0].id, strip.chain[0].type) == ("p", "optical")
    assert [move.what for move in strip.reins[0].moves] == ["p.threshold_db"]
    assert label == "T: Optical compressor in place of compressor"


@pytest.mark.parametrize(("kind", "to"), [("gate", "fet"), ("fet", "limiter"), ("fet", "nothing")])
def test_what_is_no_compressor_is_refused_with_the_kinds_there_are(kind, to):
    with pytest.raises(SettingsError, match="is no kind of compressor; allowed: compressor, fet, optical"):
        as_kind(kind, PROCESSORS[kind].Settings(), to)
