"""Handing over: one strip, the mix, its stems; the same samples that are heard."""

import itertools
import re
import time
import zipfile
from collections.abc import Callable, Iterable
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from reins.core.audio import AudioWriter
from reins.core.engine.entries import channels_after
from reins.core.engine.length import sounding_frames, strip_frames
from reins.core.engine.offline import render_mix_and_stems, render_strip, stem_ids
from reins.core.limits import MAX_RATE, MIN_RATE, check_room
from reins.core.sessions import Document
from reins.core.takes import Take
from reins.errors import ConflictError, SettingsError, StorageError
from reins.services.editing import document_of
from reins.services.house import House

#: What a pattern of names may hold, and what stands for it.
NAMES = {"session": "the session", "name": "the strip, or “mix”", "number": "the stem's number", "date": "today"}
Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Output:
    """What kind of file is wanted; sample_rate None is the session's."""

    file_format: str = "wav"
    bits: str = "24"
    sample_rate: int | None = None
    dither: str | None = None  # None: tpdf for 16 bits
    first: int = 0  # frames of the session from which and to which it is written; None is the end
    end: int | None = None
    names: str = ""  # a pattern, see named

    def check(self) -> None:
        """Raise SettingsError for a rate that is not allowed; format and bits are checked where they are written."""
        if self.sample_rate is not None and not MIN_RATE <= self.sample_rate <= MAX_RATE:
            raise SettingsError(f"rate is {self.sample_rate}; allowed: {MIN_RATE} to {MAX_RATE} Hz.")
        if self.end is not None and self.end <= self.first:
            raise SettingsError(
                f"It would end at frame {self.end}, before it begins at {self.first}; nothing was written."
            )
        if unknown := set(re.findall(r"{(.*?)}", self.names)) - NAMES.keys():
            raise SettingsError(
                f"names: {{{min(unknown)}}} is not known; allowed: {', '.join(f'{{{n}}}' for n in NAMES)}."
            )

    def part(self, block: np.ndarray, done: int, frames: int) -> np.ndarray:
        """What of a block that begins at frame `done` is to be written."""
        end = frames if self.end is None else min(self.end, frames)
        return block[:, max(self.first - done, 0) : max(end - done, 0)]

    def check_span(self, frames: int) -> None:
        """ConflictError where what is wanted begins after the end of all sound."""
        if self.first >= frames:
            raise ConflictError("What is to be exported begins after the end of the session; choose a part within it.")

    def named(self, usual: str, *, session: str, name: str, number: int | None = None) -> str:
        """The name of a file, without its ending, by the pattern and safe; `usual` where none is given."""
        if not self.names.strip():
            return usual
        facts = {"session": session, "name": name, "number": "" if number is None else f"{number:02d}"}
        facts["date"] = time.strftime("%Y-%m-%d")
        made = re.sub(r"{(.*?)}", lambda found: facts[found[1]], self.names).strip()
        return safe_file(made) if made else usual

    def bytes_for(self, frames: int, channels: int, source_rate: int) -> int:
        """What a file of so many frames takes at most."""
        sample = {"16": 2, "24": 3}.get(self.bits, 4)
        return int(frames * (self.sample_rate or source_rate) / source_rate + 1) * channels * sample + 4096

    def writer(self, path: Path, *, channels: int, source_rate: int) -> AudioWriter:
        """A writer of such a file for blocks at source_rate."""
        return AudioWriter(
            path, channels=channels, sample_rate=self.sample_rate or source_rate, file_format=self.file_format,
            bits=self.bits, source_rate=source_rate, dither=self.dither, name=path.name,
        )  # fmt: skip


def export_strip(
    house: House, session_id: str, strip_id: str, path: Path, output: Output, progress: Progress
) -> dict[str, Any]:
    """Write a track through its chain, or a bus with all that goes into it; fader and pan are left out.

    Returns {"frames", "clipped_frames", "passed_by"}; passed_by are sentences on processors that failed. Nothing
    half-written is left when it fails or is cancelled.
    """
    document = document_of(house, session_id)
    takes = house.takes(document)
    channels = 2
    if strip_id in document.tracks:
        track = document.tracks[strip_id]
        if track.take_id is None:
            raise ConflictError(f"{track.name}: this track has no take; there is nothing to export.")
        channels = channels_after(track.chain, takes[track.take_id].facts.channels)
    else:
        _length(document, takes)
    frames = strip_frames(document, takes, strip_id)
    output.check_span(frames)
    check_room(path.parent, output.bytes_for(frames, channels, document.sample_rate), "The export")
    done = 0
    told: dict[str, str] = {}
    with output.writer(path, channels=channels, source_rate=document.sample_rate) as writer:
        for block in render_strip(document, takes, strip_id, frames, told):
            writer.write(output.part(block, done, frames))
            done += block.shape[1]
            progress(done, frames)
    return {
        "frames": frames_of(output, frames),
        "clipped_frames": writer.clipped_frames,
        "passed_by": list(told.values()),
    }


