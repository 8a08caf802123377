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

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import inlined, kernel
from reins.core.dsp.halfband import half_band_taps

Array = npt.NDArray[np.float64]
Planes = npt.NDArray[np.float32]
Bend = Callable[[Planes, Planes, Planes], None]
REACHES = (71, 15, 11, 9)  # of each doubling, from the base rate up
ATTENUATIONS_DB = (103.0, 105.0, 94.0, 111.0)  # each one's window; what comes of it lies 102 dB down, or further
TIMES = (1, 2, 4, 8, 16)
TILE = 1024  # frames worked on at a time


def _filters_frames(times: int) -> int:
    """Frames of the higher rate that both ways take."""
    return 2 * sum(reach * (times >> stage) for stage, reach in enumerate(REACHES[: times.bit_length() - 1], start=1))


#: How late what comes down again is, in frames of the base rate.
LATENCY_FRAMES = max(-(-_filters_frames(times) // times) for times in TIMES)


@inlined
def _add_mirrored(row, first, newest, oldest, apart, taps, made):
    """Add each tap times the sum of the two samples it stands for: `newest` and every apart-th before it, `oldest` and
    every apart-th after it, both counted in samples from the first of the frame `first`; row (planes, frames), made
    (frames,) from `first` on.
    """
    planes, n = row.shape[0], made.size
    for j in range(taps.size):
        newer, older = newest - apart * j, oldest + apart * j
        a, b = row[newer % planes, first + newer // planes :][:n], row[older % planes, first + older // planes :][:n]
        h = taps[j]
        for i in range(n):
            made[i] += h * (a[i] + b[i])


@inlined
def begin_with(gone, out):
    """Put what is gone by (channels, planes, past) at the beginning of out."""
    for channel in range(gone.shape[0]):
        for plane in range(gone.shape[1]):
            for i in range(gone.shape[2]):
                out[channel, plane, i] = gone[channel, plane, i]


@inlined
def keep_last(gone, out):
    """Keep the end of out, which is next gone by."""
    later = out.shape[2] - gone.shape[2]
    for channel in range(gone.shape[0]):
        for plane in range(gone.shape[1]):
            for i in range(gone.shape[2]):
                gone[channel, plane, i] = out[channel, plane, later + i]


@kernel("void(f8[:,::1], f4[:,:,::1], f4[:,:,::1])")
def enter(signal, out, gone):
    """out (channels, 1, past + frames) from signal (channels, frames)."""
    past = gone.shape[2]
    begin_with(gone, out)
    for channel in range(signal.shape[0]):
        row, made = signal[channel], out[channel, 0, past:]
        for i in range(row.size):
            made[i] = row[i]
    keep_last(gone, out)


@kernel("void(f4[:,:,::1], f4[::1], f4[:,:,::1], f4[:,:,::1])")
def double(planes, taps, out, gone):
    """out (channels, 2 P, its past + frames) from planes (channels, P, past + frames); gone: what out begins with."""
    count, frames, reach = planes.shape[1], out.shape[2] - gone.shape[2], 2 * taps.size - 1
    past, out_past, twice = planes.shape[2] - frames, gone.shape[2], taps + taps
    begin_with(gone, out)
    for channel in range(planes.shape[0]):
        row = planes[channel]
        for start in range(0, frames, TILE):
            n, first = min(TILE, frames - start), past + start
            for p in range(count):
                even, odd = out[channel, 2 * p, out_past + start :][:n], out[channel, 2 * p + 1, out_past + start :][:n]
                middle = p - (reach - 1) // 2
                given = row[middle % count, first + middle // count :][:n]
                for i in range(n):
                    even[i] = 0.0
                    odd[i] = given[i]
                _add_mirrored(row, first, p, p - reach, 1, twice, even)
    keep_last(gone, out)


@kernel("void(f4[:,:,::1], i8, f4[::1], f4[:,:,::1], f4[:,:,::1])")
def halve(planes, wait, taps, out, gone):
    """out (channels, P, its past + frames) from planes (channels, 2 P, past + frames), `wait` of their samples late."""
    count, frames, reach = planes.shape[1], out.shape[2] - gone.shape[2], 2 * taps.size - 1
    past, out_past = planes.shape[2] - frames, gone.shape[2]
    half = taps.dtype.type(0.5)  # as wide as all else: a wider number would make each product so
    begin_with(gone, out)
    for channel in range(planes.shape[0]):
        row = planes[channel]
        for start in range(0, frames, TILE):
            n, first = min(TILE, frames - start), past + start
            for p in range(count // 2):
                newest, middle = 2 * p - wait, 2 * p - wait - reach
                made, odd = out[channel, p, out_past + start :][:n], row[middle % count, first + middle // count :][:n]
                for i in range(n):
                    made[i] = half * odd[i]
                _add_mirrored(row, first, newest, newest - 2 * reach, 2, taps, made)
    keep_last(gone, out)


class Raised:
    """A signal's way to so many times the rate, and back."""

    carried = ("_gone",)

    def __init__(self, channels: int, times: int) -> None:
        stages = range(times.bit_length() - 1)
        self._taps = [half_band_taps(REACHES[s], ATTENUATIONS_DB[s]).astype(np.float32) for s in stages]
        self._wait = wait = LATENCY_FRAMES * times - _filters_frames(times)
        # Planes and frames gone by of each array on the way: up, the last of which the curve reads, and down, the first
        # of which it writes; there all else that is waited for is waited for.
        up = [(1 << s, -(-REACHES[s] // (1 << s))) for s in stages] + [(times, 1)]
        down = [(2 << s, -(-(2 * REACHES[s] + (wait if s == stages[-1] else 0)) // (2 << s))) for s in reversed(stages)]
        ways = [*up, *down, (1, 0)] if down else [*up, (1, wait)]
        self._gone = [np.zeros((channels, planes, past), np.float32) for planes, past in ways]
        self._room: list[Planes] = []
        self._room_frames = -1

    def _room_for(self, frames: int) -> list[Planes]:
        """An array for each step of the way, the same ones as long as blocks are as long."""
        if frames != self._room_frames:
            shapes = [(channels, planes, past + frames) for channels, planes, past in (g.shape for g in self._gone)]
            self._room, self._room_frames = [np.empty(shape, np.float32) for shape in shapes], frames
        return self._room

    def process(self, signal: Array, bend: Bend) -> Array:
        """The next (channels, n), LATENCY_FRAMES late, bent on the way: bend is called as bend(driven, out, gone), with
        driven (channels, times, 1 + n), the frame before first; out begins with gone, as in double and halve.
        """
        frames, stages, room = signal.shape[1], len(self._taps), self._room_for(signal.shape[1])
        enter(signal, room[0], self._gone[0])
        for at, taps in enumerate(self._taps, start=1):
            double(room[at - 1], taps, room[at], self._gone[at])
        bend(room[stages], room[stages + 1], self._gone[stages + 1])
        wait = self._wait
        for at, taps in enumerate(reversed(self._taps), start=stages + 2):
            halve(room[at - 1], wait, taps, room[at], self._gone[at])
            wait = 0
        return room[-1][:, 0, :frames].astype(np.float64)
