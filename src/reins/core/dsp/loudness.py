"""Loudness, loudness range and true peak: ITU-R BS.1770-4 and EBU Tech 3341, 3342.

Our own because it must run block by block beside the engine on takes that do not fit in memory; a
general-purpose library serves as second opinion in the tests.
"""

import math

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import flush, inlined, kernel
from reins.core.dsp.decibels import largest_bits
from reins.core.dsp.lanes import first, pair, second

Array = npt.NDArray[np.float64]

ABSOLUTE_GATE_LUFS = -70.0
OFFSET_LU = -0.691

# BS.1770 annex 2: the 48-tap interpolator, four phases of twelve (from memory; the EBU Tech 3341 true-peak
# cases and a long interpolation by scipy check it in the tests).
_PHASE_0 = [
    0.0017089843750, 0.0109863281250, -0.0196533203125, 0.0332031250000, -0.0594482421875, 0.1373291015625,
    0.9721679687500, -0.1022949218750, 0.0476074218750, -0.0266113281250, 0.0148925781250, -0.0083007812500,
]  # fmt: skip
_PHASE_1 = [
    -0.0291748046875, 0.0292968750000, -0.0517578125000, 0.0891113281250, -0.1665039062500, 0.4650878906250,
    0.7797851562500, -0.2003173828125, 0.1015625000000, -0.0582275390625, 0.0330810546875, -0.0189208984375,
]  # fmt: skip
TRUE_PEAK_PHASES = np.array([_PHASE_0, _PHASE_1, _PHASE_1[::-1], _PHASE_0[::-1]])
TAPS = TRUE_PEAK_PHASES.shape[1]
REACH = float(np.abs(TRUE_PEAK_PHASES).sum(axis=1).max()) * (1.0 + 1e-12)
PIECE = 256  # frames looked at together when asking whether they could raise the peak


def k_weighting(sample_rate: int) -> Array:
    """Sections (2, 5) of the K weighting at any sample rate.

    The standard tabulates 48 kHz only; these are the analogue prototypes behind its table (shelf at 1682 Hz,
    high-pass at 38.1 Hz; from memory), carried over by the bilinear transform. At 48 kHz they give the table.
    """
    k = math.tan(math.pi * 1681.974450955533 / sample_rate)
    q, high = 0.7071752369554196, 10.0 ** (3.999843853973347 / 20.0)
    band = high**0.4996667741545416
    a0 = 1.0 + k / q + k * k
    shelf = [
        (high + band * k / q + k * k) / a0, 2.0 * (k * k - high) / a0, (high - band * k / q + k * k) / a0,
        2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0,
    ]  # fmt: skip
    k = math.tan(math.pi * 38.13547087602444 / sample_rate)
    q = 0.5003270373238773
    a0 = 1.0 + k / q + k * k
    high_pass = [1.0, -2.0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0]
    return np.array([shelf, high_pass])


@inlined
def _weighted_energy(x0, x1, sections, state):
    """Sum of squares of two channels after K weighting; both in one loop, so that their recursions overlap."""
    b0, b1, b2, a1, a2 = sections[0]
    c0, c1, c2, d1, d2 = sections[1]
    p, q = pair(state[0, 0, 0], state[1, 0, 0]), pair(state[0, 0, 1], state[1, 0, 1])
    r, s = pair(state[0, 1, 0], state[1, 1, 0]), pair(state[0, 1, 1], state[1, 1, 1])
    energy = 0.0
    for i in range(x0.size):
        x = pair(x0[i], x1[i])
        y = b0 * x + p
        p, q = (b1 * x + q) - a1 * y, b2 * x - a2 * y
        z = c0 * y + r
        r, s = (c1 * y + s) - d1 * z, c2 * y - d2 * z
        squares = z * z
        energy += first(squares) + second(squares)
    for row, one, other in ((0, p, q), (1, r, s)):
        state[0, row, 0], state[1, row, 0] = flush(first(one)), flush(second(one))
        state[0, row, 1], state[1, row, 1] = flush(first(other)), flush(second(other))
    return energy


@kernel("i8(f8[:,::1], f8[:,::1], f8[:,:,::1], f8[::1], i8, i8, f8[::1])", makes_room=True)
def _weighted_steps(signal, sections, state, running, filled, step_frames, steps):
    """K-weight signal (channels, frames) and sum its squares over steps; returns the frames in the open step.

    running (1,) is the energy of the open step; steps receives the mean square of each step completed. A mono signal
    is weighted beside a silent second channel.
    """
    channels, frames = signal.shape
    silent = np.zeros(frames if channels == 1 else 0)
    done = 0
    start = 0
    while start < frames:
        stop = min(frames, start + step_frames - filled)
        second = silent[start:stop] if channels == 1 else signal[1, start:stop]
        running[0] += _weighted_energy(signal[0, start:stop], second, sections, state)
        filled += stop - start
        start = stop
        if filled == step_frames:
            steps[done] = running[0] / step_frames
            running[0] = 0.0
            done += 1
            filled = 0
    return filled


@inlined
def _largest(values, bits, count):
    """The largest of positive numbers, which are used up."""
    bits[0] = largest_bits(bits, count)
    return values[0]


