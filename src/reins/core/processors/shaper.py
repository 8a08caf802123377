"""Colour: what a bent curve adds to a sound, at a raised rate; shared by `colour` and by the circuits.

What is driven is the sound times k = 10^(drive_db / 20) - 1; what the curve adds to that (dsp.shaping), over k, comes
to the sound dsp.raising.LATENCY_FRAMES later. So drive bends and is no gain: at 0 dB nothing is added.
"""

from typing import Any

import numpy as np

from reins.core.dsp.gains import to_lin
from reins.core.dsp.raising import LATENCY_FRAMES, Raised
from reins.core.dsp.shaping import KINDS, bend
from reins.core.processors.base import Array, Delay

LEAST_K = 1e-6  # below it what is added would be rounding alone
MOST_OFFSET = 0.9  # of the bias: how far from the middle of the curve it works
#: Below how much drive in dB the rate is raised how often, where that is chosen by itself: what folds back below 20 kHz
#: of tones at 5 and 10 kHz then lies 80 dB under them, at any level up to full scale; twice that for even, whose mean
#: between samples has no simple form, and for hard, which has a corner.
AUTO_BELOW_DB = ((4.0, 2), (6.5, 4))
MOST_TIMES = 8


def drive_k(drive_db: Any) -> Any:
    """k of a drive in dB, or of drives by the frame."""
    lin = to_lin(drive_db) if isinstance(drive_db, np.ndarray) else 10.0 ** (drive_db / 20.0)
    return np.maximum(lin - 1.0, 0.0)


def times_for(settings: Any, *, moves: bool = False) -> int:
    """By how much the rate is raised, of settings with oversampling, drive_db and kind: as asked, or by the drive; as
    for the highest where that moves.
    """
    if settings.oversampling != "auto":
        return int(settings.oversampling)
    times = next((times for below_db, times in AUTO_BELOW_DB if settings.drive_db < below_db and not moves), MOST_TIMES)
    return times * (2 if settings.kind in ("even", "hard") and times > 2 else 1)


class Shaper:
    """What bending adds to a signal, LATENCY_FRAMES late."""

    carried = ("_raised", "_before", "_k")
    latency_frames = LATENCY_FRAMES

    def __init__(self, channels: int, times: int) -> None:
        self._k = Delay(1, LATENCY_FRAMES)
        self._raised, self._before = Raised(channels, times), np.zeros(channels)

    @staticmethod
    def still(signal: Array, *, kind: str, bias_pct: float) -> Array:
        """What the curve adds to a driven signal sample by sample, without a raised rate."""
        made = np.empty_like(signal)
        for place in range(signal.shape[1]):  # each is its own neighbour: the mean of the curve is the curve
            one, before = np.ascontiguousarray(signal[:, [place]]), signal[:, place].copy()
            added = np.empty_like(one)
            bend(one, KINDS[kind], MOST_OFFSET * bias_pct / 100.0, before, added)
            made[:, place] = added[:, 0]
        return made

    def process(self, signal: Array, k: Any, *, kind: str, bias_pct: float) -> Array:
        """What is added over the next frames (channels, frames) by k, a number or one a frame."""
        k = np.broadcast_to(np.maximum(k, LEAST_K), (1, signal.shape[1]))
        up = self._raised.up(signal * k)
        added = np.empty_like(up)
        bend(up, KINDS[kind], MOST_OFFSET * bias_pct / 100.0, self._before, added)
        late = self._k.process(np.ascontiguousarray(k))
        return self._raised.down(added) / np.maximum(late, LEAST_K)  # nothing has come yet of where it is not known
