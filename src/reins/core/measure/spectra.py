"""Spectra: of a moment, of a whole take, and of every moment of it (the map).

Calibrated: a full-scale sine reads 0 dB. A level is that of the third octave around a frequency (edges a sixth of an
octave away, by ten to the three tenths: IEC 61260), so that it is read like a band's threshold, and pink noise lies
flat; for display it is weighed so that a sine peaks where it is. Hann windows; lows are seen through long ones, highs
through short ones that follow quick changes. Channels count by their mean power. The sum over a band is taken over
the bins between its edges, parts of a bin included, and over no fewer than a sine spreads over.
"""

import math
from collections.abc import Callable, Iterator
from functools import cache
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp.octaves import OCTAVE, TWELFTHS_HZ
from reins.core.dsp.stft import transforms
from reins.core.sound import Sound

Array = npt.NDArray[np.float64]
Floats = npt.NDArray[np.float32]

PER_OCTAVE = 24
#: Where spectra are read: quarter tones from 20 Hz to 20 kHz, A4 = 440 Hz (ISO 16) among them.
POINTS_HZ = 440.0 * 2.0 ** (np.arange(-107, 133) / PER_OCTAVE)
MAP_PER_OCTAVE = 12
MAP_HZ = 20.0 * 2.0 ** ((np.arange(120) + 0.5) / MAP_PER_OCTAVE)  # rows of the map, 20 Hz to 20 kHz
FLOOR_DB = -120.0
SEAM_HZ = 400.0  # below, the long window
LONG_S, SHORT_S = 0.34, 0.043
# Spectra have a third window, longer still, below LOWEST_HZ, and the short one only from LOW_HZ on: so a third of an
# octave is never less than six bins.
LOWEST_HZ, LOWEST_S, LOW_HZ = 100.0, 1.37, 600.0
HANN_SPREAD = 1.5  # a Hann window's noise bandwidth in bins
LEAST_BINS = 4.0
PEAK_STEPS = 8
FEED_FRAMES = 1 << 17
LONG_EVERY, LOWEST_EVERY = 3, 6
FAST_S = 0.125
THINNED = 8  # lows of the map are computed at an eighth of the rate


@cache
def window_frames(sample_rate: int) -> tuple[int, int]:
    """Frames of the long and the short window: powers of two near LONG_S and SHORT_S."""
    long_, short = (2 ** round(np.log2(seconds * sample_rate)) for seconds in (LONG_S, SHORT_S))
    return int(long_), int(short)


@cache
def _lowest_frames(sample_rate: int) -> int:
    return int(2 ** round(np.log2(LOWEST_S * sample_rate)))


@cache
def _window(frames: int) -> Floats:
    return (0.5 - 0.5 * np.cos(2.0 * np.pi * np.arange(frames) / frames)).astype(np.float32)


def bin_powers(frames: npt.NDArray[np.floating[Any]]) -> Floats:
    """Power in each bin of windowed frames (..., n): a sine of amplitude a adds up to a squared over its bins."""
    n = frames.shape[-1]
    lines = transforms().rfft(frames.astype(np.float32, copy=False) * _window(n))
    scale = np.float32(16.0 / (n * n) / HANN_SPREAD)
    return np.asarray((lines.real**2 + lines.imag**2) * scale)


