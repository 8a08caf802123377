"""The tempo of several takes of one piece, together: by those that are struck, where there are any; and whether it is
sure, since takes of different pieces, or each at a tempo of its own, have none in common.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from reins.core.finding.frames import Frames
from reins.core.finding.marks import Marks
from reins.core.finding.tempo import Tempo, find_tempo
from reins.core.trials.striking import struck

SURE, TELLS, NEAR, AGREE = 0.4, 0.3, 0.015, 0.6  # confidence; of one take; share of a tempo; share of those that tell


@dataclass(frozen=True)
class CommonTempo:
    """Beats a minute, or None where nothing repeats, and whether that is sure."""

    found_bpm: float | None
    sure: bool


def common_tempo(takes: Sequence[Marks]) -> CommonTempo:
    """The tempo of takes that lie on one timeline from the same moment on."""
    by = [marks for marks in takes if struck(marks)] or list(takes)
    together = _together([marks.frames for marks in by])
    if together is None:
        return CommonTempo(None, False)
    alone = [marks.tempo for marks in by]
    told = [tempo.bpm for tempo in alone if tempo is not None and tempo.confidence >= TELLS]
    agree = sum(_is_multiple(bpm, together.bpm) for bpm in told) >= AGREE * max(len(told), 1)
    return CommonTempo(round(together.bpm, 2), bool(agree and together.confidence >= SURE))


def _together(all_frames: list[Frames]) -> Tempo | None:
    """The tempo of all of them at once, each as loud as the others."""
    if not all_frames:
        return None
    count = max(len(frames.power) for frames in all_frames)
    power = np.zeros((count, all_frames[0].hz.size), np.float32)
    for frames in all_frames:
        power[: len(frames.power)] += frames.power / max(float(frames.power.sum(axis=1).max(initial=0.0)), 1e-9)
    first = all_frames[0]
    return find_tempo(Frames(power, first.hz, first.hop, first.sample_rate))


def _is_multiple(bpm: float, of: float) -> bool:
    """Whether a tempo is another, its half or double or a third: which beat is counted is a matter of taste."""
    return any(abs(math.log(bpm / (of * times))) < NEAR for times in (1 / 3, 0.5, 2 / 3, 1.0, 1.5, 2.0, 3.0))
