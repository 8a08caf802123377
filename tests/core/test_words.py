"""How numbers and changes are written for people, and the error tree."""

import json
from pathlib import Path

import pytest

from reins import errors
from reins.core.chainfile import describe_change, parse_settings
from reins.core.processors import CompressorSettings, Key
from reins.core.sessions import Track
from reins.core.settings.fields import describe_fields
from reins.core.settings.words import said
from reins.core.starting_points import STARTING_POINTS, find_starting_point
from reins.core.units import db_to_lin, format_length, lin_to_db, ms_to_frames, one_pole_k


@pytest.mark.parametrize(("value", "unit", "text"), json.loads((Path(__file__).parents[1] / "words.json").read_text()))
def test_numbers_are_said_as_the_page_says_them(value, unit, text):
    assert said(value, {"unit": unit}) == text  # the page's own check reads the same table


def test_choices_are_said_in_their_words():
    assert said(True, {"unit": ""}) == "on" and said(False, {"words": {"false": "as it is"}}) == "as it is"
    assert (
        said("mid_side", {"unit": ""}) == "mid side" and said("down", {"words": {"down": "quiet down"}}) == "quiet down"
    )


def test_levels_go_there_and_back_and_stop_at_the_floor():
    assert lin_to_db(db_to_lin(-37.5)) == pytest.approx(-37.5)
    assert lin_to_db(0.0) == lin_to_db(1e-9) == -120.0
    assert db_to_lin(-6.0206) == pytest.approx(0.5, rel=1e-5)


def test_times_become_frames_and_coefficients():
    assert ms_to_frames(10.0, 44100) == 441
    assert one_pole_k(0.0, 48000) == one_pole_k(5e-324, 48000) == 1.0
    assert (1 - one_pole_k(10.0, 48000)) ** 480 == pytest.approx(0.36787944)
    assert format_length(125.4) == "2:05"


def test_a_change_of_many_settings_is_counted_and_of_few_named():
    old = CompressorSettings()

    few = old.model_copy(update={"ratio": 2.0, "channels": "mid_side"})
    many = old.model_copy(update={"ratio": 2.0, "knee_db": 0.0, "key": Key(gain_db=3.0)})

    assert describe_change("compressor", old, few) == "ratio 4.00 : 1 → 2.00 : 1, channels L / R → M / S"
    assert describe_change("compressor", old, many) == "3 settings"


def test_every_setting_is_described_in_full():
    for row in describe_fields(CompressorSettings):
        assert row["help"].endswith(".")
        assert row["label"][0].isupper()
        assert row["group"] in ("Level", "Time", "Detect", "Sidechain", "Key filter", "Out")
        if row["kind"] == "number":
            assert row["low"] <= row["default"] <= row["high"]
            assert row["step"] > 0
    strip = {row["name"]: row["label"] for row in describe_fields(Track)}
    assert strip == {
        "fader_db": "Fader", "pan_pct": "Pan", "mute": "Mute", "solo": "Solo", "trim_db": "Trim",
        "inverted": "Polarity", "colour": "Colour", "chain_on": "Chain", "chain_mix_pct": "Chain mix",
        "puts_out": "Puts out",
    }  # fmt: skip


def test_every_starting_point_is_valid_and_says_why():
    sources = {point.source for point in STARTING_POINTS}

    assert sources == {
        "voice", "speech", "snare", "kick", "drum bus", "bass", "acoustic guitar", "electric guitar", "piano",
        "whole mix", "harmonium", "room",
    }  # fmt: skip
    assert len({(p.type, p.name) for p in STARTING_POINTS}) == len(STARTING_POINTS)
    for point in STARTING_POINTS:
        assert parse_settings(point.type, point.settings, point.name)
        assert point.sentence.endswith(".")
        assert find_starting_point(point.type, point.name) is point


def test_every_error_is_in_the_tree_drawn_at_its_top():
    drawn = errors.__doc__
    kinds = [v for v in vars(errors).values() if isinstance(v, type) and issubclass(v, Exception)]

    assert all(issubclass(kind, errors.ReinsError) and kind.__name__ in drawn for kind in kinds)
