"""Bending by level: a gain that each sample's own level asks for at once, as what it adds at a raised rate.

The gain lies in a table of parabolas, SEGMENTS an octave, found by the bits of the level: those of a number's exponent
and of the first of its mantissa are the segment, the others the place within it. A sample so takes one look instead of
a logarithm and a power; the parabolas lie within 1e-6 of a gain that is straight in dB.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import inlined, kernel
from reins.core.dsp.decibels import FLOOR_AMPLITUDE, amplitudes_to_db
from reins.core.dsp.dynamics import CHUNK, table_gain
from reins.core.dsp.raising import TILE, Way, begin_with, fall, in_parts, keep_last, rise, turn

Array = npt.NDArray[np.float64]
Table = npt.NDArray[np.float32]
LOWEST, HIGHEST = -24, 8  # octaves over full scale
SEGMENTS = 64
BITS_WITHIN = 23 - 6  # of a mantissa, after those that tell the segment
FIRST_BITS = (127 + LOWEST) << 23
LAST_BITS = ((127 + HIGHEST) << 23) - 1


def table_of(gain_of: Callable[[Array], Array]) -> Table:
    """Parabolas (segments, 4) of a gain less 1, gain_of(amplitudes) -> gains, through both ends of each segment and its
    middle; the last column is nothing.
    """
    octaves = np.arange(LOWEST, HIGHEST)[:, None]
    lows = (2.0**octaves * (1.0 + np.arange(SEGMENTS) / SEGMENTS)).reshape(-1)
    wide = np.repeat(2.0**octaves / SEGMENTS, SEGMENTS)
    low, middle, high = (gain_of(lows + share * wide) - 1.0 for share in (0.0, 0.5, 1.0))
    rows = np.stack([low, 4.0 * middle - 3.0 * low - high, 2.0 * (low + high) - 4.0 * middle, 0.0 * low], axis=1)
    rows[np.abs(rows).max(axis=1) < 1e-9] = 0.0  # what only rounding makes of a gain of 1
    return rows.astype(np.float32)


@inlined
def _bend_by_level(driven, frames, table, tied, out, gone):
    """What the gain adds to driven (channels, planes, 1 + frames) into out (channels, planes, past + frames)."""
    channels, past = driven.shape[0], gone.shape[2]
    begin_with(gone, out)
    level, within, segments = np.empty(TILE, np.float32), np.empty(TILE, np.float32), np.empty(TILE, np.int32)
    bits = level.view(np.int32)
    first, last, shift = np.int32(FIRST_BITS), np.int32(LAST_BITS), np.int32(BITS_WITHIN)
    mask, one = np.int32((1 << BITS_WITHIN) - 1), np.float32(1.0 / (1 << BITS_WITHIN))
    for plane in range(driven.shape[1]):
        for start in range(0, frames, TILE):
            n = min(TILE, frames - start)
            for channel in range(1 if tied else channels):
                now = driven[channel, plane, 1 + start :][:n]
                for i in range(n):
                    level[i] = abs(now[i])
                if tied:
                    other = driven[1, plane, 1 + start :][:n]
                    for i in range(n):
                        b = abs(other[i])
                        level[i] = b if b > level[i] else level[i]
                # Whole loops for what vectorises; the one that looks up does nothing else.
                for i in range(n):
                    own = min(max(bits[i], first), last) - first
                    segments[i] = own >> shift
                    within[i] = np.float32(own & mask) * one
                for i in range(n):
                    found, t = table[segments[i]], within[i]
                    level[i] = found[0] + t * (found[1] + t * found[2])
                for each in range(channel, channels if tied else channel + 1):
                    source, made = driven[each, plane, 1 + start :][:n], out[each, plane, past + start :][:n]
                    for i in range(n):
                        made[i] = level[i] * source[i]
    keep_last(gone, out, frames)


@kernel("void(f8[:,::1], f4[:,::1], b1, i8[:,::1], f4[::1], i8[::1], i8, f4[::1], f4[::1], f8[:,::1])")
def bend_by_level(signal, table, tied, steps, taps, counts, wait, gone, room, out):
    """out (channels, frames) = what the gain by each sample's level adds to signal at a raised rate; tied: two channels
    both by the louder one; steps and what follows as for shaping.bend_raised.
    """
    channels, frames = signal.shape
    driven, first_tap, end, past_end = rise(signal, 1.0, steps, taps, counts, gone, room)
    made, past, end, past_end = turn(frames, steps, counts, gone, room, channels, end, past_end)
    _bend_by_level(driven, frames, table, tied, made, past)
    fall(made, 1.0, steps, taps, counts, wait, gone, room, (first_tap, end, past_end), out)


@kernel("void(f8[:,::1], f8[::1], f8, b1, f8[:,::1], f8[::1])")
def tell_gains(signal, gains_db, floor_db, tied, scratch, out):
    """out (frames,) = the gain in dB at the level of each frame of signal (channels, frames), levels under floor_db as
    there: of two tied channels that of the louder one, else the lower of both; scratch (2, CHUNK).
    """
    frames, bits = signal.shape[1], scratch.view(np.int64)
    for start in range(0, frames, CHUNK):
        n = min(CHUNK, frames - start)
        made, level = out[start : start + n], scratch[0]
        for i in range(n):
            made[i] = np.inf
        for channel in range(signal.shape[0]):
            row = signal[channel, start : start + n]
            for i in range(n):
                a = max(abs(row[i]), FLOOR_AMPLITUDE)
                level[i] = max(a, level[i]) if tied and channel > 0 else a
            if tied and channel + 1 < signal.shape[0]:
                continue
            amplitudes_to_db(level, bits[0], scratch[1], bits[1], n)
            for i in range(n):
                made[i] = min(made[i], table_gain(gains_db, max(level[i], floor_db)))


@dataclass(frozen=True)
class Gain:
    """A gain by level: gains_db by dynamics.table_gain from floor_db up; what it adds, for bend_by_level; and whether
    two channels take that of the louder one.
    """

    gains_db: Array
    floor_db: float
    added: Table
    tied: bool

    def told_db(self, signal: Array) -> Array:
        """The gain in dB at each frame (frames,) of signal (channels, frames)."""
        out = np.empty(signal.shape[1])
        tell_gains(signal, self.gains_db, self.floor_db, self.tied, np.empty((2, CHUNK)), out)
        return out


class LevelBender:
    """What a gain by level adds to a signal at a raised rate, raising.LATENCY_FRAMES late."""

    carried = ("way",)

    def __init__(self, channels: int, sample_rate: int, times: int) -> None:
        self.way = Way(channels, sample_rate, times)

    def process(self, signal: Array, gain: Gain) -> Array:
        """What is added to the signal (channels, frames)."""
        return in_parts(signal, lambda part: self._added(part, gain))

    def _added(self, signal: Array, gain: Gain) -> Array:
        way, out = self.way, np.empty(signal.shape)
        room = way.room(signal.shape[1])
        bend_by_level(signal, gain.added, gain.tied, way.steps, way.taps, way.counts, way.wait, way.gone, room, out)
        return out
