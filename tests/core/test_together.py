"""What is done to several strips at once, or to a whole chain."""

import pytest

from reins.core.chainfile import parse_entry
from reins.core.changes import parse_change
from reins.core.fitting import laid_deeper
from reins.core.moves.models import ByKey, Move, Rein
from reins.core.processors import PROCESSORS
from reins.core.processors.sidechain import Key
from reins.core.sessions import Bus, Document, Track
from reins.errors import ReinsError


def entry(id, kind="compressor", **settings):
    return parse_entry({"id": id, "type": kind, "settings": settings}, "x")


@pytest.fixture
def document():
    chain = [
        entry("c", threshold_db=-20),
        entry("g", "gate", threshold_db=-50),
        entry("d", "ducker", key={"source": "b/after"}),
    ]
    tracks = {
        "a": Track(name="Kick", chain=chain),
        "b": Track(name="Bass", bus="s"),
        "c": Track(name="Singer", solo=True),
    }
    return Document(name="x", tracks=tracks, order=["a", "b", "c"], buses={"s": Bus(name="Low")}, bus_order=["s"])


def changed(document, **change):
    return parse_change(change).apply(document)


def test_several_strips_are_set_in_one_step(document):
    values = {"a": {"fader_db": -6.0}, "b": {"fader_db": -3.0}, "s": {"fader_db": 1.0}}

    after, label = changed(document, kind="set_strips", values=values)
    both, same = changed(document, kind="set_strips", values={"a": {"mute": True}, "b": {"mute": True}})

    assert [after.strip(one).fader_db for one in ("a", "b", "s")] == [-6.0, -3.0, 1.0]
    assert label == "Kick, Bass, Low: fader" and same == "Kick, Bass: mute on"
    assert both.tracks["a"].mute and both.tracks["b"].mute and not both.tracks["c"].mute
    assert changed(document, kind="set_strips", values={"c": {"colour": "moss"}})[0].tracks["c"].colour == "moss"


def test_a_chain_is_copied_with_ids_of_its_own_and_hears_itself_where_it_came_from_there(document):
    rein = Rein(id="r", moves=[Move(what="c.threshold_db", to=-40)], by=ByKey(kind="key", key=Key(source="b/after")))
    document = document.with_strip("a", reins=[rein])

    after, label = changed(document, kind="copy_chain", strip_id="a", to=["b", "c", "a"])

    bass, singer, kick = after.tracks["b"], after.tracks["c"], document.tracks["a"]
    assert label == "Kick: chain copied to Bass, Singer" and after.tracks["a"] == kick
    assert [one.type for one in bass.chain] == ["compressor", "gate", "ducker"]
    assert not {one.id for one in bass.chain + singer.chain} & {one.id for one in kick.chain}
    assert bass.chain[2].settings.key.source == "self" and singer.chain[2].settings.key.source == "b/after"
    assert singer.reins[0].moves[0].what == f"{singer.chain[0].id}.threshold_db"
    assert bass.reins[0].by.key.source == "self"


def test_thresholds_go_further_into_the_sound_from_either_side(document):
    after, label = changed(document, kind="deepen", strip_id="a", by_db=3)

    assert [one.settings.threshold_db for one in after.tracks["a"].chain[:2]] == [-23.0, -47.0]
    assert label == "Kick: 3 dB deeper"
    back, label = changed(after, kind="deepen", strip_id="a", by_db=-3)
    assert back == document and label == "Kick: 3 dB shallower"


@pytest.mark.parametrize("kind", PROCESSORS)
def test_going_deeper_and_back_leaves_any_processor_as_it_was(kind):
    settings = parse_entry({"type": kind}, "x").settings
    deeper = laid_deeper(kind, settings, 2.0)

    levels = [name for name in type(settings).model_fields if name == "threshold_db" or PROCESSORS[kind].line_drives]
    assert (deeper is not settings) or not levels
    assert laid_deeper(kind, deeper, -2.0) == settings


def test_a_kept_chain_is_laid_behind_what_is_there(document):
    raw = [
        {"id": "x", "type": "compressor", "on": True, "tied": "y", "settings": {"threshold_db": -9}},
        {"id": "y", "type": "compressor", "on": False, "tied": "", "settings": {}},
    ]

    after, label = changed(document, kind="lay_chain", strip_id="a", name="Two of a kind", processors=raw)

    laid = after.tracks["a"].chain[3:]
    assert label == "Kick: chain “Two of a kind” laid"
    assert laid[0].settings.threshold_db == -9.0
    assert laid[0].tied == laid[1].id and not laid[1].on and "x" not in {one.id for one in laid}


