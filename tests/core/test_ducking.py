"""A ducker laid by its key does what it says: measured on what it is then heard to do, whatever the key's level."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry, parse_settings, settings_over
from reins.core.finding.excerpt import Excerpt
from reins.core.finding.marks import Marks
from reins.core.trials import ducking
from reins.core.trials.running import Trial
from reins.core.trials.striking import struck
from tests.conftest import RATE, sound_of

SECONDS = 12.0
LEVELS_DB = (0.0, -10.0, -20.0)
HITS_S = np.arange(0.5, SECONDS - 0.4, 0.5) + 0.25 * (np.arange(23) % 4 == 3)


def kick(decay_s, tail=0.0):
    """Hits of a low tone with a beater; tail: how loud it goes on between them."""
    t = np.arange(round(SECONDS * RATE)) / RATE
    made = tail * np.sin(2 * np.pi * 50 * t) * (t > HITS_S[0])
    noise = np.random.default_rng(3).standard_normal(round(0.01 * RATE))
    for number, at in enumerate(HITS_S):
        first = round(at * RATE)
        rest = t[: t.size - first]
        lin = 0.4 if number % 3 else 0.55
        made[first:] += lin * np.exp(-rest * 6.91 / decay_s) * np.sin(2 * np.pi * 50 * rest)
        made[first : first + noise.size] += 0.08 * noise * np.exp(-np.arange(noise.size) / (0.002 * RATE))
    return made[None]


def speech():
    """Four lines of syllables, and the begins and ends of these, over the noise of a room."""
    rng = np.random.default_rng(4)
    made = 3e-4 * rng.standard_normal(round(SECONDS * RATE))
    spans = [(0.6, 2.4), (4.0, 5.2), (6.6, 8.8), (10.0, 11.1)]
    for number, (begin, end) in enumerate(spans):
        t = np.arange(round((end - begin) * RATE)) / RATE
        syllables = 0.15 + 0.85 * np.abs(np.sin(2 * np.pi * 2.3 * t))
        voice = sum(np.sin(2 * np.pi * 140 * k * t) / k for k in range(1, 12))
        made[round(begin * RATE) :][: t.size] += (0.06, 0.2)[number % 2] * syllables * voice
    return made[None], spans


def laid(key, asked=9.0, **own):
    sound = sound_of(key)
    entry = parse_entry({"id": "d", "type": "ducker", "settings": {"key": {"source": "k"}, **own}}, "x")
    found = ducking.lay(entry, {"k": sound}, Marks.of(sound), asked)
    settings = parse_settings("ducker", settings_over(entry, found.settings), "x")
    trial = Trial(sound_of(np.ones((1, key.shape[1]))), [entry.model_copy(update={"settings": settings})], {"k": sound})
    result = np.concatenate([block[0] for block, _ in trial.run(0, key.shape[1], block_frames=4800)])
    return found, 20 * np.log10(np.maximum(result, 1e-6))


def at_hits(gain_db):
    """Median depth in the first 80 ms, share of hits it is back before, share of the time it holds."""
    first = np.round(HITS_S * RATE).astype(int)
    depth = -np.median([np.median(gain_db[a : a + round(0.08 * RATE)]) for a in first])
    back = np.mean([gain_db[b - round(0.01 * RATE) : b].max() > -1.0 for b in first[1:]])
    return depth, back, np.mean(gain_db < -1.0)


@pytest.mark.parametrize(("decay_s", "tail"), [(0.35, 0.0), (3.0, 0.3)])
@pytest.mark.parametrize("level_db", LEVELS_DB)
def test_at_a_kicks_hits_it_is_as_deep_as_asked_and_back_before_the_next(decay_s, tail, level_db):
    """The second one rings into its next hit and never falls."""
    found, gain_db = laid(10 ** (level_db / 20) * kick(decay_s, tail))

    depth, back, held = at_hits(gain_db)
    assert found.reached, found.said
    assert depth == pytest.approx(9.0, abs=2.0)
    assert back >= 0.8
    assert held <= 0.65
    assert found.figures["got_db"] == pytest.approx(depth, abs=0.5)
    assert found.figures["held_pct"] == pytest.approx(100 * held, abs=2)
    assert found.figures["hits"] == len(HITS_S)
    assert f"held {found.figures['held_pct']:.0f} %" in found.said


@pytest.mark.parametrize("level_db", LEVELS_DB)
def test_while_somebody_speaks_it_is_down_and_back_behind(level_db):
    voice, spans = speech()
    found, gain_db = laid(10 ** (level_db / 20) * voice)

    assert found.reached, found.said
    for begin, end in spans:
        down, up = round((begin + 0.3) * RATE), round(end * RATE)
        assert np.median(gain_db[down:up]) == pytest.approx(-9.0, abs=1.0)
        assert gain_db[round(begin * RATE) : down].min() < -7.0
        assert gain_db[up : up + round(0.8 * RATE)].max() > -1.0
    assert "4 phrases" in found.said


def test_a_key_that_never_rests_is_only_a_fader_and_it_says_so():
    t = np.arange(round(SECONDS * RATE)) / RATE
    drone = 0.2 * sum(np.sin(2 * np.pi * hz * t) for hz in (110, 165, 220))[None]

    found, gain_db = laid(drone)

    assert np.mean(gain_db < -1.0) > 0.9
    assert not found.reached
    assert found.said.startswith("this is only a fader")
    assert "key" in found.said.split(". ")[-1]


def test_a_silent_key_lays_nothing_and_a_long_one_is_heard_in_parts():
    sound = sound_of(np.zeros((1, RATE)))
    entry = parse_entry({"id": "d", "type": "ducker", "settings": {"key": {"source": "k"}}}, "x")
    assert ducking.lay(entry, {"k": sound}, Marks.of(sound), 9.0) is None
    for frames in (1, 100, 5000):
        short = sound_of(0.5 * np.ones((1, frames)))
        assert ducking.lay(entry, {"k": short}, Marks.of(short), 9.0) is None

    class Long(sound_of):
        def peak_columns(self, start, frames, columns):
            return np.abs(self._samples[0, start : start + frames]).reshape(columns, -1).max(axis=1)

    long = Long(np.tile(0.1 * kick(0.35), (1, 20)))
    part = ducking.some_of(long)
    assert part.facts.frames == 60 * RATE
    some = Excerpt(sound_of(kick(0.35)), [(0, 6 * RATE)])
    assert ducking.lay(entry, {"k": some}, Marks.of(some), 9.0).said.startswith("heard in parts of it")


def test_what_is_struck_is_told_from_what_is_sung():
    assert struck(Marks.of(sound_of(kick(0.35))))
    assert struck(Marks.of(sound_of(kick(3.0, 0.3))))
    assert not struck(Marks.of(sound_of(speech()[0])))
