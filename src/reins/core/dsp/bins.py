"""Gains over time and frequency: bands one equivalent rectangular bandwidth wide, smoothing over frequency, attack and
release of each bin by itself.

The number of ERBs below a frequency is 21.4 log10(1 + 0.00437 f), f in Hz (B. R. Glasberg, B. C. J. Moore, "Derivation
of auditory filter shapes from notched-noise data", Hearing Research 47, 1990).
"""

import math
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import brief, inlined, kernel

Array = npt.NDArray[np.float64]
Narrow = npt.NDArray[np.float32]
Counts = npt.NDArray[np.int64]
LEAST_POWER = 1e-20
PER_DB = math.log(10.0) / 20.0
LEAST_MOVED = 1e-12  # of power: what is under it is nothing


def erb_number(hz: Array) -> Array:
    """How many ERBs lie below a frequency."""
    return np.asarray(21.4 * np.log10(1.0 + 0.00437 * np.asarray(hz, np.float64)))


def erb_hz(number: Array) -> Array:
    """The frequency below which so many ERBs lie."""
    return np.asarray((10.0 ** (np.asarray(number, np.float64) / 21.4) - 1.0) / 0.00437)


def bins_hz(length: int, sample_rate: float) -> Array:
    """The middle of each bin of a transform of so many frames."""
    return np.asarray(np.arange(length // 2 + 1) * (sample_rate / length), np.float64)


@lru_cache(16)
def erb_edges(length: int, sample_rate: float) -> tuple[Counts, Array]:
    """Bands one ERB wide, side by side, none without a bin: where each begins among the bins, and its middle in Hz."""
    hz = bins_hz(length, sample_rate)
    numbers = np.floor(erb_number(hz)).astype(np.int64)
    begins = np.flatnonzero(np.diff(numbers, prepend=-1))
    ends = np.append(begins[1:], hz.size)
    return begins, np.array([hz[a:b].mean() for a, b in zip(begins, ends, strict=True)])


def erb_powers(power: Array, begins: Counts) -> Array:
    """Power in each ERB band (..., bands) of that in each bin (..., bins)."""
    return np.asarray(np.add.reduceat(power, begins, axis=-1))


def in_db(power: npt.NDArray[Any]) -> npt.NDArray[Any]:
    """Power in dB, as wide as it is given; silence is -200."""
    made = np.maximum(power, np.float32(LEAST_POWER))
    np.log10(made, out=made)
    made *= np.float32(10.0)
    return made


@lru_cache(16)
def _reach(bins: int, octaves: float) -> tuple[Counts, Counts, Array]:
    half = 2.0 ** (octaves / 2.0)
    place = np.arange(bins, dtype=np.float64)
    low = np.floor(place / half + 0.5).astype(np.int64)
    high = np.minimum(np.ceil(place * half - 0.5).astype(np.int64), bins - 1) + 1
    high = np.maximum(high, low + 1)
    return low, high, 1.0 / (high - low)


def smoothed(values: Narrow, octaves: float) -> Narrow:
    """Values (lanes, windows, bins) averaged over so much of an octave about each."""
    low, high, share = _reach(values.shape[-1], round(octaves, 4))
    made = np.empty_like(values)
    _smooth(values, low, high, share, np.empty(values.shape[-1] + 1), made)
    return made


@kernel("void(f4[:,:,::1], i8[::1], i8[::1], f8[::1], f8[::1], f4[:,:,::1])")
def _smooth(values, low, high, share, total, out):
    total[0] = 0.0
    for lane in range(values.shape[0]):
        for window in range(values.shape[1]):
            row, made = values[lane, window], out[lane, window]
            for i in range(row.size):
                total[i + 1] = total[i] + row[i]
            for i in range(row.size):
                made[i] = (total[high[i]] - total[low[i]]) * share[i]


@kernel("void(f4[:,:,::1], f4[:,::1], f4[::1], f4[:,::1], f4[:,:,::1], f4[:,:,::1])")
def follow(wanted, acts, ks, state, gains, exponents):
    """Gains (lanes, windows, bins) in dB, and what e is raised to for them as factors: wanted (lanes, or 1 for all,
    windows, bins) times acts (lanes, bins), as attack and release let them be, ks (2,). state (lanes, bins) is the gain
    there was last. What moves away from 0, or to the other side of it, attacks.
    """
    attack_k, release_k = ks
    per_db, least, none = np.float32(PER_DB), np.float32(1e-6), np.float32(0.0)
    for lane in range(gains.shape[0]):
        now, works = state[lane], acts[lane]
        for window in range(gains.shape[1]):
            row = wanted[min(lane, wanted.shape[0] - 1), window]
            made, exponent = gains[lane, window], exponents[lane, window]
            for i in range(row.size):
                g, t = now[i], works[i] * row[i]
                k = attack_k if abs(t) > abs(g) else release_k
                k = attack_k if t * g < none else k
                g += k * (t - g)
                g = g if abs(g) > least else none
                now[i] = g
                made[i] = g
                exponent[i] = g * per_db


#: By how much less than a tone, in dB, the window of dsp.stft reads so many bins beside it, wherever between two bins
#: the tone lies; and what is called as much.
LEAKS_DB = np.array([0.0, 0.0] + [-20.0 * np.log10(4.0 * (d - 0.5) ** 2 - 1.0) for d in range(2, 10)], np.float32)
AS_MUCH_DB = 3.0


@kernel("void(f4[:,:,::1], f4[::1], f4, f4[:,:,::1])")
def owned(level, leaks_db, as_much_db, out):
    """Level (lanes, windows, bins) of what each bin belongs to: its own, or that of a louder bin near by, where it
    reads no more than the window lets leak from there; so that all bins of a tone are moved together.
    """
    for lane in range(level.shape[0]):
        for window in range(level.shape[1]):
            row, made = level[lane, window], out[lane, window]
            for i in range(row.size):
                made[i] = row[i]
            for apart in range(1, leaks_db.size):
                leak, count = leaks_db[apart] + as_much_db, row.size - apart
                if count <= 0:
                    break
                lower, upper, low, high = row[:count], row[apart:], made[:count], made[apart:]
                for i in range(count):
                    a, b = lower[i], upper[i]
                    low[i] = max(low[i], b) if a <= b + leak else low[i]
                for i in range(count):
                    a, b = lower[i], upper[i]
                    high[i] = max(high[i], a) if b <= a + leak else high[i]


@kernel("void(f4[:,:,:,::1], f4[:,:,::1], f4[:,:,::1], f8[::1])", makes_room=True)
def scale(spectra, power, factor, left_db):
    """Spectra (lanes, windows, bins, 2), real and imaginary parts, times factors (lanes or 1, windows, bins), in place.
    left_db (windows,): how much of the power (lanes or 1 for all, windows, bins) that was there they leave.
    """
    before, after = np.empty((2, power.shape[2]), power.dtype)
    for window in range(power.shape[1]):
        before[:], after[:] = 0.0, 0.0
        for lane in range(power.shape[0]):
            row, by = power[lane, window], factor[min(lane, factor.shape[0] - 1), window]
            for i in range(row.size):
                before[i] += row[i]
                after[i] += row[i] * by[i] * by[i]
        for lane in range(spectra.shape[0]):
            parts, by = spectra[lane, window], factor[min(lane, factor.shape[0] - 1), window]
            for i in range(by.size):
                parts[i, 0] *= by[i]
                parts[i, 1] *= by[i]
        there = left = 0.0
        for i in range(before.size):  # one after the other, so of all lanes at once
            there += before[i]
            left += after[i]
        sounds = there > LEAST_MOVED
        left_db[window] = 10.0 * math.log10(max(left, LEAST_MOVED) / there) if sounds else 0.0


@brief("void(f8[::1], f8[::1], i8, i8, f8[::1], f8[::1])")
def each_for_a_hop(before, came, phase, hop, out, later):
    """out (frames,): each of what was told before and of what came for `hop` frames, the first `phase` of which are
    gone; later: what of both is told next, as much as before.
    """
    first, k, count = 0, 0, before.size
    while first < out.size:
        place = min(k, count + came.size - 1)
        value, end = before[place] if place < count else came[place - count], min(hop * (k + 1) - phase, out.size)
        for i in range(first, end):
            out[i] = value
        first, k = end, k + 1
    for i in range(count):
        place = i + came.size
        later[i] = before[place] if place < count else came[place - count]


@inlined
def _meet(power, key_power, begins, heard, ks, falls, state, now):
    """Of the power in each bin of one window of a strip and its key, what each band is now into now (2, bands); returns
    the loudest band of each as heard (bands,) of late. ks: how quickly a band rises; how quickly the loudness it is
    measured against grows, and shrinks. falls: by what a band falls at most. state (2, 2, bands): of each, now and of
    late.
    """
    rises, grows, shrinks = ks
    loudest, key_loudest = 0.0, 0.0
    for band in range(begins.size):
        end = begins[band + 1] if band + 1 < begins.size else power.size
        p = q = 0.0
        for i in range(begins[band], end):  # two sums beside each other: one waits for itself
            p += power[i]
            q += key_power[i]
        for own, came in ((0, p), (1, q)):
            quick, slow = state[own, 0, band], state[own, 1, band]
            quick = max(quick + rises * (came - quick), quick * falls)
            slow += (grows if came > slow else shrinks) * (came - slow)
            state[own, 0, band], state[own, 1, band] = quick, slow
            now[own, band] = quick
        loudest = max(loudest, state[0, 1, band] * heard[band])
        key_loudest = max(key_loudest, state[1, 1, band] * heard[band])
    return loudest, key_loudest


@lru_cache(16)
def from_bands(length: int, sample_rate: float, octaves: float) -> tuple[Counts, Narrow]:
    """What each bin takes of bands one ERB wide, straight from the middle of one to the next, averaged over so much of
    an octave about it: the first band it takes something of (bins,), how much of that and of those after (n, bins).
    """
    _, middles = erb_edges(length, sample_rate)
    at = np.clip(erb_number(bins_hz(length, sample_rate)), *erb_number(middles[[0, -1]]))
    straight = np.array([np.interp(at, erb_number(middles), one) for one in np.eye(middles.size)], np.float32)
    shares = smoothed(straight[None], octaves)[0]
    first = (shares != 0.0).argmax(axis=0)
    taken = int(((shares != 0.0).cumsum(axis=0).argmax(axis=0) - first).max()) + 1
    first = np.minimum(first, middles.size - taken)
    return first, np.take_along_axis(shares, first + np.arange(taken)[:, None], axis=0)


@inlined
def _spread(bands, ends, shares, out):
    """out (bins,) of bands (bands,), by shares (n, bins) of from_bands; ends (bands,): where among the bins those end
    whose first is that band: they go together, so that nothing is gathered.
    """
    begin = np.uint64(0)  # unsigned, and no part cut out: either takes longer than a part that is a few bins long
    for first in range(ends.size):
        end = np.uint64(ends[first])
        for i in range(begin, end):
            out[i] = 0.0
        for k in range(shares.shape[0]):
            value = bands[first + k]
            for i in range(begin, end):
                out[i] += value * shares[k, i]
        begin = end


@kernel(
    "void(f4[:,::1], f4[:,::1], i8[::1], f8[::1], f8[::1], f8, f8[:,:,::1], f8[::1], f8[::1], i8[::1], f4[:,::1], "
    "f4[:,::1])",
    makes_room=True,
)
def where_both(power, key_power, begins, heard, ks, falls, state, params, depths, ends, shares, out):
    """How far a strip and its key (each windows, bins) are both strong, in bands of bins; into out (windows, bins)
    by shares of from_bands (see _spread): amount, times the depth of the band, where they are within a margin of each
    other, each against its own loudest band, nothing `beyond` further, straight between; nothing where the key is
    silent or either far under its own loudest. params: amount, margin and beyond in dB; silent, far and the quietest
    loudness that counts as power. state (2, 2, bands): see _meet.
    """
    amount, margin, beyond, silent, far, quietest = params
    now, bands = np.empty((2, begins.size)), np.empty(begins.size, np.float32)
    for window in range(power.shape[0]):
        own, other = _meet(power[window], key_power[window], begins, heard, ks, falls, state, now)
        own, other = max(own, quietest), max(other, quietest)
        for band in range(begins.size):
            mine, its = max(now[0, band], LEAST_POWER), max(now[1, band], LEAST_POWER)
            bands[band] = 0.0
            if its > silent and its > far * other and mine > far * own:
                apart_db = 10.0 * math.log10((mine * other) / (its * own))  # one logarithm: most of what it costs
                bands[band] = amount * depths[band] * min(1.0, max(0.0, 1.0 - (abs(apart_db) - margin) / beyond))
        _spread(bands, ends, shares, out[window])


@kernel("void(f4[:,:,::1], f4[::1], f4, f4[::1], f4[::1], f4[:,:,::1])")
def curve(level, threshold, tied, fades, params, gain):
    """The gain in dB into gain (lanes, windows, bins) for levels over a threshold (bins,); tied: how far each lane goes
    by the louder of both. params: how steep it is held, knee, range; how steep the rest is lifted, range; closed,
    range. fades (bins,): how much of a lift there is.

    The knee is quadratic, as a compressor's (D. Giannoulis, M. Massberg, J. D. Reiss 2012).
    """
    held, knee, most, lifted, most_lifted, closed, most_closed = params
    half, least = 0.5 * knee, 1e-6
    lanes = level.shape[0]
    for lane in range(lanes):
        for window in range(level.shape[1]):
            row, other, made = level[lane, window], level[lanes - 1 - lane, window], gain[lane, window]
            for i in range(row.size):
                x = row[i] + tied * (max(row[i], other[i]) - row[i]) - threshold[i]
                inside = min(max(x + half, 0.0), knee)
                bent = inside * inside / (2.0 * max(knee, least))
                above = x if x >= half else bent
                inside = min(max(half - x, 0.0), knee)
                bent = inside * inside / (2.0 * max(knee, least))
                below = -x if -x >= half else bent
                down = min(held * above, most) + min(closed * below, most_closed)
                made[i] = min(lifted * below, most_lifted) * fades[i] - down
