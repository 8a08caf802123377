"""A raised rate for what bends: up and down by half-band filters, all of it late by the same whole number of frames,
whatever the rate is raised by, so that another rate is no other latency.

The filters are finer than those of processors.oversampling: within 0.05 dB to 20 kHz at 44.1 kHz, 100 dB down from the
rate less 20 kHz on. They work in numbers of 24 bits, at twice the speed: what they round lies 138 dB under what is
driven, and what is bent is only added to the sound, which does not pass here.

At the raised rate a signal lies in planes (channels, times, frames), sample times * f + p of it at [p, f]. A half-band
filter of P planes makes 2 P of them: the odd ones are planes it was given, earlier or later by whole frames, and each
tap of the even ones reads along such a plane. So nothing is ever woven together or picked apart, and all loops run
along neighbours. Each array of planes begins with as many frames gone by as
what reads it looks back; those are kept from block to block.
"""

import threading
from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import inlined, roomy
from reins.core.dsp.halfband import equal_ripple_taps

Array = npt.NDArray[np.float64]
Planes = npt.NDArray[np.float32]
#: By the least rate: what share of it is passed, 20 kHz at 44.1 and at 48 kHz; and the reach of each doubling's filter,
#: from the base rate up. What is to be taken out lies 103 dB down, or further.
FILTERS = ((47000, 20.0 / 48.0, (37, 15, 7, 5)), (0, 20.0 / 44.1, (67, 13, 7, 5)))
TIMES = (1, 2, 4, 8, 16)
TILE = 1024  # frames worked on at a time
MOST_FRAMES = 8192  # on the way at once
PAGE, BESIDE = 1024, 272  # samples of a page of memory; and how far beyond whole ones planes lie apart


def _filters_frames(times: int, reaches: tuple[int, ...]) -> int:
    """Frames of the higher rate that both ways take."""
    return 2 * sum(reach * (times >> stage) for stage, reach in enumerate(reaches[: times.bit_length() - 1], start=1))


