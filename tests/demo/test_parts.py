"""The demo session's planted faults, asked of the sound itself, against the truth beside each generator."""

import numpy as np
import pytest
import scipy.signal

from reins.demo import drums, strings, voices
from reins.demo.build import make_parts
from reins.demo.score import CHORUS, RATE, VERSE, time_of


@pytest.fixture(scope="module")
def parts():
    return {part.name: part for part in make_parts()}


def slice_s(part, start, end):
    return part.samples[0, round(start * RATE) : round(end * RATE)]


def rms_db(x):
    return 10 * np.log10(np.mean(np.square(x)) + 1e-20)


def band(x, low, high):
    return scipy.signal.sosfiltfilt(scipy.signal.butter(4, [low, high], "bandpass", fs=RATE, output="sos"), x)


def test_there_are_ten_finite_takes_of_forty_seconds_with_headroom(parts):
    assert len(parts) == 10
    for part in parts.values():
        assert part.samples.shape == (2 if part.name == "Room" else 1, 40 * RATE)
        assert np.isfinite(part.samples).all()
        assert -15 < 20 * np.log10(np.abs(part.samples).max()) <= -2.99


def test_kick_hits_differ_as_planted(parts):
    hits = drums.kick_hits()

    peaks = [20 * np.log10(np.abs(slice_s(parts["Kick"], at, at + 0.1)).max()) for at, _ in hits]

    np.testing.assert_allclose(np.array(peaks) - max(peaks), [db for _, db in hits], atol=0.6)  # tails of earlier hits


def test_the_snare_rings_at_its_partial(parts):
    at = next(s for s, db in drums.snare_hits() if db == 0.0)

    ring = slice_s(parts["Snare"], at + 0.25, at + 0.55)

    spectrum = np.abs(np.fft.rfft(ring * np.hanning(ring.size), 1 << 17))
    assert np.argmax(spectrum) * RATE / (1 << 17) == pytest.approx(drums.SNARE_RING_HZ, abs=3)


def test_the_low_f_of_the_bass_booms_at_its_fundamental(parts):
    def fundamental_db(at, length, midi):
        piece = slice_s(parts["Bass"], at + 0.02, at + min(length, 0.5))
        return rms_db(band(piece, 0.8 * strings.hz(midi), 1.25 * strings.hz(midi)))

    notes = [n for n in strings.bass_notes() if n[1] > 0.4]
    boom = np.mean([fundamental_db(*n) for n in notes if n[2] == strings.BOOM_MIDI])
    others = np.mean([fundamental_db(*n) for n in notes if n[2] != strings.BOOM_MIDI])

    assert pytest.approx(43.65, abs=0.01) == strings.BOOM_HZ
    assert boom - others == pytest.approx(strings.BOOM_DB, abs=2)


def test_the_chorus_is_shouted_14_db_over_the_verse(parts):
    def line_db(level_db):
        rows = [s for s in voices.sung_syllables() if s.level_db == level_db]
        return np.mean([rms_db(slice_s(parts["Singer"], s.start_s + 0.05, s.end_s - 0.07)) for s in rows])

    assert line_db(0.0) - line_db(-14.0) == pytest.approx(voices.CHORUS_OVER_VERSE_DB, abs=1.0)


def test_esses_are_8_db_too_hot_and_lie_between_6_and_9_khz(parts):
    rows = [s for s in voices.sung_syllables() if s.consonant == "s"]
    ess = [rms_db(slice_s(parts["Singer"], s.consonant_s + 0.03, s.start_s - 0.02)) - s.level_db for s in rows]
    vowel = [rms_db(slice_s(parts["Singer"], s.start_s + 0.05, s.end_s - 0.07)) - s.level_db for s in rows]

    assert np.mean(ess) - np.mean(vowel) == pytest.approx(voices.NATURAL_ESS_DB + voices.ESS_HOT_DB, abs=1.5)
    piece = slice_s(parts["Singer"], rows[0].consonant_s + 0.02, rows[0].start_s - 0.02)
    assert rms_db(band(piece, 5800, 9200)) > rms_db(piece) - 1.0


def test_the_guitars_cover_the_voice_between_2_and_4_khz(parts):
    chorus = (time_of(CHORUS[0]), time_of(CHORUS[-1]))
    for name in ("Guitar L", "Guitar R"):
        part = slice_s(parts[name], *chorus)
        assert rms_db(band(part, *strings.COVER_HZ)) > rms_db(band(part, 600, 1200)) + 2


def test_room_noise_lies_40_db_below_the_announcer(parts):
    spoken = np.concatenate([slice_s(parts["Announcer"], s.consonant_s, s.end_s) for s in voices.spoken_syllables()])
    quiet = np.concatenate([slice_s(parts["Announcer"], *gap) for gap in voices.gaps_s()])

    assert rms_db(spoken) - rms_db(quiet) == pytest.approx(-voices.ROOM_NOISE_DB, abs=0.3)


def test_the_song_gets_louder_in_its_chorus(parts):
    def mix(bars):
        total = sum(
            slice_s(p, time_of(bars[0]), time_of(bars[-1] + 1)) * 10 ** (p.fader_db / 20) for p in parts.values()
        )
        return rms_db(total)

    assert mix(CHORUS) > mix(VERSE) + 2


def test_every_start_makes_the_same_takes(parts):
    np.testing.assert_array_equal(drums.make_kick.__wrapped__(), parts["Kick"].samples)
    np.testing.assert_array_equal(voices.make_singer.__wrapped__(), parts["Singer"].samples)
