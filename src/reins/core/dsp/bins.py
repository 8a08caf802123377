"""Gains over time and frequency: bands one equivalent rectangular bandwidth wide, smoothing over frequency, attack and
release of each bin by itself.

The number of ERBs below a frequency is 21.4 log10(1 + 0.00437 f), f in Hz (B. R. Glasberg, B. C. J. Moore, "Derivation
of auditory filter shapes from notched-noise data", Hearing Research 47, 1990).
"""

from functools import lru_cache

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import kernel

Array = npt.NDArray[np.float64]
Counts = npt.NDArray[np.int64]
LEAST_POWER = 1e-20


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


def in_db(power: Array) -> Array:
    """Power in dB; silence is -200."""
    return np.asarray(10.0 * np.log10(np.maximum(power, LEAST_POWER)))


@lru_cache(16)
def _reach(bins: int, octaves: float) -> tuple[Counts, Counts]:
    half = 2.0 ** (octaves / 2.0)
    place = np.arange(bins, dtype=np.float64)
    low = np.floor(place / half + 0.5).astype(np.int64)
    high = np.minimum(np.ceil(place * half - 0.5).astype(np.int64), bins - 1) + 1
    return low, np.maximum(high, low + 1)


def smoothed(values: Array, octaves: float) -> Array:
    """Values (..., bins) averaged over so much of an octave about each."""
    if octaves <= 0.0:
        return values
    low, high = _reach(values.shape[-1], round(octaves, 4))
    total = np.concatenate([np.zeros((*values.shape[:-1], 1)), np.cumsum(values, axis=-1)], axis=-1)
    return np.asarray((total[..., high] - total[..., low]) / (high - low))


#: By how much less than a tone, in dB, the window of dsp.stft reads so many bins beside it, wherever between two bins
#: the tone lies; and what is called as much.
LEAKS_DB = np.array([0.0, 0.0] + [-20.0 * np.log10(4.0 * (d - 0.5) ** 2 - 1.0) for d in range(2, 10)])
AS_MUCH_DB = 3.0


@kernel("void(f8[:,:,::1], f8[::1], f8, f8[:,:,::1])")
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


@kernel("void(f8[:,:,::1], f8, f8, f8[:,::1])")
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
                now[i] = g if abs(g) > 1e-9 else 0.0
                wanted[i] = now[i]