def frames_of(output: Output, frames: int) -> int:
    """How many of so many frames are written."""
    return (frames if output.end is None else min(output.end, frames)) - output.first


def _length(document: Document, takes: dict[str, Take]) -> int:
    frames = sounding_frames(document, takes)
    if frames == 0:
        raise ConflictError("There is nothing to export yet: the session has no track with a take.")
    return frames


def write_mix(
    document: Document, takes: dict[str, Take], folder: Path, output: Output, progress: Progress, *,
    mix: bool, stems: bool, told: dict[str, str] | None = None,
) -> dict[str, int]:  # fmt: skip
    """Write mix.FORMAT and stems_NN_name.FORMAT into a folder, all as long as the session, or none of them.

    Returns how many frames an integer format had to clip, by file name.
    """
    frames = _length(document, takes)
    output.check_span(frames)
    ids = stem_ids(document) if stems else []
    wanted = output.bytes_for(frames, 2, document.sample_rate) * (len(ids) + mix)
    check_room(folder, wanted, "The export")
    names = _stem_names(document, ids, output)
    done = 0
    with ExitStack() as stack:

        def open_writer(name: str) -> AudioWriter:
            return stack.enter_context(output.writer(folder / name, channels=2, source_rate=document.sample_rate))

        whole = open_writer(f"mix.{output.file_format}") if mix else None
        parts = {k: open_writer(name) for k, name in names.items()}
        for block, blocks in render_mix_and_stems(document, takes, frames, told):
            if whole is not None:
                whole.write(output.part(block, done, frames))
            for k, writer in parts.items():
                writer.write(output.part(blocks.get(k, np.zeros_like(block)), done, frames))
            done += block.shape[1]
            progress(done, frames)
    written = [*parts.values(), *([whole] if whole is not None else [])]
    return {writer.path.name: writer.clipped_frames for writer in written}


def mix_names(document: Document, output: Output, *, mix: bool, stems: bool) -> list[str]:
    """What write_mix calls the files it writes."""
    parts = _stem_names(document, stem_ids(document), output).values() if stems else ()
    return [*([f"mix.{output.file_format}"] if mix else []), *parts]


def _stem_names(document: Document, ids: list[str], output: Output) -> dict[str, str]:
    """File names of stems, each its own, also where capitals are not told apart: what a pattern would name as another,
    or as the mix, is numbered, with the first number that is free.
    """
    names: dict[str, str] = {}
    taken = {"mix"}
    for number, strip_id in enumerate(ids, 1):
        name = document.strip(strip_id).name
        usual = f"stem_{number:02d}_{safe_name(name)}"
        made = output.named(usual, session=document.name, name=name, number=number)
        free = (made, *(f"{made} {k}" for k in itertools.chain([number], range(2, len(ids) + 3))))
        called = next(name for name in free if name.lower() not in taken)
        taken.add(called.lower())
        names[strip_id] = f"{called}.{output.file_format}"
    return names


def safe_file(name: str) -> str:
    """A name as a file may have it on any system: nothing that parts folders, no dot in front."""
    return re.sub(r'[\\/:*?"<>|\x00-\x1f]+', "_", name).strip(" .")[:120] or "export"


def safe_name(name: str) -> str:
    """A name given by a person as part of a file's name: letters, digits, dash and underscore."""
    return re.sub(r"[^\w-]+", "_", name, flags=re.ASCII).strip("_")[:40] or "track"


def export_mix(
    house: House, session_id: str, folder: Path, output: Output, progress: Progress, *, stems: bool
) -> dict[str, object]:
    """Write the mix as one file, or the stems as one zip of files; returns {"file", "clipped_frames"}."""
    document = document_of(house, session_id)
    told: dict[str, str] = {}
    takes = house.takes(document)
    clipped = write_mix(document, takes, folder, output, progress, mix=not stems, stems=stems, told=told)
    path = folder / f"mix.{output.file_format}"
    if stems:
        path = folder / "stems.zip"
        pack(path, [(folder / name, name) for name in clipped])
    return {"file": str(path), "clipped_frames": sum(clipped.values()), "passed_by": list(told.values())}


def pack(path: Path, files: Iterable[tuple[Path, str]]) -> None:
    """Put files into a zip as they are and remove them; StorageError when the disk refuses, and then no zip is left."""
    try:
        with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as packed:
            for file, name in files:
                packed.write(file, name)
                file.unlink()
    except OSError as error:
        path.unlink(missing_ok=True)
        raise StorageError(f"The disk refused ({error.strerror}); no file was left there.") from error
