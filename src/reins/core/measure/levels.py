"""How loud a sound is: peak, crest, integrated loudness."""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from reins.core.dsp.loudness import LoudnessMeter, fold_level
from reins.core.sound import Sound
from reins.core.units import lin_to_db

RUN_FRAMES = 32768


@dataclass(frozen=True)
class Level:
    """How loud a signal is over a span: crest factor in dB, loudness in LUFS; None where it cannot be given."""

    peak_db: float
    rms_db: float
    crest_db: float | None
    integrated_lufs: float | None


def measure_level(squares: float, peak: float, samples: int, meter: LoudnessMeter) -> Level:
    """Level from a sum of squares over `samples` samples, the peak and a fed loudness meter."""
    rms = math.sqrt(squares / samples) if samples else 0.0
    crest = lin_to_db(peak) - lin_to_db(rms) if rms > 1e-6 else None
    return Level(lin_to_db(peak), lin_to_db(rms), crest, meter.integrated_lufs())


def measure_source(take: Sound, start: int, frames: int, check: Callable[[], None] = lambda: None) -> Level:
    """Level of a take over a span; `check` may raise to stop."""
    meter = LoudnessMeter(sample_rate=take.facts.sample_rate)
    level = np.zeros(2)
    for first in range(start, start + frames, RUN_FRAMES):
        check()
        block = take.read(first, min(RUN_FRAMES, start + frames - first))
        meter.feed(block)
        fold_level(block, level)
    peak, squares = level.tolist()
    return measure_level(squares, peak, frames * take.facts.channels, meter)
