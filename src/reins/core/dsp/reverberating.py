"""A room from a feedback network: sixteen delay lines, mixed into each other without loss and dulled on the way.

After J.-M. Jot and A. Chaigne, "Digital delay networks for designing artificial reverberators" (90th AES Convention,
1991): line k of m frames gets what loses 60 m / (rate T) dB a pass, T the decay, by a filter that loses more at high
frequencies, so that every mode of a frequency dies away alike, whatever the lines. The lossless matrix is Hadamard's,
by its fast transform. Before the lines, two all-passes a channel thicken what comes in (M. R. Schroeder, "Natural
sounding artificial reverberation", J. Audio Eng. Soc. 10(3), 1962).

The filter of a line is its gain times two equal shelves of first order, (1 + r s) / (1 + s) with s = j tan(pi f / rate)
/ tan(pi corner / rate), whose r follows in closed form from what is lost at 1 kHz and in the octave about 8 kHz.
"""

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import kernel

Array = npt.NDArray[np.float64]
Counts = npt.NDArray[np.int64]
LINES = 16
SHORTEST_SHARE = 0.42  # of the longest line, of the shortest
ALL_PASS_MS, ALL_PASS_GAIN, ALL_PASS_WHOLE_S = (4.7, 3.1), 0.6, 0.6
LOWEST_CORNER_HZ, HIGHEST_CORNER_HZ = 1500.0, 12000.0
LEAST_SHELF = 0.02  # r^2 of the longest line: the steepest it is asked to be
KNOWN_HZ, HIGH_HZ = 1000.0, 6500.0  # where decays are worked out: in an octave about 8 kHz its lower part lasts longest
GAIN, B0, B1, A1 = 0, 1, 2, 3  # of a line's filter
WRITE, QUIET = 0, 1  # of the places: where the next frame goes, for how long nothing has come


def lengths(longest: int) -> Counts:
    """Frames of each line: primes, so that no two echo together, evenly apart in their logarithm."""
    wanted = longest * np.geomspace(SHORTEST_SHARE, 1.0, LINES)
    found: list[int] = []
    for frames in wanted:
        prime = max(int(frames), 2)
        while prime in found or any(prime % k == 0 for k in range(2, math.isqrt(prime) + 1)):
            prime += 1
        found.append(prime)
    return np.array(found)


def all_passes(decay_s: float, rate: int) -> Counts:
    """Frames of the all-passes: short where the room is, whose end they would else be."""
    shorter = min(1.0, decay_s / ALL_PASS_WHOLE_S)
    return np.array([max(1, round(ms * shorter * rate / 1000.0)) for ms in ALL_PASS_MS])


def _corner_hz(most_lost: float, high_hz: float, rate: int) -> float:
    """The highest corner with which the shelves lose so much more, an amplitude, at high_hz than at KNOWN_HZ."""
    low, high = LOWEST_CORNER_HZ, min(HIGHEST_CORNER_HZ, 0.45 * rate)
    for _ in range(40):
        middle = math.sqrt(low * high)
        if _shelf(np.array([most_lost]), middle, high_hz, rate)[0] > LEAST_SHELF:
            low = middle
        else:
            high = middle
    return low


def _shelf(lost: Array, corner_hz: float, high_hz: float, rate: int) -> Array:
    """r^2 of shelves that lose so much more at high_hz; below 0 where they cannot."""
    known, high = ((math.tan(math.pi * hz / rate) / math.tan(math.pi * corner_hz / rate)) ** 2
                   for hz in (KNOWN_HZ, high_hz))  # fmt: skip
    least = (1.0 + known) / (1.0 + high)
    return np.asarray((lost - least) / (least * high - lost * known))


def absorption(frames: Counts, decay_s: float, highs: float, rate: int) -> Array:
    """Filters (lines, 4) of lines of so many frames; highs: the share of the decay that is left at HIGH_HZ."""
    high_hz = min(HIGH_HZ, 0.4 * rate)
    lost_db = 60.0 * frames / rate / decay_s
    more = 10.0 ** (-lost_db * (1.0 / highs - 1.0) / 20.0)
    corner_hz = _corner_hz(float(more.min()), high_hz, rate)
    r = np.sqrt(np.clip(_shelf(more, corner_hz, high_hz, rate), 0.0, 1.0))
    c = 1.0 / math.tan(math.pi * corner_hz / rate)
    known = (math.tan(math.pi * KNOWN_HZ / rate) * c) ** 2
    gain = 10.0 ** (-lost_db / 20.0) * (1.0 + known) / (1.0 + r * r * known)
    filters = np.empty((LINES, 4))
    filters[:, GAIN] = np.minimum(gain, 0.99999)  # what loses nothing at 1 kHz may not gain below
    filters[:, B0], filters[:, B1] = (1.0 + r * c) / (1.0 + c), (1.0 - r * c) / (1.0 + c)
    filters[:, A1] = (1.0 - c) / (1.0 + c)
    return filters


