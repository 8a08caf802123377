"""Tempo and downbeat, from how onsets repeat: the autocorrelation of the onset curve at multiples of a beat (E. D.
Scheirer, "Tempo and beat analysis of acoustic musical signals", J. Acoust. Soc. Am. 103(1), 1998), with a preference
for middling tempi (D. P. W. Ellis, "Beat tracking by dynamic programming", J. New Music Research 36(1), 2007).

Which of two tempi an octave apart is meant follows from the backbeat, where there is one: lows on the first and third
beat, what lies above them on the second and fourth (common practice). The tempo is made exact at ever longer distances.
"""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.finding.frames import FRAMES_PER_S, Frames
from reins.core.finding.hits import flux

Array = npt.NDArray[np.float64]
SLOWEST_BPM, FASTEST_BPM, STEP_BPM = 55.0, 185.0, 0.25
MIDDLE_BPM, SPREAD_OCTAVES = 105.0, 1.0
BEATS = 4  # compared with each other at first, and in a bar
LONGEST_BEATS = 64
LOW_HZ, SNARE_HZ = 140.0, (180.0, 4500.0)
BACKBEAT_WEIGHT = 2.0
CLEARLY = 1.3  # by how much the lows of one half of a bar must be stronger for it to be the first
LEAST_S = 4.0
LEAST_CONFIDENCE = 0.12


@dataclass(frozen=True)
class Tempo:
    """Beats a minute, the first downbeat in seconds, and how sure that is, from 0 to 1."""

    bpm: float
    downbeat_s: float
    confidence: float


def find_tempo(frames: Frames) -> Tempo | None:
    """The tempo of a take; None where nothing repeats, or it is too short to tell."""
    curve = flux(frames)
    if curve.size < LEAST_S * FRAMES_PER_S or not curve.any():
        return None
    again = _autocorrelation(curve)
    parts = [flux(_part(frames, *edges)) for edges in ((0.0, LOW_HZ), SNARE_HZ)]
    bpms = np.arange(SLOWEST_BPM, FASTEST_BPM + STEP_BPM, STEP_BPM)
    combs = np.array([_comb(again, 60.0 * FRAMES_PER_S / bpm, range(1, BEATS + 1)) for bpm in bpms])
    prior = np.exp(-0.5 * (np.log2(bpms / MIDDLE_BPM) / SPREAD_OCTAVES) ** 2)
    near = np.flatnonzero(combs >= 0.6 * combs.max())
    scores = np.zeros(bpms.size)
    for at in near:
        strength, phase = _backbeat(parts, bpms[at])
        weight = 1.0 + BACKBEAT_WEIGHT * strength * _whole(parts, 60.0 * FRAMES_PER_S / bpms[at], phase)
        scores[at] = combs[at] * prior[at] * weight
    best = int(scores.argmax())
    if combs[best] <= LEAST_CONFIDENCE:
        return None
    bpm = _exact(again, float(bpms[best]))
    period = 60.0 * FRAMES_PER_S / bpm
    strength, phase = _backbeat(parts, bpm)
    if strength < 0.2:  # no backbeat: the beat on which most begins
        phase = _strongest_phase(curve, period)
    return Tempo(bpm, phase / FRAMES_PER_S, float(min(1.0, combs[best] * (0.5 + 0.5 * strength) / 0.5)))


def _part(frames: Frames, low_hz: float, high_hz: float) -> Frames:
    within = (frames.hz >= low_hz) & (frames.hz <= high_hz)
    return Frames(frames.power[:, within], frames.hz[within], frames.hop, frames.sample_rate)


def _autocorrelation(curve: Array) -> Array:
    """Normalised, of the curve less its mean, corrected for how much overlaps."""
    centred = curve - curve.mean()
    size = 1 << int(2 * curve.size - 1).bit_length()
    power = np.abs(np.fft.rfft(centred, size)) ** 2
    again = np.fft.irfft(power)[: curve.size]
    overlap = np.maximum(curve.size - np.arange(curve.size), curve.size / 4)
    again = again / overlap * curve.size
    # Hits lie between frames: what is near counts as well.
    again = np.convolve(again, [0.25, 0.5, 0.25], mode="same")
    return np.asarray(again / max(float(again[0]), 1e-12))


def _at(row: Array, places: Array) -> Array:
    """A row between its places, nothing beyond its end."""
    return np.interp(places, np.arange(row.size), row, right=0.0)


def _comb(again: Array, period: float, multiples: range) -> float:
    """How alike a curve is to itself some beats later, on average."""
    lags = period * np.array(multiples)
    lags = lags[lags < again.size - 1]
    return float(_at(again, lags).mean()) if lags.size else 0.0


def _exact(again: Array, bpm: float) -> float:
    """A tempo made exact at twice as many beats, again and again."""
    beats = BEATS
    while beats <= LONGEST_BEATS and 60.0 * FRAMES_PER_S / bpm * beats < 0.75 * again.size:
        near = bpm * (1.0 + np.linspace(-0.5, 0.5, 81) * 0.5 / beats)
        scores = [_comb(again, 60.0 * FRAMES_PER_S / one, range(max(1, beats // 2), beats + 1)) for one in near]
        bpm = float(near[int(np.argmax(scores))])
        beats *= 2
    return bpm


def _fold(curve: Array, period: float, phase: float, offset: float) -> float:
    """The mean of a curve at every fourth beat from one of them on, the highest within a frame of it."""
    places = np.arange(phase + offset * period, curve.size - 1, BEATS * period)
    if not places.size:
        return 0.0
    near = np.stack([_at(curve, places + shift) for shift in (-1.0, 0.0, 1.0)])
    return float(near.max(axis=0).mean())


def _backbeat(parts: list[Array], bpm: float) -> tuple[float, float]:
    """How clearly lows and what is above them take turns, from 0 to 1, and where the first beat of a bar lies, in
    frames.
    """
    period = 60.0 * FRAMES_PER_S / bpm
    best, place = 0.0, 0.0
    for phase in np.arange(0.0, period, 1.0):
        low, above = ([_fold(part, period, phase, beat) for beat in range(BEATS)] for part in parts)
        total = sum(low) + sum(above)
        turns = low[0] + low[2] + above[1] + above[3] - low[1] - low[3] - above[0] - above[2]
        share = abs(turns) / max(total, 1e-9) * min(1.0, total)
        if share > best:
            one, other = (0, 2) if turns > 0.0 else (1, 3)
            best, place = share, phase + period * (other if low[other] > CLEARLY * low[one] else one)
    return best, float(place)


def _whole(parts: list[Array], period: float, phase: float) -> float:
    """Less than 1 where drums fall on thirds of a beat as strongly as on beats: then it is three beats."""
    both = parts[0] + parts[1]
    on, between = (
        max(sum(_fold(both, period, phase, beat + third) for beat in range(BEATS)) for third in thirds)
        for thirds in ((0.0,), (1.0 / 3.0, 2.0 / 3.0))
    )
    return float(np.clip(1.5 - between / max(on, 1e-9), 0.0, 1.0))


def _strongest_phase(curve: Array, period: float) -> float:
    phases = np.arange(0.0, BEATS * period, 1.0)
    return float(phases[int(np.argmax([_fold(curve, period, phase, 0) for phase in phases]))])