@kernel("f8(f8[:,::1], f8[:,::1], f8, f8)", makes_room=True)
def _interpolated_peak(padded, phases, reach, peak):
    """The largest of `peak`, the magnitudes of padded (channels, TAPS - 1 + frames) and those of its four-times
    interpolation. Pieces whose samples could not make more of themselves than is known, by `reach` at most, are passed
    by.
    """
    taps = phases.shape[1]
    frames = padded.shape[1] - taps + 1
    work = np.empty(PIECE + taps)
    bits = work.view(np.int64)
    for channel in range(padded.shape[0]):
        for start in range(0, frames, PIECE):
            count = min(PIECE, frames - start)
            source = padded[channel, start:]
            for i in range(count + taps - 1):
                work[i] = abs(source[i])
            loudest = _largest(work, bits, count + taps - 1)
            peak = max(peak, loudest)
            if loudest * reach <= peak:
                continue
            for phase in range(phases.shape[0]):
                work[:count] = 0.0
                for tap in range(taps):
                    c, part = phases[phase, taps - 1 - tap], source[tap:]
                    for i in range(count):
                        work[i] += c * part[i]
                for i in range(count):
                    work[i] = abs(work[i])
                peak = max(peak, _largest(work, bits, count))
    return peak


@inlined
def _squares(row):
    """The sum of squares, four at a time: sums that wait for each other take four times as long."""
    one, other, whole = pair(0.0, 0.0), pair(0.0, 0.0), row.size - row.size % 4
    for i in range(0, whole, 4):
        a, b = pair(row[i], row[i + 1]), pair(row[i + 2], row[i + 3])
        one, other = one + a * a, other + b * b
    both = one + other
    total = first(both) + second(both)
    for i in range(whole, row.size):
        total += row[i] * row[i]
    return total


@kernel("void(f8[:,::1], f8[::1])", makes_room=True)
def fold_level(block, level):
    """Raise level[0] to the largest magnitude of block (channels, frames), and add its squares to level[1]."""
    frames = block.shape[1]
    work = np.empty(PIECE)
    bits = work.view(np.int64)
    for channel in range(block.shape[0]):
        for start in range(0, frames, PIECE):
            part = block[channel, start : min(start + PIECE, frames)]
            for i in range(part.size):
                work[i] = abs(part[i])
            level[1] += _squares(part)
            level[0] = max(level[0], _largest(work, bits, part.size))


class LoudnessMeter:
    """Gathers the K-weighted energy of a stream in steps of 100 ms; every reading is made from those."""

    def __init__(self, *, sample_rate: int) -> None:
        self._sections = k_weighting(sample_rate)
        self._state = np.zeros((2, 2, 2))
        self._running = np.zeros(1)
        self._filled = 0
        self._step_frames = round(sample_rate / 10)
        self._steps: list[Array] = []

    def feed(self, signal: Array) -> None:
        """Take in the next block (channels, frames) float64; any length."""
        done = (self._filled + signal.shape[1]) // self._step_frames
        steps = np.zeros(done)
        self._filled = _weighted_steps(
            signal, self._sections, self._state, self._running, self._filled, self._step_frames, steps
        )
        if done:
            self._steps.append(steps)

    def latest_lufs(self, steps: int) -> float | None:
        """Loudness of the last `steps` tenths of a second: 4 is momentary, 30 short-term; None before or in silence."""
        energy = self._energy()[-steps:]
        mean = float(energy.mean()) if energy.size == steps else 0.0
        return float(_lufs(np.array([mean]))[0]) if mean > 1e-12 else None

    def _energy(self) -> Array:
        if len(self._steps) != 1:
            self._steps = [np.concatenate([*self._steps, np.zeros(0)])]
        return self._steps[0]

    def _windows(self, steps: int) -> Array:
        energy = self._energy()
        if energy.size < steps:
            return np.zeros(0)
        total = np.concatenate([[0.0], np.cumsum(energy)])
        return np.maximum((total[steps:] - total[:-steps]) / steps, 0.0)

    def integrated_lufs(self) -> float | None:
        """Gated loudness (BS.1770-4, eq. (5) to (7)); None where nothing passes the gate."""
        return _gated(self._windows(4), -10.0)

    def momentary_lufs(self) -> Array:
        """Loudness of each 400 ms window, every 100 ms."""
        return _lufs(self._windows(4))

    def short_term_lufs(self) -> Array:
        """Loudness of each 3 s window, every 100 ms."""
        return _lufs(self._windows(30))

    def range_lu(self) -> float | None:
        """Loudness range (EBU Tech 3342): 10th to 95th percentile of short-term loudness above the gates."""
        windows = self._windows(30)
        windows = windows[_lufs(windows) >= ABSOLUTE_GATE_LUFS]
        if windows.size == 0:
            return None
        kept = _lufs(windows[_lufs(windows) >= _lufs(windows.mean(keepdims=True))[0] - 20.0])
        low, high = np.percentile(kept, [10.0, 95.0])
        return float(high - low)


def _lufs(energy: Array) -> Array:
    return OFFSET_LU + 10.0 * np.log10(np.maximum(energy, 1e-20))


def _gated(windows: Array, relative_lu: float) -> float | None:
    windows = windows[_lufs(windows) >= ABSOLUTE_GATE_LUFS]
    if windows.size == 0:
        return None
    gate = _lufs(windows.mean(keepdims=True))[0] + relative_lu
    return float(_lufs(windows[_lufs(windows) >= gate].mean(keepdims=True))[0])


class TruePeakMeter:
    """Largest magnitude between and on the samples of a stream (BS.1770 annex 2, four times)."""

    def __init__(self, channels: int) -> None:
        self._tail = np.zeros((channels, TAPS - 1))
        self.peak = 0.0

    def feed(self, signal: Array) -> None:
        """Take in the next block (channels, frames) float64."""
        padded = np.concatenate([self._tail, signal], axis=1)
        self._tail = padded[:, padded.shape[1] - TAPS + 1 :].copy()
        self.peak = _interpolated_peak(padded, TRUE_PEAK_PHASES, REACH, self.peak)

    def finish(self) -> float:
        """The peak, after the interpolator has run out on silence."""
        self.feed(np.zeros_like(self._tail))
        return self.peak
