"""Every starting point keeps its promise on a sound of its source, whatever its level; or says that it does not."""

from functools import cache
from itertools import pairwise

import numpy as np
import pytest

from reins.core.chainfile import parse_entry, parse_settings, settings_over
from reins.core.finding.marks import Marks
from reins.core.processors import PROCESSORS
from reins.core.promises import PROMISES
from reins.core.starting_point import Promise, StartingPoint
from reins.core.starting_points import STARTING_POINTS, find_starting_point
from reins.core.trials.promising import laid_as_promised
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from reins.demo import drums, strings, voices
from tests.conftest import RATE, sound_of

LEVELS_DB = (0.0, -10.0, -20.0)
FROM_S, SECONDS = 8, 9
PROMISED = [point for point in STARTING_POINTS if point.promise is not None]


def part(made, from_s=FROM_S):
    return made[:, from_s * RATE : (from_s + SECONDS) * RATE]


@cache
def sound(source):
    kick, hats = drums.make_kick(), drums.make_hats()
    snare = drums.make_snare(kick, hats)
    room = drums.make_room(kick, snare, hats)
    kit = part(kick) + part(snare) + 0.1 * part(hats) + 0.2 * part(room)
    made = {
        "kick": lambda: part(kick), "snare": lambda: part(snare), "room": lambda: part(room), "drum bus": lambda: kit,
        "voice": lambda: part(voices.make_singer(), 3), "speech": spoken, "bass": lambda: part(strings.make_bass()),
        "acoustic guitar": lambda: part(strings.make_guitar(0)),
        "electric guitar": lambda: part(strings.make_guitar(1)),
        "piano": lambda: part(strings.make_harmonium()), "harmonium": lambda: part(strings.make_harmonium()),
        "whole mix": lambda: 0.5 * (kit + part(strings.make_bass()) + part(voices.make_singer())),
    }[source]()  # fmt: skip
    return np.ascontiguousarray(made / max(np.abs(made).max() / 0.7, 1e-9))


def spoken():
    made = voices.make_announcer()
    loud = np.abs(made).max(axis=0).reshape(-1, RATE).max(axis=1) > 0.1 * np.abs(made).max()
    first = max(int(np.flatnonzero(loud)[0]) - 1, 0) * RATE
    return made[:, first : first + SECONDS * RATE]


def laid(point, samples, **own):
    entry = parse_entry({"id": "p", "type": point.type, "settings": {**point.settings, **own}}, "x")
    heard = sound_of(samples)
    found = laid_as_promised(Trial(heard, [entry]), point)
    settings = parse_settings(point.type, settings_over(entry, found.settings), "x")
    trial = Trial(heard, [entry.model_copy(update={"settings": settings})])
    return found, trial


def made_of(trial):
    blocks = trial.run(0, trial.sound.facts.frames, block_frames=4800)
    return np.concatenate([block.copy() for block, _ in blocks], axis=1)


@pytest.mark.parametrize("number", range(len(PROMISED)), ids=[f"{p.type}: {p.name}" for p in PROMISED])
def test_it_is_kept_on_a_sound_of_its_source_and_said(number):
    point, promise = PROMISED[number], PROMISED[number].promise
    # A limiter hears nothing under its lowest ceiling.
    samples = sound(point.source) * 10 ** (LEVELS_DB[number % 3 if promise.lays != "ceiling_db" else 0] / 20)

    found, trial = laid(point, samples)

    assert found.said
    span = measure_span(trial, "p", 0, samples.shape[1])
    did = span.statistics()
    usual = [abs(band.statistics(span.frames)["usual_db"]) for band in span.bands.values()] or [abs(did["usual_db"])]
    of_each = promise.usual_db if len(promise.usual_db) == len(usual) else promise.usual_db * len(usual)
    kept = all(low - 0.1 <= db <= high + 0.1 for db, (low, high) in zip(usual, of_each, strict=False))
    kept &= promise.deepest_db is None or abs(did["deepest_db"]) <= promise.deepest_db + 0.1
    kept &= promise.held_pct is None or did["held_pct"] <= promise.held_pct + 1
    if found.reached:
        assert kept or found.figures["nothing"]
    else:
        assert "not as it promises" in found.said
    assert span.result.peak_db <= max(0.0, 20 * np.log10(np.abs(samples).max())) or "full scale" in found.said
    assert found.reached, found.said


def test_what_moves_has_a_promise_and_no_promise_is_of_nothing():
    without = {"ducker", "make_room", "level", "filter", "room", "colour"}  # by their key, or as they are set
    has = {(point.type, point.name) for point in STARTING_POINTS if point.promise is not None}
    assert set(PROMISES) == has
    assert {point.name for point in STARTING_POINTS if point.promise is None and point.type not in without} == {
        "Whole mix, safe to hand over"
    }
    for point in PROMISED:
        assert any(getattr(point.promise, name) is not None for name in ("deepest_db", "rests_db", "tones_db"))


