"""Bass, two guitars and a harmonium; with the boom and the covering planted in them."""

from functools import cache

import numpy as np
import scipy.signal

from reins.demo.score import (
    BARS,
    BEAT_S,
    CHORDS,
    CHORUS,
    PROGRESSION,
    RATE,
    VERSE,
    Array,
    chord_notes,
    decay,
    hz,
    lin,
    peak_at,
    place,
    silence,
    time_of,
)

# Fault: the bass's low F booms where the kick lives: its fundamental is this much louder than the other notes'.
BOOM_MIDI = 29
BOOM_HZ = hz(BOOM_MIDI)  # 43.65 Hz
BOOM_DB = 9.0
BASS_STEPS = (0, 3, 6, 8, 11, 14)

# Fault: the guitars cover the voice: a broad rise of this height between these frequencies.
COVER_HZ = (2000.0, 4000.0)
COVER_DB = 15.0
# What makes a guitar of a bare string: a finger instead of a pick, the body's lowest modes, and little between.
PICK_HZ = 1200.0
BODY_HZ, BODY_DB = (130.0, 260.0), 26.0
HOLLOW_HZ, HOLLOW_DB = (600.0, 1300.0), -10.0


def bass_notes() -> list[tuple[float, float, int]]:
    """(seconds, length in seconds, MIDI note) of every bass note."""
    notes = []
    for bar in range(1, BARS):
        root = CHORDS[PROGRESSION[bar]][0]
        steps = BASS_STEPS if bar in CHORUS else (*BASS_STEPS[::2], 14)
        for step, following in zip(steps, (*steps[1:], 16), strict=True):
            fifth = root + (7 if root < 34 else -5)
            notes.append((time_of(bar, step), (following - step) * BEAT_S / 4 * 0.92, fifth if step == 14 else root))
    return notes


def make_bass() -> Array:
    """Mono take: a plucked string of fading harmonics."""
    take = silence()
    for at, length_s, midi in bass_notes():
        t = np.arange(round(length_s * RATE)) / RATE
        f0 = hz(midi)
        tone = np.zeros(t.size)
        for k in range(1, 25):
            weight = k**-1.1 * (lin(BOOM_DB) if k == 1 and midi == BOOM_MIDI else 1.0)
            tone += weight * np.sin(2 * np.pi * k * f0 * t + 0.3 * k) * decay(length_s, 2.6 / k**0.6 + 0.1)
        edge = np.minimum(np.minimum(t / 0.006, (t[-1] - t) / 0.02), 1.0)
        place(take, tone * np.clip(edge, 0, 1), at)
    return peak_at(take, -6.0)


def _plucked(f0: float, seconds: float, rng: np.random.Generator) -> Array:
    """A plucked string: a burst of noise going round a loop that averages neighbours, one period at a time."""
    period = round(RATE / f0 - 0.5)
    loop = rng.uniform(-1, 1, period)
    turns = []
    for _ in range(int(seconds * RATE / period) + 1):
        turns.append(loop)
        loop = 0.4985 * (loop + np.concatenate((loop[-1:], loop[:-1])))
    return np.concatenate(turns)[: round(seconds * RATE)]


def _strum_steps(bar: int) -> list[tuple[int, float]]:
    if bar in CHORUS:
        return [(s, 0.0 if s % 4 == 0 else -3.0) for s in range(0, 16, 2)]
    return [(0, -6.0), (6, -9.0), (10, -8.0)] if bar in VERSE or bar >= 14 else [(0, -9.0)]


def make_guitar(side: int) -> Array:
    """Mono take of the left (0) or right (1) guitar; each strums in its own voicing and timing."""
    rng = np.random.default_rng(505 + side)
    take = silence()
    for bar in range(BARS):
        steps = _strum_steps(bar)
        notes = [*chord_notes(bar, octave=1 + side), chord_notes(bar, octave=2 + side)[1 - side]]
        for index, (step, gain_db) in enumerate(steps):
            end = steps[index + 1][0] if index + 1 < len(steps) else 16
            seconds = (end - step) * BEAT_S / 4 + 0.08
            fade = np.minimum(1.0, np.arange(round(seconds * RATE))[::-1] / (0.06 * RATE))
            for order, midi in enumerate(notes):
                at = time_of(bar, step) + order * 0.009 + abs(rng.normal(0, 0.004))
                place(take, _plucked(hz(midi), seconds, rng) * fade, at, lin(gain_db + rng.uniform(-2, 0)))
    take = scipy.signal.sosfilt(scipy.signal.butter(1, PICK_HZ, fs=RATE, output="sos"), take)
    for band_hz, gain_db in ((BODY_HZ, BODY_DB), (HOLLOW_HZ, HOLLOW_DB), (COVER_HZ, COVER_DB)):
        band = scipy.signal.sosfilt(scipy.signal.butter(1, band_hz, "bandpass", fs=RATE, output="sos"), take)
        take = take + (lin(gain_db) - 1.0) * band
    return peak_at(scipy.signal.sosfilt(scipy.signal.butter(2, 90, "highpass", fs=RATE, output="sos"), take), -7.0)


@cache
def _reeds(notes: tuple[int, ...]) -> Array:
    """A bar of a chord on two reeds a note, slightly out of tune with each other."""
    t = np.arange(round((4 * BEAT_S + 0.25) * RATE)) / RATE
    chord = np.zeros(t.size)
    for midi in notes:
        for cents in (-4.0, 3.0):
            turn = np.exp(2j * np.pi * hz(midi + cents / 100) * t + 1j * cents)
            harmonic = turn.copy()
            for k in range(1, 13):
                chord += k**-0.9 * harmonic.imag
                harmonic *= turn
    bellows = 1.0 + 0.12 * np.sin(2 * np.pi * t / (2 * BEAT_S))
    return chord * bellows * np.clip(np.minimum(t / 0.15, (t[-1] - t) / 0.25), 0, 1)


def make_harmonium() -> Array:
    """Mono take: long chords, breathing with the bellows, stronger in the chorus."""
    take = silence()
    for bar in range(BARS):
        place(take, _reeds(tuple(chord_notes(bar, octave=2))), time_of(bar), lin(0.0 if bar in CHORUS else -5.0))
    return peak_at(take, -12.0)
