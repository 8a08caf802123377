"""Session files: a whole session as one open file, out and in, and the mix of one from the command line."""

import contextlib
import functools
import lzma
import shutil
import struct
import zipfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from reins.core.audio import AudioReader, AudioWriter, must_be_file
from reins.core.impulses import impulse_of, looked_for_in
from reins.core.last_word import behind_limiter, said_behind
from reins.core.limits import MAX_SESSION_FILES, MAX_SESSION_JSON_BYTES, MAX_UNPACKED_BYTES, check_room
from reins.core.newtakes import on_new_takes
from reins.core.sessionfile import (
    JSON_NAME,
    TAKES,
    FileTake,
    SessionFile,
    format_session_file,
    parse_session_file,
)
from reins.core.sessions import Document, new_id
from reins.core.takes import Take, TakeFacts, on_grid, write_take
from reins.errors import AudioError, SettingsError, StorageError
from reins.services.bringing_in import check_swelling, new_takes, take_bytes
from reins.services.editing import document_of, keep_session
from reins.services.exporting import Output, mix_names, pack, write_mix
from reins.services.house import House
from reins.services.mapping import complete
from reins.services.outputs import check_outputs, check_outside
from reins.store.takes import list_takes

Progress = Callable[[int, int], None]
BLOCK_FRAMES = 65536
# What reading a damaged zip, or one packed in a way that is not known, can raise.
DAMAGED = (
    zipfile.BadZipFile, zlib.error, lzma.LZMAError, UnicodeDecodeError, EOFError, NotImplementedError, RuntimeError,
    ValueError, struct.error,
)  # fmt: skip


def export_session(house: House, session_id: str, folder: Path, progress: Progress) -> dict[str, object]:
    """Write a session with its takes into one file; returns {"file", "rounded_takes"}.

    rounded_takes counts takes that are older than the 24-bit grid and were rounded to it.
    """
    document = document_of(house, session_id)
    with house.reading() as db:
        names = {take_id: row["name"] for take_id, row in list_takes(db, session_id).items()}
    takes = house.takes(document) | {take_id: house.take(take_id) for take_id in document.beside}
    total, done, rounded = sum(take.facts.frames for take in takes.values()), 0, 0
    rows, files = {}, []
    for take_id, take in takes.items():
        row = FileTake(name=names[take_id], file=f"{TAKES}/{take_id}.flac", exponent=take.exponent())
        path = folder / f"{take_id}.flac"
        so_far = functools.partial(lambda before, frames: progress(before + frames, total), done)
        rounded += _write_flac(path, take, row.exponent, so_far)
        done += take.facts.frames
        rows[take_id] = row
        files.append((path, row.file))
    text = folder / JSON_NAME
    text.write_text(format_session_file(document, rows), encoding="utf-8")
    packed = folder / "session.reins.zip"
    pack(packed, [(text, JSON_NAME), *files])
    return {"file": str(packed), "rounded_takes": rounded}


def _write_flac(path: Path, take: Take, exponent: int, progress: Callable[[int], None]) -> bool:
    """Write a take; returns whether it had to be rounded."""
    facts, rounded = take.facts, False
    with AudioWriter(
        path, channels=facts.channels, sample_rate=facts.sample_rate, file_format="flac", bits="24"
    ) as writer:
        for first in range(0, facts.frames, BLOCK_FRAMES):
            block = take.read(first, min(BLOCK_FRAMES, facts.frames - first))
            kept = on_grid(block, exponent)
            rounded = rounded or bool((kept != block).any())
            writer.write(kept / 2.0**exponent)
            progress(first + block.shape[1])
    return rounded