def test_two_laid_with_one_id_get_ids_of_their_own(document):
    raw = [{"id": "x", "type": "gate", "on": True, "tied": "x", "settings": {}}, {"id": "x", "type": "limiter"}]

    after, _ = changed(document, kind="lay_chain", strip_id="a", name="Alike", processors=raw)

    laid = after.tracks["a"].chain[3:]
    assert len({one.id for one in after.tracks["a"].chain}) == 5 and laid[0].tied == laid[0].id


def test_solos_and_drafts_are_kept_under_a_name_and_recalled(document):
    kept, _ = changed(document, kind="keep_set", what="solos", name="voice")
    other, _ = changed(kept, kind="set_strips", values={"c": {"solo": False}, "a": {"solo": True}})
    recalled, label = changed(other, kind="use_set", what="solos", name="voice")
    assert [recalled.tracks[one].solo for one in "abc"] == [False, False, True] and label == "Session: solos of “voice”"

    first, _ = changed(document, kind="keep_set", what="drafts", name="verse")
    second, _ = changed(first, kind="use_draft", strip_id="a", draft=2)
    second, _ = changed(second, kind="set_processor", strip_id="a", processor_id="c", settings={"threshold_db": -40})
    second, _ = changed(second, kind="keep_set", what="drafts", name="chorus")
    verse, _ = changed(second, kind="use_set", what="drafts", name="verse")
    chorus, _ = changed(verse, kind="use_set", what="drafts", name="chorus")
    assert (verse.tracks["a"].draft, verse.tracks["a"].chain[0].settings.threshold_db) == (1, -20.0)
    assert (chorus.tracks["a"].draft, chorus.tracks["a"].chain[0].settings.threshold_db) == (2, -40.0)

    gone, _ = changed(verse, kind="remove_track", track_id="a")
    assert changed(gone, kind="use_set", what="drafts", name="chorus")[0] == gone
    assert changed(kept, kind="remove_set", what="solos", name="voice")[0] == document


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"kind": "set_strips", "values": {}}, "values"),
        ({"kind": "set_strips", "values": {"a": {"fader_db": 99}}}, "Kick: fader_db is 99"),
        ({"kind": "set_strips", "values": {"zz": {"mute": True}}}, "There is no track or bus"),
        ({"kind": "copy_chain", "strip_id": "a", "to": ["a"]}, "choose another strip"),
        ({"kind": "deepen", "strip_id": "c", "by_db": 3}, "Singer: nothing in its chain has a threshold"),
        ({"kind": "deepen", "strip_id": "a", "by_db": 30}, "by_db: given 30"),
        ({"kind": "lay_chain", "strip_id": "a", "name": "x", "processors": [{"type": "organ"}]}, "organ"),
        ({"kind": "lay_chain", "strip_id": "a", "name": "x", "processors": [{"type": "gate"}] * 30}, "chain has 33"),
        ({"kind": "use_set", "what": "solos", "name": "none"}, "There is no set"),
        ({"kind": "keep_set", "what": "solos", "name": ""}, "name"),
    ],
)
def test_what_cannot_be_done_to_several_says_so(document, change, said):
    with pytest.raises(ReinsError, match=said):
        changed(document, **change)


def test_a_copy_that_closes_a_circle_of_keys_is_refused(document):
    follows = document.with_strip("c", chain=[entry("d", "ducker", key={"source": "a/after"})])

    with pytest.raises(ReinsError, match="circle"):
        changed(follows, kind="copy_chain", strip_id="c", to=["b"])


def test_nothing_soloed_and_too_many_sets_are_refused(document):
    with pytest.raises(ReinsError, match="Nothing is soloed"):
        changed(document.with_strip("c", solo=False), kind="keep_set", what="solos", name="x")
    full = document.model_copy(update={"solo_sets": {str(k): ["a"] for k in range(32)}})
    with pytest.raises(ReinsError, match="32 sets already"):
        changed(full, kind="keep_set", what="solos", name="x")
