"""What a drag does many times a second: settings tried, processors copied; each against the plain way."""

import copy

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.changes import SetProcessor
from reins.core.engine.chain import Chain
from reins.core.engine.graph import Graph, only_retuned
from reins.core.processors import PROCESSORS
from reins.core.processors.base import alone
from reins.core.sessions import Bus, Document, Track
from reins.core.settings.fields import describe_fields
from reins.core.time import Stream
from reins.core.twins import twin_of
from tests.conftest import RATE, sound_of
from tests.core.test_no_click import base


def document(kind="compressor"):
    entry = parse_entry({"id": "p", "type": kind, "settings": base(kind)}, kind)
    tracks = {k: Track(name=k, take_id="a", chain=[entry] if k == "t" else [], bus="b") for k in "tu"}
    return Document(name="x", sample_rate=RATE, tracks=tracks, order=["t", "u"], buses={"b": Bus(name="B")},
                    bus_order=["b"])  # fmt: skip


def settings_of(document, row, name):
    """The value a setting has, moved a little, as far as it may be."""
    place = document.tracks["t"].chain[0].settings.model_dump()
    for part in name.split("."):
        place = place[int(part)] if isinstance(place, list) else place[part]
    return max(place * 0.99, row["low"])


@pytest.mark.parametrize("kind", PROCESSORS)
def test_what_is_tried_is_what_is_kept(kind):
    before = document(kind)
    rows = {row["name"]: row for row in describe_fields(PROCESSORS[kind].Settings) if row["kind"] == "number"}
    bands = [row for row in describe_fields(PROCESSORS[kind].Settings) if row["name"] == "bands"]
    rows |= {f"bands.1.{row['name']}": row for band in bands for row in band["fields"] if row["kind"] == "number"}

    for name, row in rows.items():
        change = SetProcessor(
            kind="set_processor", strip_id="t", processor_id="p", settings={name: settings_of(before, row, name)}
        )
        tried = change.tried(before)
        assert tried == change.apply(before)[0]
        plain = parse_entry({"id": "p", "type": kind, "settings": tried.tracks["t"].chain[0].settings.model_dump()}, "")
        assert plain == tried.tracks["t"].chain[0], name
    assert before == document(kind)


@pytest.mark.parametrize("kind", PROCESSORS)
@pytest.mark.parametrize("times", ["off", 2])
def test_a_twin_shares_nothing_that_changes(kind, times, noise):
    cls = PROCESSORS[kind].Settings
    times = 1 if times == "off" and cls.raises_itself else times
    raised = {"oversampling": times} if "oversampling" in cls.model_fields else {}
    entry = parse_entry({"id": "p", "type": kind, "settings": base(kind) | raised}, kind)
    chain = Chain([entry], channels=2, sample_rate=RATE)
    first, second, third = (alone(np.ascontiguousarray(noise[:, k : k + 4800]), RATE) for k in (0, 4800, 9600))
    chain.process(first.sound)
    twin, plain = twin_of(chain._stages[0].processor), copy.deepcopy(chain._stages[0].processor)

    twin.process(third)
    twin.apply(parse_entry({"type": kind, "settings": raised}, kind).settings)
    twin.process(first)

    np.testing.assert_array_equal(chain._stages[0].processor.process(second), plain.process(second))


def test_only_a_setting_is_taken_the_short_way():
    graph = Graph(document(), {"a": sound_of(np.zeros((2, RATE)))}, Stream(0))
    drag = SetProcessor(kind="set_processor", strip_id="t", processor_id="p", settings={"threshold_db": -12.0})
    longer = SetProcessor(kind="set_processor", strip_id="t", processor_id="p", settings={"lookahead_ms": 5.0})
    off = SetProcessor(kind="set_processor", strip_id="t", processor_id="p", on=False)

    assert graph._changed_strips(drag.tried(graph.document)) == ["t"]
    assert graph._changed_strips(graph.document.with_strip("u", fader_db=-3.0)) == ["u"]
    for other in (
        longer.tried(graph.document), off.tried(graph.document), graph.document.with_strip("u", mute=True),
        graph.document.with_strip("u", bus=""), graph.document.with_strip("b", solo=True),
        graph.document.model_copy(update={"order": ["u", "t"]}),
    ):  # fmt: skip
        assert graph._changed_strips(other) is None


@pytest.mark.parametrize("extra", [{}, {"match_highs": True, "topology": "serial"}])
def test_one_band_turned_by_a_drag_is_what_all_of_it_taken_over_anew_is(noise, extra):
    bands = [
        {"freq_hz": 200.0, "motion": "compress", "threshold_db": -40.0}, {"freq_hz": 900.0, "gain_db": 6.0},
        {"freq_hz": 3000.0, "motion": "expand", "threshold_db": -50.0, "watch": "whole"},
        {"freq_hz": 6000.0, "motion": "spare"},
    ]  # fmt: skip
    settings = {"bands": bands, "rest": {"on": True, "threshold_db": -40.0}} | extra
    before = Document(name="x", sample_rate=RATE, tracks={"t": Track(name="t", chain=[
        parse_entry({"id": "p", "type": "dynamic_eq", "settings": settings}, "x")])}, order=["t"])  # fmt: skip
    chain = Chain(before.tracks["t"].chain, channels=2, sample_rate=RATE)
    first, second = (np.ascontiguousarray(noise[:, k : k + 4800]) for k in (0, 4800))
    chain.process(first)
    for place in range(4):
        for name, value in (("freq_hz", 450.0), ("q", 3.0), ("gain_db", 3.0), ("threshold_db", -55.0), ("ratio", 9.0)):
            change = SetProcessor(kind="set_processor", strip_id="t", processor_id="p",
                                  settings={f"bands.{place}.{name}": value})  # fmt: skip
            turned = change.tried(before).tracks["t"].chain
            anew = [parse_entry(turned[0].model_dump(), "x")]  # alike, but no part of it is the same
            expected = chain.evolved(anew).process(second)
            np.testing.assert_array_equal(chain.retuned(turned).process(second), expected, err_msg=f"{place} {name}")


def test_what_a_drag_says_of_a_document_is_only_said_of_a_drag():
    old = document()
    drag = SetProcessor(kind="set_processor", strip_id="t", processor_id="p", settings={"threshold_db": -12.0})
    later = SetProcessor(kind="set_processor", strip_id="t", processor_id="p", settings={"lookahead_ms": 5.0})
    assert only_retuned(old, drag.tried(old)) == {"t"}
    for other in (later.tried(old), old.with_strip("u", fader_db=-3.0), old.model_copy(update={"tempo_bpm": 99.0}),
                  document()):  # fmt: skip
        assert only_retuned(old, other) is None
