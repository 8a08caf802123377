"""What is found in takes, against what was put there: hits, phrases, sibilants, tempo, active level."""

import mir_eval
import numpy as np
import pytest

from reins.core.changes import parse_change
from reins.core.checking import checked
from reins.core.finding.corrections import MOST, Corrections
from reins.core.finding.excerpt import excerpted, parts_of
from reins.core.finding.frames import frames_of
from reins.core.finding.hits import find_hits, refined
from reins.core.finding.marks import Marks
from reins.core.sessions import Document, Track
from reins.demo import drums, voices
from reins.demo.score import BARS, RATE, time_of
from reins.errors import SettingsError
from tests.reference.grooves import groove


@pytest.fixture(scope="module")
def kit():
    kick, hats = drums.make_kick(), drums.make_hats()
    return {"kick": kick, "hats": hats, "snare": drums.make_snare(kick, hats)}


def known(name):
    if name == "hats":  # played a few milliseconds early or late
        return [time_of(bar, step) for bar in range(BARS) for step in range(0, 16, 2)]
    return [at for at, _ in (drums.kick_hits() if name == "kick" else drums.snare_hits())]


def found_s(make_take, sound):
    take = make_take(sound)
    return np.array([hit.at_s for hit in find_hits(take, frames_of(take))[0]])


@pytest.mark.parametrize("name", ["kick", "hats", "snare"])
@pytest.mark.parametrize("level_db", [0, -12, 6])
def test_the_demos_hits_are_found_ghosts_too_and_not_what_bleeds_in(make_take, kit, name, level_db):
    found = found_s(make_take, kit[name] * 10 ** (level_db / 20))

    score, _, _ = mir_eval.onset.f_measure(np.array(known(name)), found, window=0.03)
    assert score >= 0.95


@pytest.mark.parametrize(("bpm", "noise_db"), [(72, None), (118, -50), (150, -40)])
def test_hits_of_a_groove_are_found_in_noise(make_take, bpm, noise_db):
    sound, hits, _ = groove(bpm, seed=bpm, bars=3, noise_db=noise_db)
    found = found_s(make_take, sound)

    missed = [at for at in hits if np.abs(found - at).min() > 0.03]
    assert not missed


@pytest.mark.parametrize("make", [voices.sung_syllables, voices.spoken_syllables])
def test_sibilants_are_found(make_take, make):
    sound = voices.make_singer() if make is voices.sung_syllables else voices.make_announcer()
    take = make_take(sound)
    found = Marks.of(take).sibilants

    truth = np.array([one.consonant_s for one in make() if one.consonant in ("s", "sh")])
    score, _, _ = mir_eval.onset.f_measure(truth, np.array([begin for begin, _ in found]), window=0.04)
    assert score >= 0.9


def test_phrases_hold_all_that_is_said_and_no_pause(make_take):
    found = Marks.of(make_take(voices.make_announcer())).phrases

    for one in voices.spoken_syllables():
        assert any(begin <= one.consonant_s + 0.03 and one.end_s - 0.06 <= end for begin, end in found), one
    for begin, end in voices.gaps_s():
        assert not any(a < end and begin < b for a, b in found), (begin, end)


@pytest.mark.parametrize("share", [1.0, 0.5, 0.2])
def test_the_active_level_is_that_of_what_sounds(make_take, share):
    """Of a tone that sounds far longer than the hangover, ITU-T P.56 gives the tone's own level."""
    seconds, on = 20, np.zeros(20 * RATE)
    on[: round(share * seconds * RATE)] = 1.0
    tone = 0.1 * np.sin(2 * np.pi * 700 * np.arange(seconds * RATE) / RATE) * on
    active = Marks.of(make_take(tone[None])).active

    assert active.level_db == pytest.approx(20 * np.log10(0.1 / np.sqrt(2)), abs=0.3)
    assert active.share == pytest.approx(share, abs=0.03)


@pytest.mark.parametrize(("bpm", "swing"), [(60, 0.0), (83, 1.0), (96, 0.0), (127.5, 1.0), (180, 0.0)])
def test_tempo_and_beat_of_a_groove_are_found(make_take, bpm, swing):
    sound, _, start_s = groove(bpm, swing=swing, seed=7, bars=5)
    tempo = Marks.of(make_take(sound)).tempo

    assert tempo.bpm == pytest.approx(bpm, abs=0.5)
    off = (tempo.downbeat_s - start_s) / (60 / bpm) % 2.0  # on the kick: which of two alike bars begin is not told
    assert min(off, 2.0 - off) < 0.12
    assert tempo.confidence > 0.6


def test_the_demos_tempo_is_found_in_its_room(make_take, kit):
    room = drums.make_room(kit["kick"], kit["snare"], kit["hats"])
    assert Marks.of(make_take(room)).tempo.bpm == pytest.approx(96.0, abs=0.5)