@dataclass
class Memory:
    """What sounds in a room: rings of predelay, all-passes and lines, filters and places; see `run_room`."""

    before: Array
    thick: Array
    lines: Array
    filters: Array
    places: Counts

    carried = ("before", "thick", "lines", "filters", "places")

    @classmethod
    def of(cls, most_before: int, most_line: int, rate: int) -> "Memory":
        """One at rest, with room for so many frames of predelay and line."""

        def ring(rows: int, frames: int) -> Array:
            return np.zeros((rows, 1 << math.ceil(math.log2(frames + 1))))

        thick = ring(4, round(max(ALL_PASS_MS) * rate / 1000))
        return cls(ring(2, most_before), thick, ring(LINES, most_line), np.zeros((LINES, 4)), np.zeros(2, np.int64))


@kernel(
    "void(f8[:,::1], i8, i8[::1], i8[::1], f8[:,::1], i8, f8[:,::1], f8[:,::1], f8[:,::1], f8[:,::1], i8[::1],"
    " f8[:,::1])",
    makes_room=True,
)
def run_room(source, predelay, all_passes, frames, absorbs, silent, before, thick, lines, filters, places, out):
    """What a room makes of source (1 or 2, frames) into out (2, frames).

    predelay, all_passes (2,) and frames (LINES,): of predelay, all-passes and lines. absorbs (LINES, 4). After `silent`
    frames of silence all is at rest, and what comes out is silence to the bit. before, thick, lines: rings; filters
    (LINES, 4): of both shelves of a line what came and what left last; places: see above; all carried.
    """
    two = source.shape[0] == 2
    quiet, at = places[QUIET], places[WRITE]
    before_mask, thick_mask, mask = before.shape[1] - 1, thick.shape[1] - 1, lines.shape[1] - 1
    heard = np.empty(LINES)
    for i in range(source.shape[1]):
        x = source[0, i]
        y = source[1, i] if two else x
        quiet = 0 if x != 0.0 or y != 0.0 else quiet + 1
        if quiet > silent:
            if quiet == silent + 1:
                before[:], thick[:], lines[:], filters[:] = 0.0, 0.0, 0.0, 0.0
            out[0, i], out[1, i] = 0.0, 0.0
            at += 1
            continue
        before[0, at & before_mask], before[1, at & before_mask] = x, y
        x, y = before[0, (at - predelay) & before_mask], before[1, (at - predelay) & before_mask]
        for k in range(2):
            # An all-pass: out = -g in + (1 - g^2) of what has gone round.
            old = (at - all_passes[k]) & thick_mask
            to = at & thick_mask
            late, right = thick[2 * k, old], thick[2 * k + 1, old]
            thick[2 * k, to], thick[2 * k + 1, to] = x + ALL_PASS_GAIN * late, y + ALL_PASS_GAIN * right
            x, y = late - ALL_PASS_GAIN * thick[2 * k, to], right - ALL_PASS_GAIN * thick[2 * k + 1, to]
        left_sum, right_sum = 0.0, 0.0
        for k in range(LINES):
            value = lines[k, (at - frames[k]) & mask]
            # Signs that repeat after two and after four lines: both sums share nothing.
            left_sum += value if k & 1 == 0 else -value
            right_sum += value if k & 2 == 0 else -value
            b0, b1, a1 = absorbs[k, B0], absorbs[k, B1], absorbs[k, A1]
            once = b0 * value + b1 * filters[k, 0] - a1 * filters[k, 1]
            twice = b0 * once + b1 * filters[k, 1] - a1 * filters[k, 2]
            filters[k, 0], filters[k, 1], filters[k, 2] = value, once, twice
            heard[k] = absorbs[k, GAIN] * twice
        half = 1
        while half < LINES:
            for start in range(0, LINES, 2 * half):
                for k in range(start, start + half):
                    heard[k], heard[k + half] = heard[k] + heard[k + half], heard[k] - heard[k + half]
            half *= 2
        to = at & mask
        for k in range(LINES):
            lines[k, to] = 0.25 * heard[k] + (x if k & 4 == 0 else y)
        out[0, i], out[1, i] = left_sum, right_sum
        at += 1
    places[QUIET], places[WRITE] = min(quiet, silent + 2), at


def level(absorbs: Array) -> float:
    """What makes the power of a room's answer to noise about that of the noise, whatever its decay."""
    known = 1.0 - 10.0 ** (np.log10(absorbs[:, GAIN]).mean() * 2.0)
    return float(np.sqrt(known / LINES))