@pytest.mark.parametrize("level_db", LEVELS_DB)
def test_a_whistle_goes_and_what_has_none_stays(level_db):
    """Two steady tones under music: they are held, every third of an octave without one loses at most 1 dB."""
    t = np.arange(SECONDS * RATE) / RATE
    rng = np.random.default_rng(5)
    music = sum(np.sin(2 * np.pi * hz * t) * (np.sin(2 * np.pi * (0.4 + 0.13 * k) * t) > 0.3)
                for k, hz in enumerate((110, 165, 220, 330, 550, 1100, 2200, 4400)))  # fmt: skip
    tones = 0.02 * np.sin(2 * np.pi * 741.3 * t) + 0.015 * np.sin(2 * np.pi * 3127.9 * t)
    rest = 0.03 * music + 0.003 * rng.standard_normal(t.size)
    samples = ((rest + tones) * 10 ** (level_db / 20))[None]

    found, trial = laid(find_starting_point("fine_bands", "A whistle of the room"), samples)

    assert found.figures["tones_hz"] == pytest.approx([741.3, 3127.9], abs=1.5)
    before, after = (np.abs(np.fft.rfft(one[0] * np.hanning(t.size))) ** 2 for one in (samples, made_of(trial)))
    hz = np.fft.rfftfreq(t.size, 1 / RATE)
    for tone in (741.3, 3127.9):
        near = np.abs(hz - tone) < 1
        assert 10 * np.log10(before[near].sum() / after[near].sum()) >= 6
    edges = 100 * 2 ** (np.arange(19) / 3)
    for low, high in pairwise(edges):
        inside = (hz >= low) & (hz < high)
        if not any(low * 0.97 < tone < high * 1.03 for tone in (741.3, 3127.9)):
            assert abs(10 * np.log10(before[inside].sum() / after[inside].sum())) <= 1
    assert "2 steady tones (741, 3128 Hz)" in found.said


def test_where_nothing_whistles_nothing_is_held_and_that_is_said():
    found, _ = laid(find_starting_point("fine_bands", "A whistle of the room"), sound("voice"))
    assert found.settings == {}
    assert "no steady tone found" in found.said


@pytest.mark.parametrize("level_db", LEVELS_DB)
def test_hum_and_hiss_go_between_words_and_words_stay(level_db):
    t = np.arange(SECONDS * RATE) / RATE
    spans = [(0.8, 2.5), (3.4, 5.2), (6.3, 8.1)]
    inside = np.any([(t >= a) & (t < b) for a, b in spans], axis=0)
    voice = (
        inside
        * sum(np.sin(2 * np.pi * 140 * k * t) / k for k in range(1, 25))
        * (0.2 + 0.1 * np.sin(2 * np.pi * 3 * t))
    )
    noise = 0.002 * np.sin(2 * np.pi * 100 * t) + 0.0006 * np.random.default_rng(6).standard_normal(t.size)
    samples = ((voice + noise) * 10 ** (level_db / 20))[None]

    found, trial = laid(find_starting_point("fine_bands", "Speech, hum and hiss closed"), samples)

    made = made_of(trial)
    pauses = np.all([(t < a - 0.05) | (t > b + 0.15) for a, b in spans], axis=0)
    lost = {name: 10 * np.log10((samples[0, at] ** 2).sum() / (made[0, at] ** 2).sum())
            for name, at in (("words", inside), ("pauses", pauses))}  # fmt: skip
    assert lost["words"] <= 1
    assert lost["pauses"] >= 10
    assert found.figures["rests_db"] == pytest.approx(lost["pauses"], abs=1)


def test_what_cannot_be_kept_is_said_with_what_would_help():
    """A tone that never falls has no pauses to close, and no hits between which there is anything to take."""
    t = np.arange(SECONDS * RATE) / RATE
    steady = (0.3 * np.sin(2 * np.pi * 60 * t))[None]
    steady[:, :: RATE // 2] += 0.3
    found, _ = laid(find_starting_point("gate", "Kick, hits alone"), steady)
    assert not found.reached
    assert "not as it promises (90 % of the hits, 10 dB between them)" in found.said
    point = StartingPoint("limiter", "drum bus", "x", "x.", {}, Promise(usual_db=((3, 6),), lays="ceiling_db"))
    found, _ = laid(point, 1e-3 * sound("drum bus"))
    assert not found.reached and "too quiet" in found.said


def test_what_would_pass_full_scale_comes_down_and_that_is_said():
    loud = sound("kick") / np.abs(sound("kick")).max() * 0.98
    found, trial = laid(find_starting_point("expander", "Kick, attack raised"), loud)
    assert "output comes down by" in found.said
    assert np.abs(made_of(trial)).max() <= 1.0


def test_silence_is_laid_nothing():
    for kind in PROCESSORS:
        for point in [point for point in STARTING_POINTS if point.type == kind][:1]:
            entry = parse_entry({"id": "p", "type": kind, "settings": point.settings}, "x")
            assert laid_as_promised(Trial(sound_of(np.zeros((1, RATE))), [entry]), point) is None


def test_marks_are_not_looked_for_where_none_are_promised(monkeypatch):
    monkeypatch.setattr(Marks, "of", lambda sound: pytest.fail("looked for"))
    point = find_starting_point("compressor", "Whole mix, one or two dB")
    monkeypatch.setattr("reins.core.trials.promising.ANCHORS", {})
    assert laid(point, sound("whole mix"))[0].said
