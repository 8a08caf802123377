"""Paths, drawn points and the walk over keys."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError, field_validator

from reins.core.chainfile import parse_settings
from reins.core.processors import PROCESSORS, Key
from reins.core.processors.base import ProcessorSettings
from reins.core.processors.sidechain import keys_of, with_sources
from reins.core.settings.fields import describe_fields, differences
from reins.core.settings.paths import overlaid, value_at
from reins.core.settings.points import Drawn, Point, checked_points, points

EQ = {"bands": [{"freq_hz": 200.0, "key": {"source": "a"}}, {}, {"key": {"source": "b"}}], "low_cut_hz": 40.0}
EQ_SETTINGS = parse_settings("dynamic_eq", EQ, "x")


def test_a_path_leads_to_a_value_and_lays_another_over_it_without_touching_the_rest():
    laid = overlaid(EQ_SETTINGS, {"bands.0.key.gain_db": 3.0, "bands.2.freq_hz": 90.0, "rest.on": True})

    assert value_at(EQ_SETTINGS, "bands.0.key.source") == "a" and value_at(EQ_SETTINGS, "low_cut_hz") == 40.0
    assert laid["bands"][0]["key"]["gain_db"] == 3.0 and laid["bands"][2]["freq_hz"] == 90.0 and laid["rest"]["on"]
    assert laid["bands"][1] is EQ_SETTINGS.bands[1] and EQ_SETTINGS.bands[0].key.gain_db == 0.0
    crossed = overlaid(parse_settings("multiband", {}, "x"), {"crossovers_hz.1": 3000.0})
    assert crossed["crossovers_hz"] == [200.0, 3000.0]


@pytest.mark.parametrize(
    "path", ["bands.7.freq_hz", "bands.x.freq_hz", "low_cut_hz.up", "nowhere.at.all", "bands.-1.q"]
)
def test_a_path_that_leads_nowhere_is_named(path):
    with pytest.raises(LookupError, match=path.replace(".", r"\.")):
        overlaid(EQ_SETTINGS, {path: 1.0})


@pytest.mark.parametrize("kind", PROCESSORS)
def test_every_described_setting_is_at_its_path(kind):
    settings = PROCESSORS[kind].Settings()

    for row in describe_fields(type(settings)):
        before, other = value_at(settings, row["name"]), object()
        laid = overlaid(settings, {row["name"]: other})
        assert value_at(laid, row["name"]) is other and value_at(settings, row["name"]) is before
    assert not list(differences(type(settings), settings, settings))


def test_keys_are_found_wherever_they_stand_and_let_go():
    assert [(path, key.source) for path, key in keys_of(EQ_SETTINGS)] == [
        ("bands.0.key", "a"), ("bands.1.key", "self"), ("bands.2.key", "b"),
    ]  # fmt: skip
    freed = with_sources(EQ_SETTINGS, lambda name: "self" if name == "a" else name)
    assert [key.source for _, key in keys_of(freed)] == ["self", "self", "b"]
    assert freed.bands[1] is EQ_SETTINGS.bands[1] and freed.rest is EQ_SETTINGS.rest
    assert with_sources(EQ_SETTINGS, lambda name: name) is EQ_SETTINGS
    compressor = parse_settings("compressor", {"key": {"source": "k"}}, "x")
    assert [path for path, _ in keys_of(compressor)] == ["key"]
    assert with_sources(compressor, lambda name: "self").key == Key()


class Drawing(ProcessorSettings):
    """A line as some processor might have it."""

    line: list[Drawn] = points(
        [Point(0, 1), Point(1, 0)],
        most=4,
        places=(0.0, 1.0),
        values=(0.0, 1.0),
        label="Line",
        group="Level",
        help="A line.",
    )

    @field_validator("line")
    @classmethod
    def _fits(cls, value: Any) -> Any:
        return checked_points(value, places=(0.0, 1.0), values=(0.0, 1.0))


@given(st.lists(st.floats(0, 1), min_size=2, max_size=4).map(sorted), st.floats(-1, 1))
def test_drawn_points_go_to_json_and_back_and_the_history_names_them(places, bend):
    drawn = Drawing.model_validate({"line": [[at, 0.5, bend] for at in places]})

    again = Drawing.model_validate_json(drawn.model_dump_json())

    assert again == drawn and again.line[0] == Point(places[0], 0.5, bend)
    assert drawn == Drawing() or list(differences(Drawing, Drawing(), drawn)) == ["line drawn"]


@pytest.mark.parametrize(
    ("line", "why"),
    [([[0, 0]], "at least 2"), ([[0, 0], [2, 0]], "place from 0 to 1"), ([[1, 0], [0, 0]], "places that rise"),
     ([[0, 0], [1, 0, 3]], "bend from -1 to 1"), ([[0, "x"], [1, 0]], "number"), ([[0, 0]] * 5, "at most 4")],
)  # fmt: skip
def test_points_that_are_no_line_are_refused(line, why):
    with pytest.raises(ValidationError, match=why):
        Drawing.model_validate({"line": line})
