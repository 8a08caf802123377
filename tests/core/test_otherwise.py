"""What is heard otherwise for a moment: passed by, overdone, matched; and that nothing of it is kept."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from reins.core.otherwise import Laid, Otherwise, read_otherwise, signature
from reins.core.processors import PROCESSORS
from reins.core.sessions import Document, Track
from reins.errors import InputError

RATE = 48000
OF_MANY = {"fine_bands", "make_room"}  # whose gain is told as one, of many
NOTHING_HELD = {"room", "filter", "colour"}  # they have no gain that moves


def told(entry, sound):
    chain = Chain([entry], channels=sound.shape[0], sample_rate=RATE)
    made = chain.process(sound)
    ((_, gains, _),) = chain.gains()
    return made, {name: row for name, row in gains.items() if name.endswith("gain_db")}, chain.latency_frames


def bursts(frames=RATE):
    rng = np.random.default_rng(5)
    loud = 0.04 + 0.5 * ((np.arange(frames) // 6000) % 2)
    return np.ascontiguousarray(rng.standard_normal((2, frames)) * 0.5 * loud)


@pytest.mark.parametrize("kind", PROCESSORS)
def test_what_is_taken_or_given_is_doubled_in_db(kind):
    settings = PROCESSORS[kind].timed_with | ({"crossovers_hz": [500.0]} if kind == "multiband" else {})
    settings = {k: v for k, v in settings.items() if k != "bands" or kind != "multiband"}
    if kind == "multiband":
        settings["bands"] = [{"threshold_db": -40.0}] * 2
    entry = parse_entry({"id": "p", "type": kind, "settings": settings}, "x")
    over = entry.model_copy(update={"settings": entry.settings.overdone()})
    sound = bursts()
    made, gains, _ = told(entry, sound)
    overdone, twice, _ = told(over, sound)

    if kind in NOTHING_HELD:
        assert not gains
        np.testing.assert_array_equal(made, overdone)
    elif PROCESSORS[kind].overdoes:
        for name, row in gains.items():
            if not entry.settings.model_dump().get("auto_release") and name != "rest.gain_db":
                np.testing.assert_allclose(twice[name], 2.0 * row, atol=0.15 if kind in OF_MANY else 0.05)
    else:
        (row,) = gains.values()
        np.testing.assert_allclose(overdone, made * 10.0 ** (row / 20.0), atol=1e-12)


def test_overdone_is_no_part_of_what_is_kept():
    entry = parse_entry({"id": "p", "type": "compressor"}, "x")
    over = entry.model_copy(update={"settings": entry.settings.overdone()})

    assert over != entry and over.settings.is_overdone and not entry.settings.is_overdone
    assert over.model_dump() == entry.model_dump() and "overdone" not in over.model_dump_json()


def document(**strip):
    chain = [parse_entry({"id": "p", "type": "compressor", "settings": {"threshold_db": -30}}, "x").model_dump()]
    return Document(
        name="x", tracks={"a": Track(name="a", chain=chain, **strip), "b": Track(name="b")}, order=["a", "b"]
    )


def test_only_what_it_is_about_changes():
    laid = Laid(lambda signature: None)
    before = document()
    laid.set(Otherwise(passed=frozenset({("a", "p")})))
    heard = laid.over(before)

    assert not heard.tracks["a"].chain[0].on and before.tracks["a"].chain[0].on
    assert heard.tracks["b"] is before.tracks["b"]
    assert laid.over(before).tracks["a"] is heard.tracks["a"]  # so that what plays sees that nothing has changed
    laid.set(Otherwise(passed=frozenset({("gone", "p"), ("a", "")})))
    assert not laid.over(before).tracks["a"].chain_on
    laid.set(Otherwise())
    assert laid.over(before) is before


def test_a_strip_is_matched_as_soon_as_its_loudness_is_known_and_stays_as_it_was_until_then():
    before = document()
    book = {signature(before, "a"): -20.0}
    laid = Laid(book.get)
    laid.set(Otherwise(goals_lufs={"a": -18.0}))
    assert laid.over(before).tracks["a"].matched_db == pytest.approx(2.0)

    passed = Otherwise(passed=frozenset({("a", "p")}), goals_lufs={"a": -18.0})
    laid.set(passed)
    heard = laid.over(before)
    assert heard.tracks["a"].matched_db == pytest.approx(2.0)  # not known yet
    book[signature(heard, "a")] = -15.0
    laid.set(passed)
    assert laid.over(before).tracks["a"].matched_db == pytest.approx(-3.0)
    assert signature(heard, "a") == signature(heard.placed("a", heard.tracks["a"].matched(9.0)), "a")


@pytest.mark.parametrize(
    "message",
    [{"passed": 5}, {"passed": [["a"]]}, {"overdone": [["a", None]]}, {"drafts": []}, {"goals_lufs": {"a": 400}}],
)
def test_what_cannot_be_read_says_so(message):
    with pytest.raises(InputError, match=r"otherwise|overdone|loudness"):
        read_otherwise(message)
