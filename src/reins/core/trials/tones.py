"""Thresholds drawn by what stays in a take: over its steady tones, so that these alone are held; over what sounds in
its pauses, so that this alone is closed.

A tone is steady that in each part of a take, in four fifths of its moments, stands out of what is about it.
"""

from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp.stft import Analysis, read_power
from reins.core.settings.paths import laid_over
from reins.core.settings.points import Point

Array = npt.NDArray[np.float64]
WINDOW, OVERLAP, PARTS = 8192, 2, 4
STEADY, STANDS_OUT_DB, ABOUT_OCT, LEAST_HZ, SILENT_DB = 0.2, 8.0, 1 / 6, 60.0, -100.0
MOST_TONES, LOBE_BINS = 8, 3  # of a tone's own bins on either side
UNDER_TONE_DB, NEVER_DB = 14.0, 20.0  # under a tone its threshold lies, and where nothing ever reaches
FLAT_BINS, WIDE_BINS = 2.5, 4.5
THIRD, LOUD_DB = 2.0 ** (1.0 / 3.0), 50.0
PLACES_HZ = np.geomspace(60.0, 16000.0, 10)  # of a threshold over pauses
OFTEN, OVER_PAUSES_DB = 0.9, 4.0
NOTES_HZ = (30.0, 220.0)
LONGEST_S = 8.0  # of pauses is listened to


def steady_tones(sound: Array, sample_rate: int) -> list[tuple[float, float]]:
    """(Hz, dB) of the steady tones in samples (channels, frames), those that stand out most; in order."""
    power = _power(sound, WINDOW)
    if not len(power):
        return []
    level = _db(np.quantile(power, STEADY, axis=0))
    parts = [_db(np.quantile(part, STEADY, axis=0)) for part in np.array_split(power, min(PARTS, len(power)))]
    hz = np.arange(level.size) * sample_rate / WINDOW
    found: list[tuple[float, float, float]] = []
    for k in range(LOBE_BINS + 1, level.size - LOBE_BINS - 1):
        own = level[k - LOBE_BINS : k + LOBE_BINS + 1]
        if hz[k] < LEAST_HZ or level[k] < own.max() or level[k] < SILENT_DB:
            continue
        low, high = np.searchsorted(hz, [hz[k] * 2.0**-ABOUT_OCT, hz[k] * 2.0**ABOUT_OCT])
        low, high = min(low, k - 3 * LOBE_BINS), max(high, k + 3 * LOBE_BINS + 1)
        about = np.r_[max(low, 1) : k - LOBE_BINS, k + LOBE_BINS + 1 : min(high, level.size)]
        stands = min(part[k] - float(np.quantile(part[about], 0.75)) for part in parts)
        if stands >= STANDS_OUT_DB:
            found.append((stands, (k + _off_middle(level[k - 1 : k + 2])) * sample_rate / WINDOW, float(level[k])))
    return sorted((tone_hz, db) for _, tone_hz, db in sorted(found, reverse=True)[:MOST_TONES])


def notches(settings: Any, tones: list[tuple[float, float]], sample_rate: int) -> Any:
    """Settings of fine bands that hold tones (Hz, dB) and nothing else; the same where there are none."""
    if not tones:
        return settings
    bin_hz = sample_rate / settings.window
    points: list[Point] = []
    for tone_hz, db in tones:
        threshold = max(db - UNDER_TONE_DB, -140.0)
        for off, value in (
            (-WIDE_BINS, NEVER_DB),
            (-FLAT_BINS, threshold),
            (FLAT_BINS, threshold),
            (WIDE_BINS, NEVER_DB),
        ):
            at = round(tone_hz + off * bin_hz, 2)
            points.append(Point(max(at, points[-1].at if points else 10.0), round(value, 1)))
    return laid_over(settings, {"reference": "fixed", "threshold_db": 0.0, "threshold_points": points})


