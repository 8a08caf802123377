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


def smoothed(values: Narrow, octaves: float, acts: Narrow) -> Narrow:
    """Values (lanes, windows, bins) averaged over so much of an octave about each, times acts (bins,)."""
    low, high, share = _reach(values.shape[-1], round(octaves, 4))
    made = np.empty_like(values)
    _smooth(values, low, high, share, acts, np.empty(values.shape[-1] + 1), made)
    return made


@kernel("void(f4[:,:,::1], i8[::1], i8[::1], f8[::1], f4[::1], f8[::1], f4[:,:,::1])")
def _smooth(values, low, high, share, acts, total, out):
    total[0] = 0.0
    for lane in range(values.shape[0]):
        for window in range(values.shape[1]):
            row, made = values[lane, window], out[lane, window]
            for i in range(row.size):
                total[i + 1] = total[i] + row[i]
            for i in range(row.size):
                made[i] = acts[i] * (total[high[i]] - total[low[i]]) * share[i]


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


@kernel("void(f4[:,:,::1], f4, f4, f4[:,::1])")
def follow(gains, attack_k, release_k, state):
    """Gains wanted (lanes, windows, bins), in dB, as attack and release let them be; in place. state (lanes, bins) is
    the gain there was last. What moves away from 0, or to the other side of it, attacks.
    """
    for lane in range(gains.shape[0]):
        now = state[lane]
        for window in range(gains.shape[1]):
            wanted = gains[lane, window]
            for i in range(wanted.size):
                g, t = now[i], wanted[i]
                k = attack_k if abs(t) > abs(g) or t * g < 0.0 else release_k
                g += k * (t - g)
                now[i] = g if abs(g) > 1e-6 else 0.0
                wanted[i] = now[i]


@kernel("void(f4[:,:,:,::1], f4[:,:,::1], f4[:,:,::1], f8[::1])")
def scale(spectra, power, factor, left_db):
    """Spectra (lanes, windows, bins, 2), real and imaginary parts, times factors (lanes or 1, windows, bins), in place.
    left_db (windows,): how much of the power (lanes, windows, bins) that was there they leave.
    """
    for window in range(power.shape[1]):
        there = left = 0.0
        for lane in range(power.shape[0]):
            row, by = power[lane, window], factor[min(lane, factor.shape[0] - 1), window]
            parts = spectra[lane, window]
            for i in range(row.size):
                there += row[i]
                left += row[i] * by[i] * by[i]
            for i in range(row.size):
                parts[i, 0] *= by[i]
                parts[i, 1] *= by[i]
        sounds = there > LEAST_MOVED
        left_db[window] = 10.0 * math.log10(max(left, LEAST_MOVED) / there) if sounds else 0.0


@brief("void(f8[::1], i8, i8, f8[::1])")
def each_for_a_hop(told, phase, hop, out):
    """out (frames,): each of told for `hop` frames, the first `phase` of which are gone."""
    for i in range(out.size):
        out[i] = told[min((phase + i) // hop, told.size - 1)]


@inlined
def _against_own(power, window, begins, heard, ks, falls, state, now):
    """Of the power of one window (lanes, windows, bins), the louder lane in each bin, what each band is now into now
    (bands,); returns the loudest as heard (bands,) of late. ks: how quickly a band rises; how quickly the loudness it
    is measured against grows, and shrinks. falls: by what a band falls at most. state (2, bands): now and of late.
    """
    rises, grows, shrinks = ks
    lanes, bins, loudest = power.shape[0], power.shape[2], 0.0
    one, other = power[0, window], power[lanes - 1, window]
    for band in range(begins.size):
        end = begins[band + 1] if band + 1 < begins.size else bins
        p = 0.0
        for i in range(begins[band], end):
            p += max(one[i], other[i])
        quick, slow = state[0, band], state[1, band]
        quick = max(quick + rises * (p - quick), quick * falls)
        slow += (grows if p > slow else shrinks) * (p - slow)
        state[0, band], state[1, band] = quick, slow
        now[band] = quick
        loudest = max(loudest, slow * heard[band])
    return loudest


@inlined
def _db(power):
    return 10.0 * math.log10(max(power, LEAST_POWER))


@kernel("void(f4[:,:,::1], f4[:,:,::1], i8[::1], f8[::1], f8[::1], f8, f8[:,:,::1], f8[::1], f8[:,::1])")
def where_both(power, key_power, begins, heard, ks, falls, state, params, bands):
    """How far a strip and its key (each lanes, windows, bins) are both strong, in bands of bins, into bands (windows,
    bands): amount where they are within a margin of each other, each against its own loudest band, nothing `beyond`
    further, straight between; nothing where the key is silent or either far under its own loudest. params: amount,
    margin, beyond, silent, far, the quietest loudness that counts, as power. state (2, 2, bands): see _against_own.
    """
    amount, margin, beyond, silent, far, quietest = params
    now = np.empty((2, begins.size))
    for window in range(power.shape[1]):
        own = _against_own(power, window, begins, heard, ks, falls, state[0], now[0])
        other = _against_own(key_power, window, begins, heard, ks, falls, state[1], now[1])
        own_db, other_db = _db(max(own, quietest)), _db(max(other, quietest))
        for band in range(begins.size):
            key_db = _db(now[1, band])
            near, key_near = _db(now[0, band]) - own_db, key_db - other_db
            share = min(1.0, max(0.0, 1.0 - (abs(near - key_near) - margin) / beyond))
            counts = key_db > silent and key_near > -far and near > -far
            bands[window, band] = amount * share if counts else 0.0


@kernel("void(f8[:,::1], i8[::1], f8[::1], f4[:,::1])")
def between(values, low, share, out):
    """out (windows, n): straight between values (windows, bands): so much of the one after `low` as share says."""
    for window in range(values.shape[0]):
        row, made = values[window], out[window]
        for i in range(low.size):
            made[i] = row[low[i]] + share[i] * (row[low[i] + 1] - row[low[i]])


@kernel("void(f4[:,:,::1], f4[::1], f4, f4[::1], f4[::1], f4[:,:,::1])")
def curve(level, threshold, tied, fades, params, gain):
    """The gain in dB into gain (lanes, windows, bins) for levels over a threshold (bins,); tied: how far each lane goes
    by the louder of both. params: how steep it is held, knee,
    range; how steep the rest is lifted, range; closed, range. fades (bins,): how much of a lift there is.

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
