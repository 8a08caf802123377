"""The relative de-esser: the same ess is held alike, whatever comes before it and however loud the line is."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from tests.conftest import RATE

SETTINGS = {"low_hz": 5500, "high_hz": 9500, "relative": True, "threshold_db": -8, "ratio": 5, "range_db": 20}


def ess(rng, level_db):
    noise = np.fft.rfft(rng.standard_normal(round(0.1 * RATE)))
    hz = np.fft.rfftfreq(round(0.1 * RATE), 1 / RATE)
    noise[(hz < 5000) | (hz > 10000)] = 0
    sound = np.fft.irfft(noise, round(0.1 * RATE))
    edge = np.hanning(960)
    sound[:480] *= edge[:480]
    sound[-480:] *= edge[480:]
    return sound / sound.std() * 10 ** (level_db / 20)


def vowel(seconds, level_db):
    t = np.arange(round(seconds * RATE)) / RATE
    sound = sum(np.sin(2 * np.pi * 160 * k * t) / k for k in range(1, 12))
    return sound / sound.std() * 10 ** (level_db / 20)


def room(rng, seconds, level_db=-60):
    return rng.standard_normal(round(seconds * RATE)) * 10 ** (level_db / 20)


def lines():
    """Sound, and the frame at which each of its esses begins: after a vowel, after silence, alone, in a quiet line."""
    rng = np.random.default_rng(3)
    parts, at, one = [], [], ess(np.random.default_rng(4), -18)
    for what in (
        vowel(0.8, -20), one, vowel(0.5, -20), room(rng, 0.9), one, vowel(0.5, -20), room(rng, 2.5), one,
        room(rng, 0.6), vowel(0.6, -20), one, one, room(rng, 0.2), vowel(1.0, -20), room(rng, 0.8, -90),
        vowel(1.2, -34), one * 10 ** (-14 / 20), vowel(0.8, -34), room(rng, 0.5), one * 10 ** (-14 / 20),
        vowel(0.6, -34),
    ):  # fmt: skip
        if what.size == one.size:
            at.append(sum(part.size for part in parts))
        parts.append(what)
    return np.concatenate(parts)[None], at


def held_db(sound, at, *, on_take, settings=SETTINGS, key=None):
    """The mean gain over each ess."""
    entry = parse_entry({"type": "deesser", "id": "d", "settings": settings}, "x")
    chain = Chain([entry], channels=1, sample_rate=RATE, on_take=on_take, key_channels={"k": 1})
    late = chain.latency_frames
    padded = np.pad(sound, ((0, 0), (0, late)))
    chain.process(padded, {} if key is None else {"k": padded})
    gain_db = chain.gains()[0][1]["gain_db"][late:]
    return np.array([gain_db[first + 960 : first + 4800 - 960].mean() for first in at]), late


@pytest.mark.parametrize(
    ("on_take", "key", "within_db"),
    [(True, None, 1.0), (False, None, 2.0), (True, "k", 2.0)],
    ids=["take", "bus", "key"],
)
def test_equal_esses_are_held_alike_whatever_precedes_them(on_take, key, within_db):
    sound, at = lines()
    settings = SETTINGS | ({"key": {"source": "k"}} if key else {})

    held, late = held_db(sound, at, on_take=on_take, settings=settings, key=key)

    assert held.max() - held.min() < within_db, held
    assert -12 < held.mean() < -3
    assert (late > 0) == (on_take and key is None)


def ringing(seconds, level_db, t60_s):
    """A vowel that rings out."""
    sound = vowel(seconds, level_db)
    t = np.arange(round(1.2 * t60_s * RATE)) / RATE
    return np.concatenate([sound, vowel(1.2 * t60_s, level_db)[: t.size] * 10 ** (-3.0 * t / t60_s)])


@pytest.mark.parametrize(("on_take", "within_db"), [(True, 1.0), (False, 2.0)], ids=["take", "bus"])
def test_an_ess_is_held_alike_after_what_rings_out_a_short_word_or_a_pause(on_take, within_db):
    rng, one = np.random.default_rng(3), ess(np.random.default_rng(4), -18)
    parts, at = [vowel(0.8, -20)], []
    for before in (
        vowel(0.5, -20), ringing(0.6, -20, 0.5), ringing(0.6, -20, 1.0), ringing(0.6, -20, 2.0), room(rng, 0.45),
        np.concatenate([vowel(0.6, -20), room(rng, 0.35)]),
        np.concatenate([room(rng, 1.0), vowel(0.08, -30), room(rng, 0.4)]),
    ):  # fmt: skip
        parts.append(before)
        at.append(sum(part.size for part in parts))
        parts += [one, room(rng, 0.4)]
    sound = np.concatenate([*parts, vowel(0.5, -20)])[None]

    held, _ = held_db(sound, at, on_take=on_take)

    assert held.max() - held.min() < within_db, held
    assert -12 < held.mean() < -3


def test_a_first_ess_before_any_line_is_held_on_a_take_as_those_after():
    rng = np.random.default_rng(5)
    sound = np.concatenate([room(rng, 0.4), ess(np.random.default_rng(4), -18), vowel(1, -20)])[None]

    first, _ = held_db(sound, [round(0.4 * RATE)], on_take=True)
    among, _ = held_db(*lines(), on_take=True)

    assert abs(first[0] - np.median(among)) < 1.0


def test_what_is_loud_in_the_band_all_the_time_is_not_its_own_measure():
    rng = np.random.default_rng(6)
    sound = np.concatenate([vowel(1, -20), np.tile(ess(rng, -18), 8), vowel(1, -20)])[None]

    held, _ = held_db(sound, [RATE + 4800 * k for k in (1, 6)], on_take=False)

    assert abs(held[0] - held[1]) < 0.5


def test_a_line_far_quieter_becomes_the_measure_again():
    one = ess(np.random.default_rng(4), -58)
    sound = np.concatenate([vowel(2, -20), vowel(6.5, -60), one, vowel(0.5, -60)])[None]

    for on_take in (True, False):
        held, _ = held_db(sound, [round(8.5 * RATE)], on_take=on_take)
        usual, _ = held_db(lines()[0], lines()[1][:1], on_take=on_take)
        assert abs(held[0] - usual[0]) < 1.5
