"""The song "Last Boat Home": sixteen bars of four at 96 bpm, who plays what when, and small tools to place sounds.

Made up for this program; everything is synthesised from fixed seeds, so every machine makes the same takes.
"""

import numpy as np
import numpy.typing as npt

from reins.demo.facts import TEMPO_BPM

Array = npt.NDArray[np.float64]

RATE = 48000

BARS = 16
BEAT_S = 60.0 / TEMPO_BPM
BAR_S = 4 * BEAT_S
STEP_S = BEAT_S / 4  # a sixteenth
FRAMES = round(BARS * BAR_S * RATE)
VERSE = range(2, 8)
CHORUS = range(8, 14)

# Root and third kind of each bar's chord, as MIDI numbers; the chorus starts on B flat.
CHORDS = {"Dm": (38, 3), "Bb": (34, 4), "F": (29, 4), "C": (36, 4)}
PROGRESSION = ["Dm", "Dm", "Dm", "Bb", "F", "C", "Dm", "F", "Bb", "F", "C", "Dm", "Bb", "F", "C", "Dm"]


def hz(midi: float) -> float:
    """Frequency of a MIDI note; A4 (69) is 440 Hz."""
    return float(440.0 * 2.0 ** ((midi - 69) / 12))


def lin(db: float) -> float:
    """Amplitude of a level in dB."""
    return float(10.0 ** (db / 20.0))


def time_of(bar: int, step: float = 0.0) -> float:
    """Seconds at which a sixteenth of a bar falls."""
    return bar * BAR_S + step * STEP_S


def silence(channels: int = 1) -> Array:
    """An empty take."""
    return np.zeros((channels, FRAMES))


def place(take: Array, sound: Array, at_s: float, gain: float = 1.0) -> None:
    """Add a sound (frames) or (channels, frames) into a take; what runs past the end is cut."""
    sound = np.atleast_2d(sound)
    start = max(round(at_s * RATE), 0)
    count = min(sound.shape[1], FRAMES - start)
    if count > 0:
        take[:, start : start + count] += gain * sound[:, :count]


def decay(seconds: float, to_60_db_s: float) -> Array:
    """An envelope that has fallen by 60 dB after to_60_db_s."""
    t = np.arange(round(seconds * RATE)) / RATE
    return np.asarray(10.0 ** (-3.0 * t / to_60_db_s))


def peak_at(take: Array, db: float) -> Array:
    """The take, its largest sample moved to a level."""
    return np.asarray(take * (lin(db) / np.abs(take).max()))


def chord_notes(bar: int, *, octave: int = 0) -> list[int]:
    """Root, third and fifth of a bar's chord."""
    root, third = CHORDS[PROGRESSION[bar]]
    return [root + 12 * octave, root + third + 12 * octave, root + 7 + 12 * octave]
