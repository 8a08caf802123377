"""Bending by level: a gain that each sample's own level asks for at once, as what it adds at a raised rate.

The gain, and what it is in dB, lies in a table of straight pieces, SEGMENTS an octave, found by the bits of the level:
those of a number's exponent and of the first of its mantissa are the segment. A sample so takes one look instead of a
logarithm and a power; the pieces lie within 4e-6 of any gain that holds, and of the steepest, ten dB out for one in,
within 0.001 dB.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import inlined, kernel, roomy
from reins.core.dsp.raising import (
    TILE,
    Way,
    begin_with,
    bits_of,
    fall,
    in_parts,
    keep_last,
    lies,
    rise,
    sum_mirrored,
    turn,
)

Array = npt.NDArray[np.float64]
Table = npt.NDArray[np.float32]  # (2, segments): constant and slope
LOWEST, HIGHEST = -24, 8  # octaves over full scale
SEGMENTS = 256
BITS_WITHIN = 23 - 8  # of a mantissa, after those that tell the segment
FIRST_BITS = (127 + LOWEST) << 23
LAST_BITS = ((127 + HIGHEST) << 23) - 1


def table_of(value_of: Callable[[Array], Array]) -> Table:
    """Straight pieces of a value by level, value_of(amplitudes) -> values: in each segment it is the first row plus
    level times the second.
    """
    octaves = np.arange(LOWEST, HIGHEST)[:, None]
    lows = (2.0**octaves * (1.0 + np.arange(SEGMENTS) / SEGMENTS)).reshape(-1)
    highs = np.append(lows[1:], 2.0**HIGHEST)
    low, high = value_of(lows), value_of(highs)
    slope = (high - low) / (highs - lows)
    terms = np.stack([low - slope * lows, slope])
    terms[:, np.maximum(abs(low), abs(high)) < 1e-9] = 0.0  # what only rounding makes of nothing
    return terms.astype(np.float32)


@inlined
def _look_up(level, table, segments, n):
    """Put in the place of n levels their values. The loop that looks up does nothing else, the other vectorises. Places
    are unsigned: those need no look whether they count from the end.
    """
    bits, constants, slopes = level.view(np.int32), table[0], table[1]
    first, last, shift = np.int32(FIRST_BITS), np.int32(LAST_BITS), np.int32(BITS_WITHIN)
    for i in range(n):
        segments[i] = (min(max(bits[i], first), last) - first) >> shift
    for i in range(n):
        level[i] = constants[segments[i]] + slopes[segments[i]] * level[i]


@inlined
def _bend_both(one, a, other, b, table, level, segments, made, at, made_other, at_other, n):
    """What the gain by the louder of two rows adds to each: n samples, each row's from its own place on."""
    for i in range(n):
        here, beside = abs(one[a + i]), abs(other[b + i])
        level[i] = beside if beside > here else here
    _look_up(level, table, segments, n)
    for i in range(n):
        made[at + i] = level[i] * one[a + i]
    for i in range(n):
        made_other[at_other + i] = level[i] * other[b + i]


@roomy
def _bend_planes(source, past, frames, taps, table, tied, out, gone):
    """The last doubling of source (channels, P, past + frames), and what the gain adds there into out (channels, 2 P,
    its past + frames). The samples in between are made a tile at a time and bent where they lie, the given ones where
    they are; without taps those are all.
    """
    channels, count, width, out_width = source.shape[0], source.shape[1], source.shape[2], out.shape[2]
    between, reach, own, twice = min(1, taps.size), 2 * taps.size - 1, gone.shape[2], taps + taps
    begin_with(gone, out)
    level, segments = np.empty(TILE, np.float32), np.empty(TILE, np.uint32)
    even, bits = np.empty((channels, TILE), np.float32), bits_of(count)
    zero, none = np.uint64(0), np.float32(0.0)
    for one in range(channels if not tied else 1):
        other = channels - 1 if tied else one
        row, row_other = source[one].reshape(-1), source[other].reshape(-1)
        made, made_other, even_one, even_other = out[one].reshape(-1), out[other].reshape(-1), even[one], even[other]
        for start in range(0, frames, TILE):
            n, first = np.uint64(min(TILE, frames - start)), past + start
            for p in range(count):
                at = np.uint64(p * (1 + between) * out_width + own + start)
                given = lies(p - (reach - 1) // 2 * between, first, bits, width)
                if between:
                    sum_mirrored(row, bits, width, first, p, p - reach, 1, twice, given, none, even_one, zero, n)
                    if other != one:
                        sum_mirrored(
                            row_other, bits, width, first, p, p - reach, 1, twice, given, none, even_other, zero, n
                        )
                    _bend_both(even_one, zero, even_other, zero, table, level, segments, made, at, made_other, at, n)
                    at += np.uint64(out_width)
                _bend_both(row, given, row_other, given, table, level, segments, made, at, made_other, at, n)
    keep_last(gone, out, frames)


@kernel("void(f8[:,::1], f4[:,::1], b1, i8[:,::1], f4[::1], i8[::1], i8, f4[::1], f4[::1], f8[:,::1])", makes_room=True)
def bend_by_level(signal, table, tied, steps, taps, counts, wait, gone, room, out):
    """out (channels, frames) = what the gain by each sample's level adds to signal at a raised rate; tied: two channels
    both by the louder one; steps and what follows as for shaping.bend_raised.
    """
    channels, frames = signal.shape
    source, past, first_tap, end, past_end = rise(signal, 1.0, steps, taps, counts[:-1], gone, room)
    last = taps[first_tap:]
    # What the last doubling would make has its place on the way, and is not used.
    made, own, end, past_end = turn(frames, steps, counts, gone, room, channels, end, past_end)
    _bend_planes(source, past, frames, last, table, tied, made, own)
    fall(made, 1.0, steps, taps, counts, wait, gone, room, (taps.size, end, past_end), out)


@kernel("void(f8[:,::1], f4[:,::1], b1, f8[::1])", makes_room=True)
def tell_gains(signal, table, tied, out):
    """out (frames,) = the gain in dB at the level of each frame of signal (channels, frames): of two tied channels that
    of the louder one, else the lower of both.
    """
    level, segments = np.empty(TILE, np.float32), np.empty(TILE, np.uint32)
    for start in range(0, signal.shape[1], TILE):
        made = out[start : start + TILE]
        n = made.size
        for i in range(n):
            made[i] = np.inf
        for channel in range(signal.shape[0]):
            row = signal[channel, start : start + TILE]
            for i in range(n):
                a = np.float32(abs(row[i]))
                level[i] = max(a, level[i]) if tied and channel > 0 else a
            if tied and channel + 1 < signal.shape[0]:
                continue
            _look_up(level, table, segments, n)
            for i in range(n):
                made[i] = min(made[i], level[i])


@dataclass(frozen=True)
class Gain:
    """A gain by level: in dB, to be told, and what it adds, for bend_by_level, both by table_of; and whether two
    channels take that of the louder one.
    """

    in_db: Table
    added: Table
    tied: bool

    def told_db(self, signal: Array) -> Array:
        """The gain in dB at each frame (frames,) of signal (channels, frames)."""
        out = np.empty(signal.shape[1])
        tell_gains(signal, self.in_db, self.tied, out)
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