#: How late what comes down again is, in frames of the base rate, whatever that is.
LATENCY_FRAMES = max(-(-_filters_frames(times, reaches) // times) for times in TIMES for _, _, reaches in FILTERS)


@inlined
def bits_of(planes):
    """By how many bits a number of planes, some power of two, stands."""
    bits = 0
    while planes > 1:
        planes, bits = planes >> 1, bits + 1
    return bits


@inlined
def lies(place, first, bits, width):
    """Where in a channel's 2^bits planes, `width` samples apart in one row, that lies what a place, counted in samples
    from the first of the frame `first`, falls into. Loops read from there on in the row itself: to cut out a part for
    each took as long as 300 samples take. It is unsigned, as all that such loops count by: that needs no look whether
    it counts from the end.
    """
    return np.uint64((place & ((1 << bits) - 1)) * width + first + (place >> bits))


@inlined
def sum_mirrored(row, bits, width, first, newest, oldest, apart, taps, middle, share, made, at, n):
    """Put into n samples of made, from `at` on, `share` of those of row from `middle` on and each tap times the sum of
    the two samples it stands for: `newest` and every apart-th before it, `oldest` and every apart-th after it, places
    as for `lies`. Four taps at once, those that are left over first: what is made passes through the memory seldom.
    """
    j = (taps.size - 1) % 4 + 1
    a, b, h = lies(newest, first, bits, width), lies(oldest, first, bits, width), taps[0]
    c, d, g = lies(newest - apart, first, bits, width), lies(oldest + apart, first, bits, width), taps[min(1, j - 1)]
    newer, older = newest - 2 * apart, oldest + 2 * apart
    e, f, k = lies(newer, first, bits, width), lies(older, first, bits, width), taps[min(2, j - 1)]
    newer, older = newer - apart, older + apart
    o, p, m = lies(newer, first, bits, width), lies(older, first, bits, width), taps[min(3, j - 1)]
    if j == 1:
        for i in range(n):
            made[at + i] = share * row[middle + i] + h * (row[a + i] + row[b + i])
    elif j == 2:
        for i in range(n):
            made[at + i] = share * row[middle + i] + (h * (row[a + i] + row[b + i]) + g * (row[c + i] + row[d + i]))
    elif j == 3:
        for i in range(n):
            two = h * (row[a + i] + row[b + i]) + g * (row[c + i] + row[d + i])
            made[at + i] = (share * row[middle + i] + two) + k * (row[e + i] + row[f + i])
    else:
        for i in range(n):
            two = h * (row[a + i] + row[b + i]) + g * (row[c + i] + row[d + i])
            more = k * (row[e + i] + row[f + i]) + m * (row[o + i] + row[p + i])
            made[at + i] = (share * row[middle + i] + two) + more
    while j < taps.size:
        newer, older = newest - apart * j, oldest + apart * j
        a, b, h = lies(newer, first, bits, width), lies(older, first, bits, width), taps[j]
        newer, older = newer - apart, older + apart
        c, d, g = lies(newer, first, bits, width), lies(older, first, bits, width), taps[j + 1]
        newer, older = newer - apart, older + apart
        e, f, k = lies(newer, first, bits, width), lies(older, first, bits, width), taps[j + 2]
        newer, older = newer - apart, older + apart
        o, p, m = lies(newer, first, bits, width), lies(older, first, bits, width), taps[j + 3]
        for i in range(n):
            two = h * (row[a + i] + row[b + i]) + g * (row[c + i] + row[d + i])
            made[at + i] = (made[at + i] + two) + (k * (row[e + i] + row[f + i]) + m * (row[o + i] + row[p + i]))
        j += 4


@inlined
def begin_with(gone, out):
    """Put what is gone by (channels, planes, past) at the beginning of out."""
    for channel in range(gone.shape[0]):
        for plane in range(gone.shape[1]):
            for i in range(gone.shape[2]):
                out[channel, plane, i] = gone[channel, plane, i]


@inlined
def keep_last(gone, out, frames):
    """Keep the end of out, `frames` beyond what is gone by, which is next gone by."""
    for channel in range(gone.shape[0]):
        for plane in range(gone.shape[1]):
            for i in range(gone.shape[2]):
                gone[channel, plane, i] = out[channel, plane, frames + i]


@inlined
def enter(signal, by, out, gone):
    """out (channels, 1, past + frames or more) from signal (channels, frames), made so many times louder."""
    past, frames = gone.shape[2], signal.shape[1]
    begin_with(gone, out)
    for channel in range(signal.shape[0]):
        row, made = signal[channel], out[channel, 0, past:]
        for i in range(row.size):
            made[i] = row[i] * by
    keep_last(gone, out, frames)


@roomy
def double(planes, past, frames, taps, out, gone):
    """out (channels, 2 P, its past + frames) from planes (channels, P, past + frames); gone: what out begins with."""
    count, reach, out_past, twice = planes.shape[1], 2 * taps.size - 1, gone.shape[2], taps + taps
    width, out_width, bits, none = planes.shape[2], out.shape[2], bits_of(count), taps.dtype.type(0.0)
    begin_with(gone, out)
    for channel in range(planes.shape[0]):
        row, made = planes[channel].reshape(-1), out[channel].reshape(-1)
        for start in range(0, frames, TILE):
            n, first = np.uint64(min(TILE, frames - start)), past + start
            for p in range(count):
                even = np.uint64(2 * p * out_width + out_past + start)
                odd, given = even + np.uint64(out_width), lies(p - (reach - 1) // 2, first, bits, width)
                for i in range(n):
                    made[odd + i] = row[given + i]
                sum_mirrored(row, bits, width, first, p, p - reach, 1, twice, given, none, made, even, n)
    keep_last(gone, out, frames)


@inlined
def halve(planes, past, frames, wait, taps, out, gone):
    """out (channels, P, its past + frames) from planes (channels, 2 P, past + frames), `wait` of their samples late."""
    count, reach, out_past = planes.shape[1], 2 * taps.size - 1, gone.shape[2]
    width, out_width, bits = planes.shape[2], out.shape[2], bits_of(count)
    half = taps.dtype.type(0.5)  # as wide as all else: a wider number would make each product so
    begin_with(gone, out)
    for channel in range(planes.shape[0]):
        row, made = planes[channel].reshape(-1), out[channel].reshape(-1)
        for start in range(0, frames, TILE):
            n, first = np.uint64(min(TILE, frames - start)), past + start
            for p in range(count // 2):
                newest, at = 2 * p - wait, np.uint64(p * out_width + out_past + start)
                odd = lies(newest - reach, first, bits, width)
                sum_mirrored(row, bits, width, first, newest, newest - 2 * reach, 2, taps, odd, half, made, at, n)
    keep_last(gone, out, frames)


def _width(least):
    """At least so many frames of a plane, one whose neighbours do not lie whole pages apart: for what is written there
    and read here a processor tells apart by their places within a page.
    """
    return least + (BESIDE - least) % PAGE


width_of = inlined(_width)  # which only kernels may call


def _step(flat, begin, channels, planes, width):
    """The array of one step of the way, of those that lie behind one another in flat; and where the next begins."""
    end = begin + channels * planes * width
    return flat[begin:end].reshape((channels, planes, width)), end


step = roomy(_step)


@roomy
def rise(signal, k, steps, taps, counts, gone, room):
    """The way up by so many doublings as there are counts, of k times signal: the planes there, how many frames before
    come first in them, how many taps were used and where the arrays of the next step begin in room and gone.
    """
    channels, frames = signal.shape
    planes, before = steps[0]
    source, end = step(room, 0, channels, planes, width_of(before + frames))
    past, past_end = step(gone, 0, channels, planes, before)
    enter(signal, k, source, past)
    first_tap = 0
    for at in range(counts.size):
        planes, own = steps[at + 1]
        made, end = step(room, end, channels, planes, width_of(own + frames))
        past, past_end = step(gone, past_end, channels, planes, own)
        double(source, before, frames, taps[first_tap : first_tap + counts[at]], made, past)
        first_tap += counts[at]
        source, before = made, own
    return source, before, first_tap, end, past_end


@roomy
def turn(frames, steps, counts, gone, room, channels, end, past_end):
    """Where what is made there goes, what is gone by of it, and where the next begin."""
    planes, own = steps[counts.size + 1]
    made, end = step(room, end, channels, planes, width_of(own + frames))
    past, past_end = step(gone, past_end, channels, planes, own)
    return made, past, end, past_end


@roomy
def fall(source, k, steps, taps, counts, wait, gone, room, used, out):
    """The way down from what was made there, over k, into out (channels, frames); used: as rise and turn left them."""
    channels, frames = out.shape
    first_tap, end, past_end = used
    before = steps[counts.size + 1, 1]
    for at in range(counts.size):
        planes, own = steps[counts.size + 2 + at]
        made, end = step(room, end, channels, planes, width_of(own + frames))
        past, past_end = step(gone, past_end, channels, planes, own)
        count = counts[counts.size - 1 - at]
        first_tap -= count
        late = wait if at == 0 else 0
        halve(source, before, frames, late, taps[first_tap : first_tap + count], made, past)
        source, before = made, own
    for channel in range(channels):
        row, result = source[channel, 0], out[channel]
        for i in range(frames):
            result[i] = row[i] * (1.0 / k)


def in_parts(signal: Array, made_of: Callable[[Array], Array]) -> Array:
    """What is made of a signal (channels, frames), in pieces: at the raised rate a long block would need as many times
    its memory.
    """
    if signal.shape[1] <= MOST_FRAMES:
        return made_of(signal)
    starts = range(0, signal.shape[1], MOST_FRAMES)
    return np.concatenate([made_of(np.ascontiguousarray(signal[:, at : at + MOST_FRAMES])) for at in starts], axis=1)


NO_ROOM = np.zeros(0, np.float32)
_HERE = threading.local()


class Way:
    """To so many times the rate, and back: what each step has gone by, and its place."""

    carried = ("gone",)

    def __init__(self, channels: int, sample_rate: int, times: int) -> None:
        stages = range(times.bit_length() - 1)
        passed, reaches = next((passed, reaches) for rate, passed, reaches in FILTERS if sample_rate >= rate)
        # Those further up take the images of all that the first one leaves, what it passes in part too.
        edges = [passed if s == 0 else 1.0 - passed for s in stages]
        taps = [equal_ripple_taps(reaches[s], edges[s] / (2 << s)).astype(np.float32) for s in stages]
        self.taps = np.concatenate([np.zeros(0, np.float32), *taps])
        self.counts = np.array([own.size for own in taps], np.int64)
        self.wait = wait = LATENCY_FRAMES * times - _filters_frames(times, reaches)
        # Planes and frames gone by of each array on the way: up, the last of which the curve reads, and down, the first
        # of which it writes; there all else that is waited for is waited for.
        up = [(1 << s, -(-reaches[s] // (1 << s))) for s in stages] + [(times, 1)]
        down = [(2 << s, -(-(2 * reaches[s] + (wait if s == stages[-1] else 0)) // (2 << s))) for s in reversed(stages)]
        self.steps = np.array([*up, *down, (1, 0)] if down else [*up, (1, wait)], np.int64)
        self.gone = np.zeros(channels * int((self.steps[:, 0] * self.steps[:, 1]).sum()), np.float32)
        self._channels, self._frames, self._room_size = channels, 0, 0

    def room(self, frames: int) -> Planes:
        """Where all steps find place for so many frames; shared by all that is raised in a thread."""
        if frames != self._frames:
            widths = [int(planes) * _width(int(past) + frames) for planes, past in self.steps]
            self._frames, self._room_size = frames, self._channels * sum(widths)
        if getattr(_HERE, "room", NO_ROOM).size < self._room_size:
            _HERE.room = np.empty(self._room_size, np.float32)
        room: Planes = _HERE.room
        return room

    def driven(self) -> Planes:
        """What the curve was given last (channels, times, frames), as long as nothing else is raised in this thread."""
        turn, begin = self.counts.size, 0
        for planes, past in self.steps[: turn + 1].tolist():
            found, begin = _step(_HERE.room, begin, self._channels, planes, _width(past + self._frames))
        return found[:, :, past : past + self._frames]