def tones_lowered_db(came: Array, made: Array, sample_rate: int) -> dict[str, Any]:
    """How far the steady tones of samples are lower in what was made of them, the least of them, and how much any third
    of an octave lost in which there are none.
    """
    tones = steady_tones(came, sample_rate)
    before, after = _power(came, WINDOW), _power(made, WINDOW)
    if not len(before):
        return {}
    bin_hz = sample_rate / WINDOW
    hz = np.arange(before.shape[1]) * bin_hz
    lowered = []
    for tone_hz, _ in tones:
        k = round(tone_hz / bin_hz)
        own = [np.quantile(power[:, k - 1 : k + 2].sum(axis=1), STEADY) for power in (before, after)]
        lowered.append(float(_db(own[0]) - _db(own[1])))
    edges = 50.0 * THIRD ** np.arange(26)
    sums = [np.array([power[:, (hz >= a) & (hz < b)].sum() for a, b in pairwise(edges)])
            for power in (before, after)]  # fmt: skip
    held = [any(a <= tone_hz + off * bin_hz < b for tone_hz, _ in tones for off in (-WIDE_BINS, 0.0, WIDE_BINS))
            for a, b in pairwise(edges)]  # fmt: skip
    counts = ~np.array(held) & (_db(sums[0]) > _db(sums[0].max()) - LOUD_DB)
    lost = (_db(sums[0]) - _db(sums[1]))[counts]
    return {
        "tones_hz": [round(tone_hz, 1) for tone_hz, _ in tones],
        **({"tones_db": min(lowered)} if lowered else {}),
        "others_db": float(lost.max(initial=0.0)),
    }


def loudest_note_hz(sound: Array, sample_rate: int) -> float:
    """Where, among low notes, samples (channels, frames) are loudest when they are loud."""
    power = _power(sound, WINDOW)
    bin_hz = sample_rate / WINDOW
    low, high = (round(hz / bin_hz) for hz in NOTES_HZ)
    if not len(power):
        return NOTES_HZ[0]
    level = _db(np.quantile(power, OFTEN, axis=0))
    k = low + int(level[low:high].argmax())
    return float((k + _off_middle(level[k - 1 : k + 2])) * bin_hz)


def _off_middle(three: Array) -> float:
    """How far off the middle one the top of a parabola through three levels lies, in bins."""
    left, middle, right = three
    return float(0.5 * (left - right) / min(left - 2.0 * middle + right, -1e-9))


def under_pauses(settings: Any, sound: Array, pauses: list[tuple[float, float]], sample_rate: int) -> Any:
    """Settings of fine bands whose threshold is drawn over what sounds in pauses (seconds); the same without any."""
    parts, left = [], LONGEST_S
    for begin, end in sorted(pauses, key=lambda span: span[0] - span[1]):
        if end - begin >= 2.0 * settings.window / sample_rate and left > 0.0:
            parts.append(_power(sound[:, round(begin * sample_rate) : round(end * sample_rate)], settings.window))
            left -= end - begin
    if not parts:
        return settings
    level = _db(np.quantile(np.concatenate(parts), OFTEN, axis=0))
    hz = np.arange(level.size) * sample_rate / settings.window
    half = (PLACES_HZ[1] / PLACES_HZ[0]) ** 0.5
    points = []
    for place in PLACES_HZ[0.45 * sample_rate > PLACES_HZ]:
        near = level[(hz >= place / half) & (hz < place * half)]
        if near.size:
            value = float(np.quantile(near, OFTEN)) + OVER_PAUSES_DB
            points.append(Point(round(float(place), 1), round(min(max(value, -140.0), 0.0), 1)))
    return laid_over(settings, {"threshold_points": points, "threshold_db": 0.0})


def _power(sound: Array, window: int) -> npt.NDArray[np.float32]:
    """(windows, bins) of the louder of channels, a sine at full scale reading 1; whole windows alone."""
    spectra = Analysis(sound.shape[0], window, OVERLAP).process(np.ascontiguousarray(sound))
    return np.asarray(read_power(spectra, window).max(axis=0)[OVERLAP - 1 :])


def _db(power: Any) -> Any:
    return 10.0 * np.log10(np.maximum(power, 1e-15))