def import_session(house: House, path: Path, name: str, progress: Progress) -> str:
    """Bring a session file in as a new session; returns its id.

    Raises SettingsError for a file that is no session file, is corrupted or holds a path out of its folder, AudioError
    for a take that is not allowed; then nothing is left.
    """
    with new_takes(house) as takes:
        folder = takes.passing
        parsed = _unpack(path, name, folder)
        check_swelling(house, path, _check_takes(folder, parsed, name, house.takes_dir), name)
        facts, ids = {}, {}
        for index, (take_id, row) in enumerate(parsed.takes.items()):
            progress(index, len(parsed.takes))
            with _take_blocks(folder, row, parsed.session.sample_rate, name) as (reader, blocks):
                ids[take_id], facts[take_id] = takes.write(
                    blocks, channels=reader.channels, sample_rate=reader.sample_rate, progress=lambda frames: None
                )
        takes.move_in()
        rows = [(ids[k], parsed.takes[k].name, facts[k]) for k in ids]
        return keep_session(
            house, complete(on_new_takes(parsed.session, ids), lambda one: Take(house.takes_dir / one)), rows
        )


def _check_takes(folder: Path, parsed: SessionFile, name: str, into: Path) -> int:
    """Look at every take, and at the room they need, before the first of them is brought in; how many bytes it is."""
    wanted = 0
    for row in parsed.takes.values():
        with _take_blocks(folder, row, parsed.session.sample_rate, name) as (reader, _):
            wanted += take_bytes(reader.frames, reader.channels)
    check_room(into, wanted, f"{name}: it")
    return wanted


@contextlib.contextmanager
def _packed(path: Path, name: str) -> Iterator[tuple[zipfile.ZipFile, SessionFile]]:
    """A zip with what its document says; SettingsError, also while it is read, for one that is damaged."""
    try:
        with zipfile.ZipFile(path) as packed:
            entries = {info.filename: info for info in packed.infolist()}
            if len(entries) > MAX_SESSION_FILES:
                raise SettingsError(f"{name}: it holds {len(entries)} files; up to {MAX_SESSION_FILES} are allowed.")
            if JSON_NAME not in entries:
                raise SettingsError(f"{name}: there is no {JSON_NAME} in it; it is not a session file.")
            if entries[JSON_NAME].file_size > MAX_SESSION_JSON_BYTES:
                allowed = f"up to {MAX_SESSION_JSON_BYTES >> 20} MiB are allowed"
                raise SettingsError(f"{name}: its {JSON_NAME} has {entries[JSON_NAME].file_size >> 20} MiB; {allowed}.")
            yield packed, parse_session_file(packed.read(JSON_NAME).decode("utf-8"), f"{name}: {JSON_NAME}")
    except DAMAGED as error:
        raise SettingsError(
            f"{name}: the file is damaged, or not a session file ({error}); nothing was added."
        ) from error
    except OSError as error:
        raise StorageError(f"{name}: the disk refused ({error.strerror}); nothing was added.") from error


def _unpack(path: Path, name: str, folder: Path) -> SessionFile:
    """Check a zip and lay out what its document names, and nothing else, in a folder."""
    with _packed(path, name) as (packed, parsed):
        entries = {info.filename: info for info in packed.infolist()}
        wanted = sum(entries[row.file].file_size for row in parsed.takes.values() if row.file in entries)
        if wanted > MAX_UNPACKED_BYTES:
            allowed = f"up to {MAX_UNPACKED_BYTES >> 30} GiB are allowed"
            raise SettingsError(f"{name}: its takes have {wanted >> 30} GiB once unpacked; {allowed}.")
        check_room(folder, wanted, f"{name}: it")
        for row in parsed.takes.values():
            if row.file not in entries:
                raise SettingsError(f"{name}: the take {row.file} is not in it; ask for a whole copy.")
            place = folder / row.file
            place.parent.mkdir(parents=True, exist_ok=True)
            with packed.open(row.file) as source, place.open("wb") as target:
                shutil.copyfileobj(source, target, 1 << 20)
    return parsed


