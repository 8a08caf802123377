"""A take on disk: float32 samples with a level pyramid beside them.

The pyramid holds, per channel and per bin of 64, 1024 and 16384 frames, minimum, maximum and mean square, so a
picture at any zoom touches about as many numbers as it has columns.

Samples are kept on the grid of 24 bits times a power of two that holds the take's peak: that is what FLAC holds, so
that a session file gives back the same samples. Recordings of 16 or 24 bits are on it as they come; others (float,
resampled) are rounded to it once, 138 dB or more below their peak.
"""

import hashlib
import itertools
import json
import math
import os
import time
import weakref
from collections.abc import Callable, Iterable
from dataclasses import asdict
from pathlib import Path

import numpy as np
import numpy.typing as npt

from reins.core.disk import sync
from reins.core.dsp.compiled import brief, kernel
from reins.core.sound import TakeFacts
from reins.errors import StorageError

Array = npt.NDArray[np.float64]
Floats = npt.NDArray[np.float32]

BINS = (64, 1024, 16384)
MINIMUM, MAXIMUM, MEAN_SQUARE = 0, 1, 2
SAMPLES, FACTS = "samples.f32", "take.json"
CHECK_S = 0.25


@brief("void(f4[:,::1], f8[:,::1])")
def _split_channels(frames_first: Floats, out: Array) -> None:
    """Turn (frames, channels) float32 into (channels, frames) float64."""
    frames, channels = frames_first.shape
    if channels == 2:
        for i in range(frames):
            out[0, i] = frames_first[i, 0]
            out[1, i] = frames_first[i, 1]
    else:
        for i in range(frames):
            out[0, i] = frames_first[i, 0]


class _Kept:
    """A file that is not to change: read by position, its size and age looked at every CHECK_S; when it is cut short,
    that is seen at once.

    Not mapped into memory: a mapped file that is cut short ends the process that touches it.
    """

    def __init__(self, path: Path, size_bytes: int) -> None:
        self._fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        weakref.finalize(self, os.close, self._fd)
        self._size_bytes, self._modified_ns = size_bytes, os.fstat(self._fd).st_mtime_ns
        self._checked_at = -math.inf
        self.check()

    def check(self) -> None:
        """Raise StorageError when the file is not what it was."""
        now = os.fstat(self._fd)
        if now.st_size != self._size_bytes:
            raise StorageError(
                f"its recording has {now.st_size} bytes where {self._size_bytes} were kept; put it back from a backup."
            )
        if now.st_nlink == 0 or now.st_mtime_ns != self._modified_ns:
            raise StorageError("its recording was removed or replaced while it was in use; put it back from a backup.")

    def read(self, first: int, count: int) -> Floats:
        """float32 numbers first .. first + count."""
        if time.monotonic() > self._checked_at + CHECK_S:
            self._checked_at = time.monotonic()
            self.check()
        values = np.empty(count, np.float32)
        have, view = 0, memoryview(values.view(np.uint8).data)
        while have < view.nbytes:
            fresh = os.preadv(self._fd, [view[have:]], 4 * first + have)
            if not fresh:
                raise StorageError("its recording was cut short while it was read; put it back from a backup.")
            have += fresh
        return values


