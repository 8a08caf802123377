"""What stands behind a limiter is named, and only that."""

import pytest

from reins.core.chainfile import parse_entry
from reins.core.last_word import behind_limiter, said_behind


def chain(*kinds):
    return [
        parse_entry({"type": kind.strip("-"), "on": not kind.startswith("-"), "settings": {}}, "x") for kind in kinds
    ]


@pytest.mark.parametrize(
    ("kinds", "behind"),
    [
        ((), []), (("compressor",), []), (("compressor", "limiter"), []),
        (("limiter", "compressor"), ["Compressor"]), (("limiter", "-compressor"), []),
        (("-limiter", "compressor"), []), (("limiter", "gate", "limiter", "filter"), ["Filter"]),
        (("limiter", "gate", "filter"), ["Gate", "Filter"]),
    ],
)  # fmt: skip
def test_what_is_on_behind_the_last_limiter_that_is_on(kinds, behind):
    assert behind_limiter(chain(*kinds)) == behind


def test_it_is_said_in_a_sentence():
    assert said_behind([]) == ""
    assert said_behind(["Filter"]) == "Filter stands behind the limiter: what it makes louder is not held."
    assert (
        said_behind(["Gate", "Filter"]) == "Gate, Filter stand behind the limiter: what they make louder is not held."
    )
