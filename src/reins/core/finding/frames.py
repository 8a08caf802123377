"""A sound in short frames: the power in third octaves, every ten milliseconds. All that is found is found in these."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.sound import Sound

Array = npt.NDArray[np.float32]
FRAMES_PER_S = 100
WINDOW_S = 0.02
LOWEST_HZ, HIGHEST_HZ = 50.0, 16000.0
BATCH = 512  # frames transformed at a time
THIRD = 2.0 ** (1.0 / 3.0)


@dataclass(frozen=True)
class Frames:
    """power (frames, bands) of the mean of all channels, about the middles hz (bands,); frame k stands at k hops."""

    power: Array
    hz: Array
    hop: int
    sample_rate: int

    @property
    def per_s(self) -> float:
        """Frames in a second."""
        return self.sample_rate / self.hop

    def s(self, frame: float) -> float:
        """The time of a frame."""
        return float(frame * self.hop / self.sample_rate)

    def between(self, low_hz: float, high_hz: float) -> Array:
        """The power (frames,) of the bands within these frequencies."""
        first, end = np.searchsorted(self.hz, low_hz), np.searchsorted(self.hz, high_hz, side="right")
        return np.asarray(self.power[:, first:end].sum(axis=1))  # a view: an hour's power is 40 MB

    def level_db(self) -> Array:
        """The level (frames,) of all bands, where silence is -120."""
        return np.asarray(10.0 * np.log10(np.maximum(self.power.sum(axis=1), 1e-12)))


def spans_of(row: npt.NDArray[np.bool_], join_s: float) -> list[tuple[int, int]]:
    """(first, end) of each stretch of frames in which a row is true; those nearer than join_s are one."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], row.astype(np.int8), [0]])))
    joined: list[list[int]] = []
    for begin, end in edges.reshape(-1, 2).tolist():
        if joined and begin - joined[-1][1] < join_s * FRAMES_PER_S:
            joined[-1][1] = end
        else:
            joined.append([begin, end])
    return [(begin, end) for begin, end in joined]


def frames_of(sound: Sound, check: Callable[[], None] = lambda: None) -> Frames:
    """The frames of a sound; `check` may raise to stop. A power of 1 is that of a sine at full scale."""
    facts = sound.facts
    hop = round(facts.sample_rate / FRAMES_PER_S)
    size = 1 << int(np.ceil(np.log2(WINDOW_S * facts.sample_rate)))
    window = np.hanning(size).astype(np.float32)
    window *= 2.0 / window.sum()
    hz, into = _bands(size, facts.sample_rate)
    count = max(1, facts.frames // hop)
    power = np.empty((count, hz.size), np.float32)
    for first in range(0, count, BATCH):
        check()
        rows = min(BATCH, count - first)
        begin = first * hop - size // 2
        heard = _mono(sound, begin, (rows - 1) * hop + size)
        pieces = np.lib.stride_tricks.sliding_window_view(heard, size)[::hop] * window
        spectrum = np.fft.rfft(pieces, axis=1)
        power[first : first + rows] = (spectrum.real**2 + spectrum.imag**2) @ into
    return Frames(power, hz, hop, facts.sample_rate)


def _mono(sound: Sound, begin: int, frames: int) -> Array:
    """The mean of all channels, silence where the sound is not."""
    out = np.zeros(frames, np.float32)
    first, last = max(begin, 0), min(begin + frames, sound.facts.frames)
    if last > first:
        out[first - begin : last - begin] = sound.read(first, last - first).mean(axis=0)
    return out


def _bands(size: int, rate: int) -> tuple[Array, Array]:
    """Middles of third octaves, and (bins, bands): which bin belongs to which."""
    bins = np.arange(size // 2 + 1) * rate / size
    highest = min(HIGHEST_HZ, 0.45 * rate)
    middles = LOWEST_HZ * THIRD ** np.arange(int(np.log(highest / LOWEST_HZ) / np.log(THIRD)) + 1)
    edges = np.concatenate([[rate / size / 2], np.sqrt(middles[1:] * middles[:-1]), [middles[-1] * THIRD**0.5]])
    inside = (bins[:, None] >= edges[:-1]) & (bins[:, None] < edges[1:])
    filled = inside.any(axis=0)  # narrow bands at the bottom may hold no bin
    return middles[filled].astype(np.float32), inside[:, filled].astype(np.float32)
