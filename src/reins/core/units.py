"""Decibels, times, one-pole coefficients and how numbers are written for people."""

import math
from typing import Any

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
FLOOR_DB = -120.0


def db_to_lin(db: Any) -> Any:
    """Amplitude of a level in dB (20 log10), or of an array of levels."""
    return 10.0 ** (db / 20.0)


def lin_to_db(amplitude: float) -> float:
    """Level in dB of an amplitude, floored at -120 dB."""
    return max(FLOOR_DB, 20.0 * math.log10(amplitude)) if amplitude > 0.0 else FLOOR_DB


def one_pole_k(time_ms: Any, sample_rate: int) -> Any:
    """Share of the remaining way covered per frame so that 63.2 % is covered after time_ms, a number or an array; 1
    when it is 0.
    """
    frames = np.maximum(time_ms * 1e-3 * sample_rate, 1e-3)  # less than that is at once, to the last bit
    return 1.0 - np.exp(-1.0 / frames)


def ms_to_frames(time_ms: Any, sample_rate: int) -> Any:
    """Whole frames nearest to a time, or to an array of times."""
    frames = time_ms * 1e-3 * sample_rate
    return np.rint(frames) if isinstance(frames, np.ndarray) else round(frames)


def format_length(seconds: float) -> str:
    """A length as minutes and seconds: "0:40"."""
    whole = round(seconds)
    return f"{whole // 60}:{whole % 60:02d}"


NOTES = ("C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B")


def note_name(frequency_hz: float) -> str:
    """The nearest note of equal temperament with A4 = 440 Hz (ISO 16), and the cents beside it: "A♯8 −37 ct"."""
    midi = 69.0 + 12.0 * math.log2(frequency_hz / 440.0)
    nearest = round(midi)
    cents = round(100.0 * (midi - nearest))
    name = f"{NOTES[nearest % 12]}{nearest // 12 - 1}"
    return name if cents == 0 else f"{name} {cents:+d} ct".replace("-", "−")