@contextlib.contextmanager
def _take_blocks(
    folder: Path, row: FileTake, sample_rate: int, name: str
) -> Iterator[tuple[AudioReader, Iterator[np.ndarray]]]:
    """A take's reader and its blocks at the session's rate, multiplied by two to the take's exponent."""
    path = (folder / row.file).resolve()
    if not path.is_relative_to(folder.resolve()):
        raise SettingsError(f"{name}: {row.file} lies outside the session's folder; allowed: a file within it.")
    if not path.is_file():
        raise AudioError(f"{name}: {row.file} is not there; put it beside the session.")
    with AudioReader(path, sample_rate=sample_rate, name=f"{name}: {row.file}") as reader:
        yield reader, (block * 2.0**row.exponent for block in reader.blocks())


def render_session(
    path: Path, folder: Path, output: Output, progress: Progress, *, mix: bool, stems: bool
) -> tuple[dict[str, int], list[str]]:
    """Write mix and stems of a session file (the zip, or the JSON with its takes beside it) into a folder.

    Returns clipped frames by file name, and sentences on processors that failed and were passed by, and on what stands
    behind the master's limiter; nothing half-written is left, whatever happens.
    """
    output.check()
    if not folder.is_dir():
        raise SettingsError(f"{folder}: this folder does not exist; make it first.")
    told: dict[str, str] = {}
    check_outside(folder)
    session, files = described(path)
    check_outputs([folder / name for name in mix_names(session, output, mix=mix, stems=stems)], files)
    with opened(path, folder) as (document, takes):
        clipped = write_mix(document, takes, folder, output, progress, mix=mix, stems=stems, told=told)
    behind = said_behind(behind_limiter(session.master.chain)) if mix else ""
    return clipped, [*told.values(), *([f"Master: {behind}"] if behind else [])]


def described(path: Path) -> tuple[Document, list[Path]]:
    """What a session file (the zip, or the JSON with its takes beside it) holds, and the files it is read from."""
    if _is_packed(path):
        with _packed(path, path.name) as (_, parsed):
            return parsed.session, [path]
    parsed = parse_session_file(_text(path), path.name)
    return parsed.session, [path, *(path.parent / row.file for row in parsed.takes.values())]


@contextlib.contextmanager
def opened(path: Path, folder: Path) -> Iterator[tuple[Document, dict[str, Take]]]:
    """A session file (the zip, or the JSON with its takes beside it) with its takes, laid out in a folder while they
    are needed.
    """
    with _beside(folder) as work:
        if _is_packed(path):
            parsed, root = _unpack(path, path.name, work / "unpacked"), work / "unpacked"
        else:
            parsed, root = parse_session_file(_text(path), path.name), path.parent
        takes: dict[str, Take] = {}
        _check_takes(root, parsed, path.name, folder)
        for take_id, row in parsed.takes.items():
            with _take_blocks(root, row, parsed.session.sample_rate, path.name) as (reader, blocks):
                facts = TakeFacts(reader.channels, reader.sample_rate, reader.frames)
                place = work / f"take{len(takes)}"
                write_take(place, blocks, channels=facts.channels, sample_rate=facts.sample_rate)
            takes[take_id] = Take(place)
        impulses = {name: impulse_of(takes[name]) for name in parsed.session.impulses}
        with looked_for_in(impulses.get):
            yield complete(parsed.session, takes.__getitem__), takes


@contextlib.contextmanager
def _beside(folder: Path) -> Iterator[Path]:
    """A folder for what is only needed while rendering; gone afterwards."""
    work = folder / f".reins-{new_id()}"
    try:
        (work / "unpacked").mkdir(parents=True)
    except OSError as error:
        raise StorageError(f"{folder}: cannot be written to ({error.strerror}); choose another folder.") from error
    try:
        yield work
    finally:
        shutil.rmtree(work, ignore_errors=True)


def _is_packed(path: Path) -> bool:
    must_be_file(path, path.name)
    return zipfile.is_zipfile(path)


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except OSError as error:
        raise SettingsError(
            f"{path}: cannot be opened ({error.strerror}); give a file that is there and may be read."
        ) from error
    except UnicodeDecodeError as error:
        raise SettingsError(f"{path}: cannot be read as text; a session is JSON, or a zip with it.") from error