def test_nothing_is_found_where_nothing_is(make_take):
    t = np.arange(4 * RATE) / RATE
    rng = np.random.default_rng(0)
    for name, sound in (
        ("silence", np.zeros((1, t.size))),
        ("a drone", 0.2 * np.sin(2 * np.pi * 110 * t)[None]),
        ("short", rng.standard_normal((1, 300))),
    ):
        marks = Marks.of(make_take(sound, name))
        assert len(marks.hits) <= 1 and marks.tempo is None and not marks.sibilants, name
        assert name != "silence" or (marks.phrases == [] and marks.active.level_db is None)
    hiss = Marks.of(make_take(0.1 * rng.standard_normal((1, t.size)), "noise"))
    assert hiss.phrases == [(0.0, 4.0)] and not hiss.sibilants


def test_an_excerpt_of_a_long_take_holds_what_was_found_where_it_lies(make_take, kit):
    long = np.tile(kit["snare"][:, : 20 * RATE], (1, 4))
    marks = Marks.of(make_take(long))
    part = excerpted(marks, parts_of(marks, "hits"))

    assert 5 * RATE < part.sound.facts.frames < 25 * RATE
    assert len(part.frames.power) == part.sound.facts.frames // part.frames.hop
    level = [20 * np.log10(np.abs(part.sound.read(round(h.at_s * RATE), 2000)).max()) for h in part.hits]
    np.testing.assert_allclose(level, [hit.peak_db for hit in part.hits], atol=0.5)
    assert parts_of(Marks.of(make_take(kit["kick"], "short")), "hits") == [(0, kit["kick"].shape[1])]


def ringing_kick(t):
    """A kick that still rings when the next comes: its level hardly jumps, its beater does."""
    beater = 0.1 * np.random.default_rng(1).standard_normal(t.size) * np.exp(-t / 0.002)
    ring = np.exp(-t / 0.6) * (1 - np.exp(-t / 0.012)) * np.clip(2 - 2 * t, 0, 1)
    return 0.6 * np.sin(2 * np.pi * 48 * t + 6 * (1 - np.exp(-t / 0.02))) * ring + beater


def clap(t):
    """Hands that do not meet at once: the last is the loudest."""
    noise = np.random.default_rng(2).standard_normal(t.size)
    hands = sum(
        gain * (t >= at) * np.exp(-np.maximum(t - at, 0) / 0.004) for at, gain in ((0, 0.7), (0.011, 0.8), (0.023, 1))
    )
    return 0.2 * noise * (hands + 0.5 * (t >= 0.023) * np.exp(-t / 0.06))


def hat(t):
    return 0.3 * np.random.default_rng(3).standard_normal(t.size) * np.exp(-np.maximum(t - 0.2, 0) / 0.02) * (t < 0.29)


def soft_hat(t):
    return 0.03 * np.random.default_rng(4).standard_normal(t.size) * np.exp(-t / 0.012)


@pytest.mark.parametrize("level_db", [0, -20])
@pytest.mark.parametrize("strokes", [(ringing_kick,), (clap,), (hat, soft_hat)])
def test_a_hit_begins_where_it_reaches_a_twentieth_of_its_peak(make_take, strokes, level_db):
    """Nine of ten within 5 ms: a kick that never falls, hands that clap, and soft ones in the tail of loud ones."""
    begins_s = 0.2 + 0.3127 * np.arange(16)
    sound, t = np.zeros(6 * RATE), np.arange(RATE) / RATE
    truth = []
    for number, at_s in enumerate(begins_s):
        made = strokes[number % len(strokes)](t)
        first = round(at_s * RATE)
        sound[first : first + RATE] += made[: sound.size - first]
        truth.append((first + np.flatnonzero(np.abs(made) >= 0.05 * np.abs(made).max())[0]) / RATE)
    found = found_s(make_take, 10 ** (level_db / 20) * sound[None])

    off_s = np.array([np.abs(found - at).min() for at in truth])
    assert np.mean(off_s <= 0.005) >= 0.9, np.round(1000 * off_s, 1)
    assert len(found) <= len(truth) + 1


def test_a_mark_at_the_end_is_looked_at_with_silence_after_it(make_take):
    """Also where the take is shorter than what is looked at, or than a millisecond."""
    for frames in (20, 2000):
        take = make_take(np.full((1, frames), 0.5), str(frames))
        assert refined(take, (frames - 1) / RATE).peak_db == pytest.approx(-6.02, abs=0.01)


def test_more_corrections_than_a_document_holds_are_a_sentence():
    full = Corrections(added=[[float(k)] for k in range(MOST)])
    document = Document(name="x", sample_rate=RATE, tracks={"a": Track(name="A", marks={"hits": full})}, order=["a"])
    said = {"kind": "correct_mark", "strip_id": "a", "what": "hits", "at_s": 0.5, "add": True}
    changed, _ = parse_change(said).apply(document)
    with pytest.raises(SettingsError, match="up to 2000"):
        checked(changed, document)
