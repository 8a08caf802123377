"""Phrases: where somebody sings, speaks or plays, and where nobody does; how loud a part is while it is active.

The active level is that of ITU-T P.56 (method B): an envelope of two poles of 30 ms, counted over thresholds 6 dB apart
with a hangover of 200 ms, and the threshold 15.9 dB under the level that is active at it. Phrases are told from pauses
by the noise between them, so that a quiet verse counts as much as a loud chorus.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.dsp.activity import count_active
from reins.core.finding.frames import FRAMES_PER_S, Frames, spans_of
from reins.core.sound import Sound
from reins.core.units import one_pole_k

Array = npt.NDArray[np.float64]
BLOCK = 65536
ENVELOPE_MS, HANGOVER_S, MARGIN_DB, LEAST_ACTIVE_DB = 30.0, 0.2, 15.9, -100.0
STEPS = 20  # thresholds, 6.02 dB apart, from full scale down
OVER_NOISE_DB, UNDER_LOUD_DB = 9.0, 40.0
LEAST_RANGE_DB = 15.0  # between pauses and what is loud
SMOOTH = 5  # frames
JOIN_S, SHORTEST_S, LEAD_S = 0.25, 0.08, 0.02


@dataclass(frozen=True)
class Activity:
    """The level of a part while it is active, in dB, and the share of time it is; None where it never is."""

    level_db: float | None
    share: float


def active_level(sound: Sound, check: Callable[[], None] = lambda: None) -> Activity:
    """The active level of a sound's mean channel (ITU-T P.56, method B)."""
    rate, frames = sound.facts.sample_rate, sound.facts.frames
    thresholds = 2.0 ** -np.arange(STEPS, 0, -1.0)
    hangover = round(HANGOVER_S * rate)
    active, quiet_for = np.zeros(STEPS, np.int64), np.full(STEPS, hangover, np.int64)
    state = np.zeros(3)
    for first in range(0, frames, BLOCK):
        check()
        heard = np.ascontiguousarray(sound.read(first, min(BLOCK, frames - first)).mean(axis=0))
        count_active(heard, one_pole_k(ENVELOPE_MS, rate), hangover, thresholds, active, quiet_for, state)
    if state[2] / max(frames, 1) < 10.0 ** (LEAST_ACTIVE_DB / 10.0) or not active[0]:
        return Activity(None, 0.0)
    levels = 10.0 * np.log10(state[2] / np.maximum(active, 1))  # while over each threshold
    over = levels - 20.0 * np.log10(thresholds)
    at = np.flatnonzero((over <= MARGIN_DB) & (active > 0))
    place = int(at[0]) if at.size else int(np.flatnonzero(active)[-1])
    level = float(levels[place])
    if place and at.size:  # between the two thresholds about the margin
        share = (over[place - 1] - MARGIN_DB) / max(over[place - 1] - over[place], 1e-9)
        level = float(levels[place - 1] + share * (levels[place] - levels[place - 1]))
    return Activity(level, float(10.0 ** ((10.0 * np.log10(state[2] / frames) - level) / 10.0)))


def find_phrases(frames: Frames) -> list[tuple[float, float]]:
    """(begin, end) in seconds of each phrase; one for the whole where there are no pauses, none of silence."""
    level = frames.level_db()
    if level.max() < LEAST_ACTIVE_DB:
        return []
    smooth = np.convolve(10.0 ** (level / 10.0), np.full(SMOOTH, 1.0 / SMOOTH), mode="same")
    smoothed = 10.0 * np.log10(np.maximum(smooth, 1e-12))
    loud, noise = np.quantile(smoothed, 0.98), np.quantile(smoothed, 0.03)
    if loud - noise < LEAST_RANGE_DB:
        return [(0.0, frames.s(level.size))]
    active = smoothed > max(noise + OVER_NOISE_DB, loud - UNDER_LOUD_DB)
    return [(frames.s(a), frames.s(b)) for a, b in _spans(active)]


def _spans(active: npt.NDArray[np.bool_]) -> list[tuple[int, int]]:
    """Where a row is true, short gaps closed and short ones left out, with a little lead."""
    lead = round(LEAD_S * FRAMES_PER_S)
    long = [(a, b) for a, b in spans_of(active, JOIN_S) if b - a >= SHORTEST_S * FRAMES_PER_S]
    return [(max(a - lead, 0), min(b + lead, active.size)) for a, b in long]
