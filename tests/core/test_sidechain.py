"""The way of a key: bell and shelf, several sounds, where it is taken, one side."""

import numpy as np
import pytest
import scipy.signal

from reins.core.chainfile import parse_entry
from reins.core.changes import parse_change
from reins.core.engine.chain import Chain
from reins.core.laid import OneSide
from reins.core.processors import PROCESSORS, Key
from reins.core.processors.sidechain import READY_CURVES, KeyPath, keys_of, names_of
from tests.conftest import RATE, sound_of
from tests.core.test_moved_session import PAD, alone, played, session

NOISE = 0.2 * np.random.default_rng(4).standard_normal((2, 20000))


def cookbook(kind, hz, q, gain_db):
    """b, a of a bell or high shelf (R. Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter
    coefficients").
    """
    a, w = 10 ** (gain_db / 40), 2 * np.pi * hz / RATE
    alpha, cos = np.sin(w) / (2 * q), np.cos(w)
    if kind == "bell":
        return [1 + alpha * a, -2 * cos, 1 - alpha * a], [1 + alpha / a, -2 * cos, 1 - alpha / a]
    root = 2 * np.sqrt(a) * alpha
    return (
        [a * (a + 1 + (a - 1) * cos + root), -2 * a * (a - 1 + (a + 1) * cos), a * (a + 1 + (a - 1) * cos - root)],
        [a + 1 - (a - 1) * cos + root, 2 * (a - 1 - (a + 1) * cos), a + 1 - (a - 1) * cos - root],
    )


def test_bell_and_shelf_of_a_key_are_the_cookbooks():
    key = Key(gain_db=6.0, bell_hz=2500.0, bell_db=9.0, bell_q=1.4, shelf_hz=6000.0, shelf_db=-8.0)

    heard = KeyPath(key, channels=2, sample_rate=RATE).process(NOISE)

    ideal = 10 ** (6 / 20) * NOISE
    for part in (cookbook("bell", 2500.0, 1.4, 9.0), cookbook("shelf", 6000.0, 0.7, -8.0)):
        ideal = scipy.signal.lfilter(*part, ideal)
    np.testing.assert_allclose(heard, ideal, atol=1e-9)
    low = KeyPath(Key(shelf="low", shelf_hz=300.0, shelf_db=12.0), channels=1, sample_rate=RATE)
    np.testing.assert_allclose(low.process(np.ones((1, 40000)))[0, -1], 10 ** (12 / 20), rtol=1e-6)


@pytest.mark.parametrize(("word", "sentence", "settings"), READY_CURVES)
def test_every_ready_curve_is_a_key(word, sentence, settings):
    assert sentence.endswith(".") and Key(**settings) is not None and (settings or word == "flat")


def test_a_detector_listens_to_several_sounds_each_with_its_gain():
    a, b = np.roll(NOISE, 77, axis=1), NOISE[:1, ::-1].copy()
    also = [{"source": "b", "gain_db": -6.0}, {"source": "self", "gain_db": 3.0}]
    entry = parse_entry({"type": "ducker", "id": "d", "settings": {"key": {"source": "a", "also": also}}}, "x")
    chain = Chain([entry], channels=2, sample_rate=RATE, key_channels={"a": 2, "b": 1})

    chain.process(NOISE, {"a": a, "b": b})

    ideal = a + 10 ** (-6 / 20) * b + 10 ** (3 / 20) * NOISE
    np.testing.assert_allclose(chain.heard("d").signal, ideal, atol=1e-12)


@pytest.mark.parametrize("kind", [kind for kind, cls in PROCESSORS.items() if list(keys_of(cls.Settings()))])
def test_every_type_with_a_key_may_hear_its_strip_before_the_chain(kind):
    late = parse_entry({"type": "compressor", "id": "c", "settings": {"lookahead_ms": 10.0, "ratio": 1.0}}, "x")
    quiet = parse_entry({"type": "level", "id": "l", "settings": {"gain_db": -90.0}}, "x")
    more = {"reference": "key"} if kind == "fine_bands" else {}
    own = parse_entry({"type": kind, "id": "p", "settings": {"key": {"source": "before"}} | more}, "x")
    chain = Chain([late, quiet, own], channels=2, sample_rate=RATE)
    chain.process(NOISE)

    heard = chain.heard("p").signal
    assert np.abs(heard[:, 480:]).max() > 0.0
    if kind not in ("deesser", "multiband"):
        np.testing.assert_allclose(heard[:, 480:], NOISE[:, :-480], atol=1e-12)


def keyed(source, **more):
    chain = [{"type": "ducker", "settings": {"threshold_db": -50.0, "key": {"source": source}}}]
    return session((), chain, **more)


def test_a_key_is_taken_after_the_fader_and_from_one_side():
    after, fader = played(alone(keyed("kick/after"))), keyed("kick/fader")
    quieter = fader.with_strip("kick", fader_db=-20.0)

    assert np.abs(played(fader) - played(keyed("kick/after"))).max() > 1e-4  # a mono track is panned 3 dB down
    assert np.abs(played(quieter)[:, 2000:9000]).sum() > np.abs(played(fader)[:, 2000:9000]).sum() * 0.5
    np.testing.assert_array_equal(played(alone(keyed("kick/fader"))), played(alone(session())))  # muted: no key
    left, right = (alone(keyed(f"kick/after:{side}")) for side in ("left", "right"))
    np.testing.assert_allclose(played(left), after, atol=1e-12)
    np.testing.assert_array_equal(played(left), played(right))


def test_one_side_of_a_stereo_key_is_that_side():
    half = PAD * np.array([[1.0], [0.001]])
    for row, side in enumerate(("left", "right")):
        one = OneSide(sound_of(half), side)
        np.testing.assert_array_equal(one.read(100, 50), half[row : row + 1, 100:150])
        peaks = one.peak_columns(0, 1000, 10)
        np.testing.assert_allclose(peaks, np.abs(half[row, :1000]).reshape(10, 100).max(axis=1))


def test_what_else_is_heard_goes_with_its_track_and_is_said():
    key = {"source": "self", "also": [{"source": "kick/after", "gain_db": -3.0}]}
    document = session((), [{"type": "compressor", "settings": {"key": key}}])

    gone = parse_change({"kind": "remove_track", "track_id": "kick"}).apply(document)[0]
    more = {"kind": "set_processor", "strip_id": "pad", "processor_id": "p0", "settings": {"key.also": []}}

    assert list(names_of(document.tracks["pad"].chain[0].settings.key)) == ["kick/after"]
    assert gone.tracks["pad"].chain[0].settings.key == Key()
    assert parse_change(more).apply(document)[1] == "Harmonium: compressor 0 more in its key"
