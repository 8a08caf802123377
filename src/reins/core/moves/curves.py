"""Drawn points as arrays that dsp.drawing reads: by the beat, in the session's seconds."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.dsp.drawing import GRID, add_curve
from reins.core.moves.models import ByBeat, ByLine
from reins.core.moves.scales import Way
from reins.core.remembering import BySettings
from reins.core.settings.points import Point
from reins.core.time import Beat

Array = npt.NDArray[np.float64]
JUMP_S = 1e-3  # how long a jump takes
_columns: BySettings[tuple[Array, Array, Array]] = BySettings(256)


@dataclass(frozen=True)
class Curve:
    """A drawn curve in places of a setting's scale; `beats` is its length and offset in beats, None in seconds."""

    points: Array  # for dsp.drawing.add_curve
    beats: tuple[float, float] | None

    def add(self, out: Array, first: int, way: float, *, sample_rate: int, beat: Beat) -> None:
        """Add `way` times the curve to out (frames,), whose first frame is the session's `first`; GRID divides it."""
        if self.beats is None:
            per_frame, offset = 1.0 / sample_rate, 0.0
        else:
            length, offset_beats = self.beats
            per_frame, offset = beat.tempo_bpm / 60.0 / sample_rate / length, offset_beats / length
        add_curve(
            self.points, self.beats is not None, per_frame, offset, JUMP_S * sample_rate * per_frame, first, way,
            np.empty(GRID), out,
        )  # fmt: skip


def by_beat(by: ByBeat) -> Curve:
    """The curve of a rein by the beat, from 0 to 1."""
    at, value, bend = _columns.get(by, None, lambda: _as_columns(by.points))
    return Curve(np.stack([at, value, bend, *_jumps(at, value, wraps=True)]), (by.beats, by.offset_beats))


def by_line(by: ByLine, way: Way, rest: float) -> Curve:
    """The way a line takes a setting from where it rests, in places of its scale."""
    at, value, bend = _columns.get(by, None, lambda: _as_columns(by.points))
    placed = np.asarray(way.place(np.clip(value, way.lowest, way.high))) - rest
    return Curve(np.stack([at, placed, bend, *_jumps(at, placed, wraps=False)]), None)


def _as_columns(points: list[Point]) -> tuple[Array, Array, Array]:
    at, value, bend = np.ascontiguousarray(np.array(points, np.float64).T)
    return at, value, bend


def _jumps(at: Array, value: Array, *, wraps: bool) -> tuple[Array, Array]:
    """By point where the last jump at or before it lies, and from which value it came; -inf where there is none."""
    index = np.arange(at.size)
    doubled = np.concatenate([[False], at[1:] == at[:-1]])
    came_from = np.maximum.accumulate(np.where(doubled, 0, index))
    last = np.maximum.accumulate(np.where(doubled, index, -1))
    jump_at = np.where(last >= 0, at[last], -np.inf)
    jump_from = value[came_from[last]]
    if wraps and value[0] != value[-1]:
        begin = jump_at <= 0.0
        jump_at[begin], jump_from[begin] = 0.0, value[-1]
    return jump_at, np.ascontiguousarray(jump_from)