@cache
def _weights(
    frames: int, sample_rate: int, points_hz: tuple[float, ...], per_octave: float, peaked: bool, least_bins: float
) -> Floats:
    """How much each bin, as far as any point needs them, counts at each point: (bins, points)."""
    middle = np.array(points_hz) * frames / sample_rate
    reaches = 2.0 * (np.arange(PEAK_STEPS) + 0.5) / PEAK_STEPS if peaked else np.ones(1)
    bins = np.arange(min(int(middle.max() * OCTAVE) + 6, frames // 2 + 1))
    weights = np.zeros((middle.size, bins.size))
    for reach in reaches:  # a peak is the mean of narrow and wide bands
        half = OCTAVE ** (0.5 * reach / per_octave)
        low, high = middle / half, middle * half
        wide = np.maximum(least_bins - (high - low), 0.0) / 2.0
        low, high = (low - wide)[:, None], (high + wide)[:, None]
        weights += np.clip(np.minimum(high, bins + 0.5) - np.maximum(low, bins - 0.5), 0.0, 1.0)
    return np.ascontiguousarray((weights / reaches.size).T.astype(np.float32))


def band_powers(
    powers: Floats, *, frames: int, sample_rate: int, points_hz: Array, per_octave: float = 3.0, peaked: bool = False,
    least_bins: float = LEAST_BINS,
) -> Floats:  # fmt: skip
    """Power around each point, from powers by bin (..., bins) of windows of so many frames.

    Over a band with edges half a step away; or, peaked, weighed by a triangle of the same area that falls to nothing a
    whole step away, so that a sine shows where it is. With least_bins 0 bands side by side count every bin once.
    """
    weights = _weights(frames, sample_rate, tuple(points_hz.tolist()), per_octave, peaked, least_bins)
    return np.asarray(powers[..., : weights.shape[0]] @ weights)


def to_db(powers: npt.NDArray[np.floating[Any]]) -> Array:
    """dB of a power, floored."""
    return np.asarray(10.0 * np.log10(np.maximum(powers, 10.0 ** (FLOOR_DB / 10.0))))


def _sides(points_hz: Array, sample_rate: int) -> Iterator[tuple[int, npt.NDArray[np.bool_]]]:
    """The long and the short window, each with the points it is for."""
    long_, short = window_frames(sample_rate)
    for size, points in ((long_, points_hz < SEAM_HZ), (short, points_hz >= SEAM_HZ)):
        if points.any():
            yield size, points


def _parts(points_hz: Array, sample_rate: int) -> list[tuple[int, npt.NDArray[np.bool_]]]:
    """The windows of a spectrum, the longest first, each with the points it is for."""
    sizes = (_lowest_frames(sample_rate), *window_frames(sample_rate))
    part = np.searchsorted([LOWEST_HZ, LOW_HZ], points_hz, side="right")
    return [(size, part == place) for place, size in enumerate(sizes) if (part == place).any()]


class SpectrumOfNow:
    """Power around each of POINTS_HZ at the end of a stream, averaged so that it can be read: with one pole of FAST_S,
    the time weighting F of IEC 61672.

    Lows, seen through the long windows, move slowly and are computed at every LONG_EVERY-th or LOWEST_EVERY-th reading.
    """

    def __init__(self, channels: int, *, sample_rate: int) -> None:
        self._rate, self.channels = sample_rate, channels
        self._reach = _lowest_frames(sample_rate)
        self._latest, self._end = np.zeros((channels, 2 * self._reach), np.float32), self._reach
        self._parts = list(zip((LOWEST_EVERY, LONG_EVERY, 1), _parts(POINTS_HZ, sample_rate), strict=True))
        self._power, self._mean = np.zeros(POINTS_HZ.size), np.zeros(POINTS_HZ.size)
        self._readings, self._fresh_frames = 0, 0

    def feed(self, block: Array) -> None:
        """Take in the next frames (channels, frames)."""
        self._fresh_frames += block.shape[1]
        block = block[:, -self._reach :]
        if self._end + block.shape[1] > self._latest.shape[1]:  # moved to the front only when the room is used up
            self._latest[:, : self._reach] = self._latest[:, self._end - self._reach : self._end]
            self._end = self._reach
        self._latest[:, self._end : self._end + block.shape[1]] = block
        self._end += block.shape[1]

    def power(self) -> Array:
        """What is there now."""
        for every, (size, points) in self._parts:
            if self._readings % every:
                continue
            powers = bin_powers(self._latest[:, self._end - size : self._end]).mean(axis=0)
            hz = POINTS_HZ[points]
            self._power[points] = band_powers(powers, frames=size, sample_rate=self._rate, points_hz=hz, peaked=True)
        share = 1.0 - math.exp(-self._fresh_frames / (FAST_S * self._rate)) if self._readings else 1.0
        self._mean += share * (self._power - self._mean)
        self._readings, self._fresh_frames = self._readings + 1, 0
        return self._mean.copy()


class SpectrumMeter:
    """Mean power in each bin of a stream, for all three windows; they overlap by half."""

    def __init__(self, *, sample_rate: int) -> None:
        self._rate = sample_rate
        self._sizes = (_lowest_frames(sample_rate), *window_frames(sample_rate))
        self._totals = [np.zeros(size // 2 + 1, np.float32) for size in self._sizes]
        self._tails: list[Floats | None] = [None for _ in self._sizes]
        self._counts = [-0.5 for _ in self._sizes]  # half of the first window is empty
        self._frames, self._channels = 0, 1

    def feed(self, block: Array) -> None:
        """Take in the next frames (channels, frames)."""
        self._channels, self._frames = block.shape[0], self._frames + block.shape[1]
        for index in range(len(self._sizes)):
            self._feed(index, block.astype(np.float32))

    def _feed(self, index: int, block: Floats) -> None:
        size = self._sizes[index]
        hop = size // 2
        before = self._tails[index]
        if before is None:  # so that what comes first counts as much as the middle
            before = np.zeros((block.shape[0], hop), np.float32)
        joined = np.concatenate([before, block], axis=1)
        windows = np.lib.stride_tricks.sliding_window_view(joined, min(size, joined.shape[1]), axis=1)[:, ::hop]
        if joined.shape[1] < size:
            windows = windows[:, :0]
        for some in _batches(windows.shape[1], size):
            self._totals[index] += bin_powers(windows[:, some.start : some.stop]).mean(axis=0).sum(axis=0)
        self._counts[index] += windows.shape[1]
        self._tails[index] = joined[:, windows.shape[1] * hop :]

    def finish(self) -> "SpectrumMeter":
        """Say that all was fed: what came last then counts as much as the middle. Returns itself."""
        for index, size in enumerate(self._sizes):
            self._feed(index, np.zeros((self._channels, size), np.float32))
            self._counts[index] = self._frames / (size // 2)
        return self

    def power_in_twelfths(self) -> Array:
        """Mean power in the bands of TWELFTHS_HZ, each part of the spectrum counted once."""
        return self.power(TWELFTHS_HZ, peaked=False, per_octave=12.0, least_bins=0.0)

    def power(self, points_hz: Array = POINTS_HZ, **how: Any) -> Array:
        """Mean power around each point of all that was fed, a peak where there is a sine unless `how` says otherwise
        (see band_powers); what is too short for a window counts for nothing.
        """
        how = {"peaked": True} | how
        out = np.zeros(points_hz.size)
        for size, points in _parts(points_hz, self._rate):
            index = self._sizes.index(size)
            mean = self._totals[index] / np.float32(max(self._counts[index], 0.5))
            out[points] = band_powers(mean, frames=size, sample_rate=self._rate, points_hz=points_hz[points], **how)
        return out


def spectrum_of_take(sound: Sound, points_hz: Array = POINTS_HZ, check: Callable[[], None] = lambda: None) -> Array:
    """Mean power around each point over a sound; `check` may raise to stop."""
    return _fed(sound, check).power(points_hz)


def spectrum_in_twelfths(sound: Sound) -> Array:
    """Mean power in the bands of TWELFTHS_HZ over a sound."""
    return _fed(sound, lambda: None).power_in_twelfths()


def _fed(sound: Sound, check: Callable[[], None]) -> SpectrumMeter:
    meter = SpectrumMeter(sample_rate=sound.facts.sample_rate)
    for first in range(0, sound.facts.frames, FEED_FRAMES):
        check()
        meter.feed(sound.read(first, min(FEED_FRAMES, sound.facts.frames - first)))
    return meter.finish()


def _batches(count: int, size: int) -> Iterator[range]:
    """Numbers of windows of a size, as many at a time as stay in the processor's cache."""
    step = max(1, (1 << 16) // size)
    return (range(first, min(first + step, count)) for first in range(0, count, step))


@cache
def _thinning() -> Floats:
    """A low-pass for every THINNED-th frame: 80 dB down where something would fold onto what lies below 500 Hz."""
    n = np.arange(64) - 31.5
    taps = np.sinc(2.0 * 0.075 * n) * np.kaiser(64, 8.0)
    return (taps / taps.sum()).astype(np.float32)


def _thinned(sound: Sound, start: int, frames: int) -> Floats:
    """Every THINNED-th frame of a part of a sound (channels, frames / THINNED), low-passed."""
    taps = _thinning()
    block = sound.read(start - 32, frames + 64).astype(np.float32)
    windows = np.lib.stride_tricks.sliding_window_view(block, 64, axis=1)[:, ::THINNED]
    return np.asarray(windows @ taps)[:, : frames // THINNED]


def map_columns(
    sound: Sound, start: float, hop: float, columns: int, check: Callable[[], None] = lambda: None
) -> Array:
    """The map: level in dB (columns, MAP_HZ) of the band around each row; column n lies at start + n hop."""
    rate = sound.facts.sample_rate
    out = np.empty((columns, MAP_HZ.size))
    for size, rows in _sides(MAP_HZ, rate):
        every = max(1, int(size / 4 / hop))  # long windows need not be taken at every column of a fine map
        thin = THINNED if size == window_frames(rate)[0] else 1
        short = size // thin
        middles = start + hop * np.arange(0, columns, every)
        levels = np.empty((middles.size, int(rows.sum())))
        for some in _batches(middles.size, short):
            check()
            part = middles[some.start : some.stop]
            first, reach = round(part[0]) - size // 2, int(part[-1] - part[0]) + size + thin
            block = sound.read(first, reach).astype(np.float32) if thin == 1 else _thinned(sound, first, reach)
            places = np.minimum(np.rint((part - part[0]) / thin).astype(np.int64), block.shape[1] - short)
            windows = np.lib.stride_tricks.sliding_window_view(block, short, axis=1)[:, places]
            bands = band_powers(
                bin_powers(windows).mean(axis=0), frames=size, sample_rate=rate, points_hz=MAP_HZ[rows],
                per_octave=MAP_PER_OCTAVE,
            )  # fmt: skip
            levels[some.start : some.stop] = to_db(bands)
        out[:, rows] = levels[np.arange(columns) // every]
    return out
