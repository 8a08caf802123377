"""Reading, writing and resampling audio files, block by block (libsndfile by soundfile, soxr).

Nothing here holds a whole file in memory.
"""

import hashlib
import math
import os
import platform
import re
import struct
from collections.abc import Callable, Iterator
from pathlib import Path
from types import TracebackType
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt
import soundfile
import soxr

from reins.core.disk import sync
from reins.core.dsp.dither import Rounder
from reins.core.limits import MAX_RATE, MAX_SAMPLE, MAX_TAKE_S, MIN_RATE
from reins.errors import AudioError, StorageError

Array = npt.NDArray[np.float64]

BLOCK_FRAMES = 65536
MAX_CHANNELS = 2
FORMATS = ("wav", "flac")
SUBTYPES = {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}
DITHERS = ("none", "tpdf")
PARTIAL, DITHERED = "partial", "dithered"  # how the names of files end that are being written
LONG_NAME_BYTES = 120
ALLOWED = "WAV, FLAC, AIFF, OGG or MP3, mono or stereo"
_UNKNOWN_SIZE = 0xFFFFFFFF


def _declared_bytes(file: BinaryIO) -> tuple[int, int] | None:
    """(bytes the header of a RIFF or AIFF file promises for its sound, bytes that are there), or None.

    libsndfile quietly shortens a truncated file; this is how it is noticed.
    """
    head = file.read(12)
    big_endian = head[:4] == b"FORM"
    if not (big_endian or head[:4] == b"RIFF"):
        return None
    size = file.seek(0, os.SEEK_END)
    position = 12
    while position + 8 <= size:
        file.seek(position)
        name, length = struct.unpack(">4sI" if big_endian else "<4sI", file.read(8))
        if name in (b"data", b"SSND"):
            return None if length == _UNKNOWN_SIZE else (length, size - position - 8)
        position += 8 + length + length % 2
    return None


MOST_STAMP = 2 * 86400 * MAX_RATE  # two days
_STAMP_AT = 338  # into a bext chunk: after description, originator, its reference, date and time


def time_stamp(path: Path) -> int | None:
    """The first frame's time in frames since midnight, as a Broadcast Wave file says it (EBU Tech 3285, 2.3: bext,
    TimeReference), or None where there is none, or one that no day has.
    """
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] not in (b"RIFF", b"RF64", b"BW64") or head[8:12] != b"WAVE":
            return None
        while len(header := file.read(8)) == 8:
            name, length = struct.unpack("<4sI", header)
            if name == b"bext":
                chunk = file.read(min(length, _STAMP_AT + 8))
                stamp = int(struct.unpack("<Q", chunk[_STAMP_AT:])[0]) if len(chunk) == _STAMP_AT + 8 else None
                return None if stamp is None or stamp > MOST_STAMP else stamp
            if name == b"data" and length == _UNKNOWN_SIZE:
                return None
            file.seek(length + length % 2, os.SEEK_CUR)
    return None


def must_be_file(path: Path, name: str) -> None:
    """AudioError for what is there and neither a file nor a folder: from a pipe or a device nothing may ever come."""
    if path.exists() and not path.is_file() and not path.is_dir():
        raise AudioError(f"{name}: that is no file (a pipe or a device); give one that is.")


