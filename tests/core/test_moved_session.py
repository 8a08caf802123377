"""Reins in a session: fader and pan, keys from other tracks, changes while it plays, what a person can do to them."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry, parse_reins
from reins.core.changes import parse_change
from reins.core.engine.mixer import Mixer
from reins.core.sessions import Bus, Document, Track
from reins.core.time import Stream
from reins.errors import ConflictError, SettingsError
from tests.conftest import RATE, sound_of
from tests.core.test_moves import BENT, lined, rein
from tests.reference.moving import beat_values, key_values

RNG = np.random.default_rng(8)
KICK = np.zeros((1, 2 * RATE))
for beat in range(4):
    KICK[0, beat * RATE // 2 :][:4000] = 0.8 * np.sin(np.arange(4000) * 0.008) * np.exp(-np.arange(4000) / 900)
PAD = 0.2 * RNG.standard_normal((2, 2 * RATE))
TAKES = {"kick": sound_of(KICK), "pad": sound_of(PAD)}
BY_KICK = {
    "kind": "key", "key": {"source": "kick/after"}, "floor_db": -40.0, "ceiling_db": -10.0, "attack_ms": 2.0,
    "release_ms": 80.0,
}  # fmt: skip


def session(reins=(), chain=(), *, kick=(), bus=False, **pad):
    entries = [parse_entry({"id": f"p{k}", **raw}, "x") for k, raw in enumerate(chain)]
    tracks = {
        "kick": Track(name="Kick", take_id="kick", chain=[parse_entry({"id": "k", **raw}, "x") for raw in kick]),
        "pad": Track(
            name="Harmonium", take_id="pad", chain=entries, reins=parse_reins(list(reins)), bus="b" if bus else "",
            **pad,
        ),
    }  # fmt: skip
    buses = {"b": Bus(name="Band", fader_db=-3.0)} if bus else {}
    return Document(name="x", tracks=tracks, order=["kick", "pad"], buses=buses, bus_order=[*buses])


def played(document, block=1024, *, start=0, frames=RATE, loop=None):
    mixer = Mixer(document, TAKES)
    mixer.start(Stream(start, loop, 144))
    return np.concatenate([mixer.process(min(block, frames - at)) for at in range(0, frames, block)], axis=1)


def alone(document):
    """Without the kick in the mix: keys still hear it."""
    return document.with_strip("kick", mute=True)


def test_fader_and_pan_move_sample_by_sample():
    still = played(alone(session()))

    fader = played(alone(session([rein({"strip.fader_db": -30.0}, {"kind": "beat", "points": BENT})])))
    value = beat_values([(*point, 0)[:3] for point in BENT], RATE, rate=RATE)
    np.testing.assert_allclose(fader, still * 10 ** (-30.0 * value / 20), atol=1e-9)

    pan = played(alone(session([rein({"strip.pan_pct": 100.0}, {"kind": "beat", "points": [[0, 1], [1, 1]]})])))
    np.testing.assert_allclose(pan[0], 0.0, atol=1e-12)
    np.testing.assert_allclose(pan[1], still[1], atol=1e-12)


def test_a_ridden_fader_follows_its_line_over_the_take_behind_a_compressor_and_into_a_bus():
    chain = [{"type": "compressor", "settings": {"lookahead_ms": 8.0, "threshold_db": -30.0}}]
    line = lined([[0.2, 0.0], [0.4, -12.0], [0.6, -90.0]]) | {"moves": [{"what": "strip.fader_db"}]}

    moved = played(alone(session([line], chain, bus=True)))

    still, seconds = played(alone(session((), chain, bus=True))), np.arange(RATE) / RATE
    db = np.interp(seconds, [0.2, 0.4, 0.6], [0.0, -12.0, -90.0])
    np.testing.assert_allclose(moved, still * np.where(db <= -90.0, 0.0, 10 ** (db / 20)), atol=1e-9)
    assert not moved[:, round(0.61 * RATE) :].any()


@pytest.mark.parametrize("late", [0.0, 15.0])
def test_a_key_from_another_track_is_lined_up_whatever_is_late(late):
    chain = [{"type": "compressor", "settings": {"lookahead_ms": late, "ratio": 1.0}}, {"type": "level"}]
    kick = [{"type": "compressor", "settings": {"lookahead_ms": 5.0, "ratio": 1.0}}]

    moved = played(alone(session([rein({"p1.gain_db": -24.0, "strip.pan_pct": 0.0}, BY_KICK)], chain, kick=kick)))

    value = key_values(
        KICK[:, :RATE], rate=RATE, floor_db=-40.0, ceiling_db=-10.0, attack_ms=2.0, hold_ms=0, release_ms=80
    )
    np.testing.assert_allclose(moved, PAD[:, :RATE] * 10 ** (-24.0 * value / 20), atol=1e-9)


EVERYTHING = (
    rein({"p1.gain_db": -24.0, "p2.high_cut_hz": 300.0, "strip.pan_pct": -60.0}, BY_KICK),
    rein({"p0.threshold_db": -50.0, "strip.fader_db": -20.0}, {"kind": "beat", "beats": 0.75, "points": BENT}, "s"),
    lined([[0.1, 0.0], [0.9, 6.0]]) | {"id": "l", "moves": [{"what": "p0.makeup_db"}]},
)
CHAIN = ({"type": "compressor", "settings": {"lookahead_ms": 3.0}}, {"type": "level"}, {"type": "filter"})


@pytest.mark.parametrize("start", [0, 12345])
def test_blocks_make_no_difference_to_the_bit_with_everything_moving(start):
    document = session(EVERYTHING, CHAIN, bus=True)

    for block in (2048, 8192, 777):
        np.testing.assert_array_equal(
            played(document, block, start=start, frames=30000), played(document, start=start, frames=30000)
        )


def test_where_a_loop_jumps_what_moves_fades_over_with_the_sound():
    by = {"kind": "beat", "points": [[0, 0], [1, 1]]}
    document = alone(session([rein({"strip.fader_db": -40.0}, by)]))
    flat = {**TAKES, "pad": sound_of(0.5 * np.ones_like(PAD))}
    mixer = Mixer(document, flat)
    mixer.start(Stream(0, (0, 20000), 144))

    out = np.concatenate([mixer.process(1024) for _ in range(40)], axis=1)[0]

    assert out[19990] < 0.12 and out[20400] > 0.45 and np.abs(np.diff(out[19900:20300])).max() < 0.01


def test_reins_that_come_change_and_go_while_it_plays_make_no_click():
    tone = 0.3 * np.sin(2 * np.pi * 200 * np.arange(2 * RATE) / RATE)
    mixer = Mixer(alone(session()), {**TAKES, "pad": sound_of(np.stack([tone, tone]))})
    mixer.start(Stream(0))
    made = [mixer.process(1024) for _ in range(8)]
    for reins in (
        [rein({"strip.fader_db": -20.0}, {"kind": "beat", "points": [[0, 1], [1, 1]]})],
        [rein({"strip.fader_db": -6.0}, {"kind": "beat", "points": [[0, 1], [1, 1]]})],
        [rein({"strip.fader_db": -6.0}, BY_KICK)],
        [],
    ):
        mixer.change(alone(session(reins)))
        made += [mixer.process(1024) for _ in range(8)]

    sound = np.concatenate(made, axis=1)[0]
    bend = np.abs(np.diff(sound, 2)).max()
    assert bend < 1.6 * np.abs(np.diff(tone, 2)).max()
    assert np.abs(sound[9000:16000]).max() < 0.04 and np.abs(sound[-4000:]).max() > 0.29


def put(document, strip="pad", name="r", **raw):
    return parse_change({"kind": "put_rein", "strip_id": strip, "rein_id": name, "rein": raw}).apply(document)


def test_a_rein_is_put_changed_and_taken_away_in_words():
    document = session((), [{"type": "level"}])
    by = {"kind": "beat", "points": BENT}

    document, added = put(document, moves=[{"what": "p0.gain_db", "to": -9.0}], by=by)
    drawn = put(document, moves=[{"what": "p0.gain_db", "to": -9.0}], by=by | {"points": [[0, 1], [1, 0]]})[1]
    more = put(document, moves=[{"what": "p0.gain_db", "to": -9}, {"what": "strip.fader_db", "to": -3}], by=by)[1]
    off = put(document, moves=[{"what": "p0.gain_db", "to": -9.0}], by=by, on=False)[1]
    gone, removed = parse_change({"kind": "remove_rein", "strip_id": "pad", "rein_id": "r"}).apply(document)

    assert added == "Harmonium: level gain by the beat, added"
    assert drawn.endswith("drawn") and off.endswith("switched off")
    assert more == "Harmonium: level gain and 1 more by the beat, one more setting"
    assert removed == "Harmonium: level gain by the beat, removed" and gone.tracks["pad"].reins == []


def test_a_place_in_the_chain_is_kept_as_the_id_that_stands_there():
    document = session((), [{"type": "level"}, {"type": "filter"}])
    by = {"kind": "beat"}

    held = put(document, moves=[{"what": "0.gain_db", "to": -9.0}], by=by)[0]
    turn = {"kind": "move_processor", "strip_id": "pad", "processor_id": "p0", "index": 1}
    turned = parse_change(turn).apply(held)[0]

    assert [move.what for move in turned.tracks["pad"].reins[0].moves] == ["p0.gain_db"]
    with pytest.raises(SettingsError, match=r"moves\.1\.what: “p0\.gain_db” is moved twice"):
        put(document, moves=[{"what": "0.gain_db", "to": -9.0}, {"what": "p0.gain_db", "to": -3.0}], by=by)


def test_what_cannot_be_is_refused_and_nothing_changes():
    document = session((), [{"type": "level"}])
    with pytest.raises(SettingsError, match=r"Harmonium: .*is not there or may not be moved.* Nothing was changed\."):
        put(document, moves=[{"what": "p0.colour", "to": -9.0}], by={"kind": "beat"})
    with pytest.raises(SettingsError, match=r"key\.source is “ghost”"):
        put(document, moves=[{"what": "p0.gain_db", "to": -9.0}], by={"kind": "key", "key": {"source": "ghost"}})
    held, _ = put(document, moves=[{"what": "p0.gain_db", "to": -9.0}], by=BY_KICK)
    back = {"kind": "key", "key": {"source": "pad/after"}}
    with pytest.raises(ConflictError, match="close a circle: Kick ← Harmonium ← Kick"):
        put(held, "kick", moves=[{"what": "strip.fader_db", "to": -9.0}], by=back)


def test_a_processor_that_goes_takes_what_was_moved_of_it_and_a_key_that_goes_leaves_its_rein_off():
    document = session(EVERYTHING, CHAIN)

    less = parse_change({"kind": "remove_processor", "strip_id": "pad", "processor_id": "p0"}).apply(document)[0]
    alone = parse_change({"kind": "remove_track", "track_id": "kick"}).apply(document)[0]
    copied = parse_change({"kind": "duplicate_track", "track_id": "pad", "new_track_id": "q"}).apply(document)[0]

    whats = [move.what for one in less.tracks["pad"].reins for move in one.moves]
    assert whats == ["p1.gain_db", "p2.high_cut_hz", "strip.pan_pct", "strip.fader_db"]
    left = alone.tracks["pad"].reins
    assert [one.on for one in left] == [False, True, True] and left[0].by.key.source == "self"
    assert [move.what for move in copied.tracks["q"].reins[0].moves][:2] == ["q-1.gain_db", "q-2.high_cut_hz"]


def test_a_draft_has_reins_of_its_own():
    document = session(EVERYTHING, CHAIN)

    other = parse_change({"kind": "use_draft", "strip_id": "pad", "draft": 2}).apply(document)[0]
    bare = parse_change({"kind": "remove_rein", "strip_id": "pad", "rein_id": "r"}).apply(other)[0]
    named, said = parse_change({"kind": "name_draft", "strip_id": "pad", "draft": 1, "name": "dry"}).apply(bare)
    back, label = parse_change({"kind": "use_draft", "strip_id": "pad", "draft": 1}).apply(named)

    assert len(bare.tracks["pad"].reins) == 2 and len(back.tracks["pad"].reins) == 3
    assert said.endswith("draft 1 named “dry”") and label == "Harmonium: draft 2 → draft 1 “dry”"
    assert back.tracks["pad"].drafts["2"].reins == bare.tracks["pad"].reins