class Take:
    """Reads a take's folder; samples and pyramid stay on disk until wanted. StorageError when they are not as kept."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        try:
            self.facts = TakeFacts(**json.loads((folder / FACTS).read_text()))
            self._samples = _Kept(folder / SAMPLES, 4 * self.facts.frames * self.facts.channels)
            for bin_frames in BINS:
                size = (folder / f"level{bin_frames}.f32").stat().st_size
                if size != 12 * self.facts.channels * -(-self.facts.frames // bin_frames):
                    raise StorageError("its pictures are damaged; `reins check DATA --repair` makes them anew.")
        except (OSError, ValueError, TypeError) as error:
            raise StorageError(f"its recording cannot be read ({_why(error)}); put it back from a backup.") from error

    def _level(self, index: int, first: int, last: int) -> Floats:
        """Bins first .. last of a level of the pyramid: (bins, channels, 3)."""
        channels = self.facts.channels
        file, count = self.folder / f"level{BINS[index]}.f32", (last - first) * channels * 3
        try:
            return np.fromfile(file, np.float32, count, offset=12 * channels * first).reshape(-1, channels, 3)
        except (OSError, ValueError) as error:
            raise StorageError(
                f"its pictures cannot be read ({_why(error)}); `reins check DATA --repair` makes them anew."
            ) from error

    def read(self, start: int, frames: int) -> Array:
        """Samples (channels, frames) float64 from frame `start`; silence before the start and after the end."""
        out = np.zeros((self.facts.channels, frames))
        first, last = max(start, 0), min(start + frames, self.facts.frames)
        if first < last:
            channels = self.facts.channels
            frames_first = self._samples.read(first * channels, (last - first) * channels).reshape(-1, channels)
            if last - first == frames:
                _split_channels(frames_first, out)
            else:
                out[:, first - start : last - start] = frames_first.T
        return out

    def exponent(self) -> int:
        """The power of two its samples fit under; see the module's docstring."""
        level = self._level(len(BINS) - 1, 0, -(-self.facts.frames // BINS[-1]))
        return exponent_for(float(level[:, :, MINIMUM].min(initial=0.0)), float(level[:, :, MAXIMUM].max(initial=0.0)))

    def spectrum(self) -> None:
        """None: only what a track lays out is weighed (see laid)."""

    def peak_columns(self, start: int, frames: int, columns: int) -> Array:
        """Largest magnitude over all channels in each of `columns` equal parts of start .. start + frames.

        Answered from the finest pyramid level with at least one bin a column; from samples when zoomed in further.
        """
        edges = start + np.linspace(0, frames, columns + 1)
        per_column = frames / columns
        fitting = [i for i, size in enumerate(BINS) if size <= per_column]
        if not fitting:
            block = np.abs(self.read(start, max(frames, 1))).max(axis=0)
            return reduce_columns(block, edges - start, np.maximum)
        size = BINS[fitting[-1]]
        bins = -(-self.facts.frames // size)
        first, last = min(max(int(edges[0]) // size, 0), bins), min(int(-(-edges[-1] // size)), bins)
        part = self._level(fitting[-1], first, max(last, first))[:, :, :2].astype(np.float64)
        peaks = np.abs(part).max(axis=(1, 2)) if part.size else np.zeros(0)
        return reduce_columns(peaks, edges / size - first, np.maximum)


def reduce_columns(values: Array | Floats, edges: Array, by: np.ufunc) -> Array:
    """Reduce values between rising, fractional edges; every column takes at least one value; 0 outside."""
    out = np.zeros(edges.size - 1)
    low = np.floor(edges[:-1]).astype(np.int64)
    inside = (low >= 0) & (low < values.size)
    if inside.any():
        out[inside] = by.reduceat(values, low[inside])
        last = np.flatnonzero(inside)[-1]
        stop = max(low[last] + 1, min(int(np.ceil(edges[last + 1])), values.size))
        out[last] = by.reduce(values[low[last] : stop])
    return out


@kernel("void(f4[:,::1], i8, f4[:,:,::1])")
def _fold_bins(frames_first: Floats, bin_frames: int, out: Floats) -> None:
    """Minimum, maximum and mean square of each bin; the last bin may be short."""
    frames, channels = frames_first.shape
    for index in range(out.shape[0]):
        first = index * bin_frames
        last = min(first + bin_frames, frames)
        for channel in range(channels):
            low = high = frames_first[first, channel]
            energy = 0.0
            for i in range(first, last):
                value = frames_first[i, channel]
                low = min(low, value)
                high = max(high, value)
                energy += value * value
            out[index, channel, 0], out[index, channel, 1], out[index, channel, 2] = low, high, energy / (last - first)


def _write_coarser(folder: Path, channels: int, frames: int) -> None:
    """Make each coarser level from the finer one, in pieces: the finest of an hour would take 200 MB while it is."""
    for fine, coarse in itertools.pairwise(BINS):
        bins = -(-frames // fine)
        with (folder / f"level{fine}.f32").open("rb") as finer, (folder / f"level{coarse}.f32").open("wb") as coarser:
            for first in range(0, bins, BINS[-1]):
                count = min(BINS[-1], bins - first)
                level = np.frombuffer(finer.read(4 * 3 * channels * count), np.float32).reshape(count, channels, 3)
                lengths = np.minimum(fine, frames - fine * np.arange(first, first + count))
                coarser.write(_coarser(level, lengths, coarse // fine).data)


def _coarser(level: Floats, lengths: npt.NDArray[np.int64], times: int) -> Floats:
    """Bins (bins, channels, 3) of these lengths in frames, so many of them joined; a short one weighs by its length."""
    starts = np.arange(0, len(level), times)
    weights = lengths.astype(np.float64)
    out = np.empty((starts.size, level.shape[1], 3), np.float32)
    out[:, :, MINIMUM] = np.minimum.reduceat(level[:, :, MINIMUM], starts)
    out[:, :, MAXIMUM] = np.maximum.reduceat(level[:, :, MAXIMUM], starts)
    energy = np.add.reduceat(level[:, :, MEAN_SQUARE] * weights[:, None], starts)
    out[:, :, MEAN_SQUARE] = energy / np.add.reduceat(weights, starts)[:, None]
    return out


def write_take(
    folder: Path,
    blocks: Iterable[Array],
    *,
    channels: int,
    sample_rate: int,
    progress: Callable[[int], None] = lambda frames: None,
) -> TakeFacts:
    """Write a take's folder from blocks (channels, frames); `progress` hears the frames written so far.

    Raises StorageError when the disk refuses; the caller removes the folder then. What `progress` raises passes on.
    """
    frames = 0
    low = high = 0.0
    try:
        folder.mkdir(parents=True)
        with (folder / SAMPLES).open("wb") as samples:
            for block in blocks:
                frames_first = np.ascontiguousarray(block.T, dtype=np.float32)
                low, high = min(low, float(block.min(initial=0.0))), max(high, float(block.max(initial=0.0)))
                samples.write(frames_first.data)
                frames += frames_first.shape[0]
                progress(frames)
        digest = _round_and_fold(folder, channels, frames, exponent_for(low, high))
        _write_coarser(folder, channels, frames)
        facts = TakeFacts(channels, sample_rate, frames, digest)
        (folder / FACTS).write_text(json.dumps(asdict(facts)))
        for path in (*folder.iterdir(), folder):
            sync(path)
    except OSError as error:
        raise StorageError(
            f"The disk refused while the take was written ({error.strerror}); nothing was added."
        ) from error
    return facts


def exponent_for(low: float, high: float) -> int:
    """The least power of two, 0 or more, that makes samples from low to high fit into 24 bits once divided by it."""
    exponent = 0
    while low < -(2.0**exponent) or high > 2.0**exponent * (1.0 - 2.0**-23):
        exponent += 1
    return exponent


def on_grid(samples: Array, exponent: int) -> Array:
    """Samples rounded to 24 bits times two to the exponent."""
    step = 2.0 ** (exponent - 23)
    top = 2.0**exponent
    return np.clip(np.rint(samples / step) * step, -top, top - step)


def _round_and_fold(folder: Path, channels: int, frames: int, exponent: int) -> str:
    """Put the samples on their grid and make the finest level of the pyramid; returns their SHA-256."""
    digest = hashlib.sha256()
    if frames == 0:
        (folder / f"level{BINS[0]}.f32").touch()
        return digest.hexdigest()
    # Read and written in pieces: a map of an hour would be held whole in memory.
    with (folder / SAMPLES).open("r+b") as samples, (folder / f"level{BINS[0]}.f32").open("wb") as finest:
        for first in range(0, frames, BINS[-1]):
            begin, count = 4 * first * channels, min(BINS[-1], frames - first) * channels
            samples.seek(begin)
            part = np.frombuffer(samples.read(4 * count), np.float32).reshape(-1, channels)
            plain = np.ascontiguousarray(on_grid(part.astype(np.float64), exponent), np.float32)
            samples.seek(begin)
            samples.write(plain.data)
            digest.update(plain.data)
            finest.write(_bins(plain).data)
    return digest.hexdigest()


def rebuild_pyramid(folder: Path) -> None:
    """Make a take's pyramid anew from its samples; StorageError when these are not as kept."""
    try:
        facts = TakeFacts(**json.loads((folder / FACTS).read_text()))
        samples = _Kept(folder / SAMPLES, 4 * facts.frames * facts.channels)
        with (folder / f"level{BINS[0]}.f32").open("wb") as finest:
            for first in range(0, facts.frames, BINS[-1]):
                count = min(BINS[-1], facts.frames - first) * facts.channels
                finest.write(_bins(samples.read(first * facts.channels, count).reshape(-1, facts.channels)).data)
        _write_coarser(folder, facts.channels, facts.frames)
    except (OSError, ValueError, TypeError) as error:
        raise StorageError(f"its recording cannot be read ({_why(error)}); put it back from a backup.") from error


def digest_of(folder: Path) -> str:
    """SHA-256 of a take's samples as they lie on disk; StorageError when they cannot be read."""
    try:
        with (folder / SAMPLES).open("rb") as samples:
            return hashlib.file_digest(samples, "sha256").hexdigest()
    except OSError as error:
        raise StorageError(f"its recording cannot be read ({_why(error)}); put it back from a backup.") from error


def _why(error: Exception) -> str:
    """The reason of an error, without the place on disk it speaks of."""
    return getattr(error, "strerror", None) or type(error).__name__


def _bins(frames_first: Floats) -> Floats:
    out = np.empty((-(-frames_first.shape[0] // BINS[0]), frames_first.shape[1], 3), np.float32)
    _fold_bins(frames_first, BINS[0], out)
    return out