class AudioReader:
    """A file read as blocks (channels, frames) of float64 at the rate asked for.

    Raises AudioError when it is not audio, empty, truncated, of more than two channels, of a rate or length outside
    core.limits (checked before anything is read or resampled), or holds NaN, infinity or more than MAX_SAMPLE; the
    message names the file, what is wrong and what is allowed.
    """

    def __init__(self, path: Path, *, sample_rate: int | None = None, name: str | None = None) -> None:
        self.name = name or path.name
        must_be_file(path, self.name)
        try:
            with path.open("rb") as raw:
                declared = _declared_bytes(raw)
        except OSError as error:
            raise AudioError(
                f"{self.name}: cannot be opened ({error.strerror}); give a file that is there and may be read."
            ) from error
        if path.stat().st_size == 0:
            raise AudioError(f"{self.name}: the file is empty (0 bytes); {ALLOWED} is allowed.")
        try:
            self._file = soundfile.SoundFile(os.fsencode(path))
        except soundfile.SoundFileError as error:
            raise AudioError(f"{self.name}: this is not audio that can be read; {ALLOWED} is allowed.") from error
        self.channels = int(self._file.channels)
        self.source_rate = int(self._file.samplerate)
        self.sample_rate = sample_rate or self.source_rate
        self.source_frames = int(self._file.frames)
        try:
            self._check_shape(declared)
        except AudioError:
            self._file.close()
            raise
        self.frames = math.ceil(self.source_frames * self.sample_rate / self.source_rate)
        # What one read becomes at the rate asked for stays BLOCK_FRAMES, however far apart the rates are.
        self._piece_frames = max(1, min(BLOCK_FRAMES, BLOCK_FRAMES * self.source_rate // self.sample_rate))
        self._read_frames = 0
        self._resampler = (
            soxr.ResampleStream(self.source_rate, self.sample_rate, self.channels, dtype="float64", quality="VHQ")
            if self.sample_rate != self.source_rate
            else None
        )

    def _check_shape(self, declared: tuple[int, int] | None) -> None:
        if self.channels > MAX_CHANNELS:
            raise AudioError(f"{self.name}: it has {self.channels} channels; mono and stereo (1 or 2) are allowed.")
        if not MIN_RATE <= self.source_rate <= MAX_RATE:
            raise AudioError(
                f"{self.name}: its sample rate is {self.source_rate} Hz; {MIN_RATE} to {MAX_RATE} Hz is allowed."
            )
        if self.source_frames > MAX_TAKE_S * self.source_rate:
            raise AudioError(
                f"{self.name}: it is {self.source_frames / self.source_rate / 60:.0f} minutes long; up to "
                f"{MAX_TAKE_S / 60:g} minutes are allowed."
            )
        if declared and declared[1] < declared[0]:
            raise AudioError(
                f"{self.name}: the file is truncated: its header promises {declared[0]} bytes of sound, "
                f"{declared[1]} are there ({self.source_frames} whole frames)."
            )
        if self.source_frames == 0:
            raise AudioError(f"{self.name}: the file is empty: it holds 0 frames of sound.")

    def _read_source(self) -> Array:
        try:
            block = self._file.read(self._piece_frames, dtype="float64", always_2d=True)
        except soundfile.SoundFileError as error:
            raise self._truncated() from error
        if block.shape[0] < min(self._piece_frames, self.source_frames - self._read_frames):
            self._read_frames += block.shape[0]
            raise self._truncated()
        if not (block.max(initial=0.0) <= MAX_SAMPLE and block.min(initial=0.0) >= -MAX_SAMPLE):
            bad = ~(np.abs(block) <= MAX_SAMPLE).all(axis=1)
            index = int(np.argmax(bad))
            frame, loudest = self._read_frames + index, np.abs(block[index]).max()
            if np.isfinite(loudest):
                raise AudioError(
                    f"{self.name}: frame {frame} is {loudest:.3g} times full scale; up to {MAX_SAMPLE:.0f} times "
                    "(144 dB) is allowed."
                )
            raise AudioError(f"{self.name}: frame {frame} is not a number; every sample must be finite.")
        self._read_frames += block.shape[0]
        return block

    def _truncated(self) -> AudioError:
        return AudioError(
            f"{self.name}: the file is truncated: {self.source_frames} frames are promised, "
            f"about {self._read_frames} are there; give a whole copy."
        )

    def blocks(self) -> Iterator[Array]:
        """Blocks in order, of whatever length comes, exactly `frames` in all."""
        left = self.frames
        while left > 0:
            block = self._read_source()
            last = self._read_frames >= self.source_frames
            if self._resampler is not None:
                block = self._resampler.resample_chunk(block, last=last)
            if last and block.shape[0] < left:
                block = np.concatenate([block, np.zeros((left - block.shape[0], self.channels))])
            block = block[:left]
            left -= block.shape[0]
            yield np.ascontiguousarray(block.T)

    def close(self) -> None:
        """Close the file."""
        self._file.close()

    def __enter__(self) -> "AudioReader":
        return self

    def __exit__(self, kind: type | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()


class BlockFeed:
    """Gives a reader's blocks in any length asked for, silence after its end; `heard` is given them as they come."""

    def __init__(self, reader: AudioReader, heard: Callable[[Array], None] = lambda block: None) -> None:
        self._blocks, self._heard = reader.blocks(), heard
        self._block, self._at = np.zeros((reader.channels, 0)), 0

    def take(self, frames: int) -> Array:
        """The next block (channels, frames) float64."""
        out, have = np.zeros((self._block.shape[0], frames)), 0
        while have < frames:
            if self._at == self._block.shape[1]:
                block = next(self._blocks, None)
                if block is None:
                    break
                self._heard(block)
                self._block, self._at = block, 0
            part = self._block[:, self._at : self._at + frames - have]
            out[:, have : have + part.shape[1]] = part
            have, self._at = have + part.shape[1], self._at + part.shape[1]
        return out


class AudioWriter:
    """Writes blocks to a file that appears under its name only when finished; otherwise nothing is left.

    file_format "wav" or "flac"; bits "16", "24" or "32f" (float, WAV only); dither as check_output has it. Blocks come
    at source_rate when that is not the file's sample_rate. Integer formats round to the nearest value and clip at full
    scale; `clipped_frames` counts how often. `name` is what the file is called in sentences.
    """

    def __init__(
        self, path: Path, *, channels: int, sample_rate: int, file_format: str, bits: str,
        source_rate: int | None = None, dither: str | None = None, name: str | None = None,
    ) -> None:  # fmt: skip
        check_output(path, file_format, bits, dither)
        self.path, self.name = path, name or str(path)
        self.clipped_frames = 0
        self._rounder = None if bits == "32f" else Rounder(int(bits), channels)
        self._dither = dither or ("tpdf" if bits == "16" else "none")
        self._given, self._written, self._rates = 0, 0, (source_rate or sample_rate, sample_rate)
        self._resampler = (
            soxr.ResampleStream(*self._rates, channels, dtype="float64", quality="VHQ")
            if self._rates[0] != sample_rate
            else None
        )
        self._channels = channels
        self._kind = {"subtype": SUBTYPES[bits], "format": file_format.upper()}
        self._partial = partial_of(path)
        self._file = self._open(self._partial)

    def _open(self, path: Path) -> soundfile.SoundFile:
        try:
            return soundfile.SoundFile(os.fsencode(path), "w", self._rates[1], self._channels, **self._kind)
        except (soundfile.SoundFileError, OSError) as error:
            path.unlink(missing_ok=True)
            raise AudioError(f"{self.name}: cannot be written there; choose another folder or name.") from error

    def write(self, block: Array) -> None:
        """Append a block (channels, frames)."""
        self._given += block.shape[1]
        if self._resampler is None:
            self._put(block.T)
        else:
            self._put(self._resampler.resample_chunk(np.ascontiguousarray(block.T)))

    def _put(self, frames_first: Array) -> None:
        before = self._written
        self._written += frames_first.shape[0]
        if self._rounder is None:
            self._store(self._file, frames_first)
            return
        if frames_first.max(initial=0.0) > 1.0 or frames_first.min(initial=0.0) < -1.0:
            self.clipped_frames += int((np.abs(frames_first) > 1.0).any(axis=1).sum())
        if self._dither == "tpdf" and not self._rounder.dithering and not self._rounder.on_grid(frames_first):
            self._rounder.dithering = True
            if before:
                self._dither_from_the_start()
        self._store(self._file, self._rounder.round(frames_first))

    def _dither_from_the_start(self) -> None:
        """What was written so far lay on the grid and was left untouched; now that not all does, dither it too."""
        assert self._rounder is not None
        self._file.close()
        again = self._partial.with_suffix(f".{DITHERED}")
        try:
            with soundfile.SoundFile(os.fsencode(self._partial)) as before:
                self._file = self._open(again)
                for block in before.blocks(BLOCK_FRAMES, dtype="float64", always_2d=True):
                    self._store(self._file, self._rounder.round(block))
            again.replace(self._partial)
        except (soundfile.SoundFileError, OSError) as error:
            raise self._refused(error) from error
        finally:
            again.unlink(missing_ok=True)

    def _store(self, file: soundfile.SoundFile, frames_first: npt.NDArray[Any]) -> None:
        try:
            file.write(frames_first)
        except (soundfile.SoundFileError, OSError) as error:
            raise self._refused(error) from error

    def _refused(self, error: Exception) -> StorageError:
        why = getattr(error, "strerror", None) or "it may be full"
        return StorageError(f"{self.name}: the disk refused ({why}); no file was left there.")

    def _finish(self) -> None:
        """Put out what the resampler still holds; the file is as long as what was given."""
        if self._resampler is not None:
            wanted = math.ceil(self._given * self._rates[1] / self._rates[0]) - self._written
            rest = self._resampler.resample_chunk(np.zeros((0, self._channels)), last=True)[:wanted]
            self._put(np.concatenate([rest, np.zeros((wanted - rest.shape[0], self._channels))]))

    def __enter__(self) -> "AudioWriter":
        return self

    def __exit__(self, kind: type | None, error: BaseException | None, trace: TracebackType | None) -> None:
        try:
            if kind is None:
                self._finish()
            self._file.close()
            if kind is None:
                sync(self._partial)
                self._partial.replace(self.path)
        except (soundfile.SoundFileError, OSError) as refused:
            raise self._refused(refused) from refused
        finally:
            self._partial.unlink(missing_ok=True)


def partial_of(path: Path) -> Path:
    """Where a file is written before it is whole: beside it, hidden, under a name that no other process anywhere gives,
    and that is not too long where the file's own is not.
    """
    name = path.name
    if len(os.fsencode(name)) > LONG_NAME_BYTES:
        name = hashlib.blake2b(os.fsencode(name), digest_size=8).hexdigest()
    return path.with_name(f".{name}.{platform.node()[:64]}.{os.getpid()}.{PARTIAL}")


def is_left_behind(path: Path) -> bool:
    """Whether a file is what a process of this machine that is no more had begun to write."""
    found = re.fullmatch(rf"\..*\.{re.escape(platform.node()[:64])}\.(\d+)\.({PARTIAL}|{DITHERED})", path.name)
    return found is not None and not _runs(int(found[1]))


def _runs(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):
        return True
    return True


def check_output(path: Path, file_format: str, bits: str, dither: str | None = None) -> None:
    """Raise AudioError unless a file of this kind can be written at path.

    dither "tpdf" or "none"; None is tpdf for 16 bits, none for 24. Samples that all lie on the file's own grid are
    never dithered.
    """
    if dither not in (None, *DITHERS):
        raise AudioError(f"dither {dither}: {' or '.join(DITHERS)} is allowed.")
    if dither == "tpdf" and bits == "32f":
        raise AudioError("dither tpdf: 32-bit float needs none; none is allowed.")
    if file_format not in FORMATS:
        raise AudioError(f"format {file_format}: {' or '.join(FORMATS)} is allowed.")
    if bits not in SUBTYPES:
        raise AudioError(f"bits {bits}: {', '.join(SUBTYPES)} are allowed.")
    if file_format == "flac" and bits == "32f":
        raise AudioError("bits 32f: FLAC holds 16 or 24 bits; write WAV for 32-bit float.")
    if not path.parent.is_dir():
        raise AudioError(f"{path}: the folder {path.parent} does not exist; make it first.")
    if path.is_dir():
        raise AudioError(f"{path}: that is a folder; give the name of a file.")
