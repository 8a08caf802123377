"""What is done to one file of a batch: a task that may travel to any process or machine, and the row that comes back.

A task is a frozen value and `hold` a function of the module, so that whatever runs tasks can send them; files lie where
all see them. What a file was made of is known by content: the input, its keys, the chain and the recordings it names,
what is written, and the version. Where the output of the same is there, nothing is done again.
"""

import hashlib
import json
import logging
import os
import platform
import time
from dataclasses import asdict, dataclass, field, replace
from functools import cache, lru_cache
from importlib.metadata import version
from pathlib import Path
from typing import Any

from reins.core.audio import AudioReader
from reins.core.chainfile import Parsed, parse_chain
from reins.core.engine.chain import Chain
from reins.core.measure.soundmeter import SoundMeter
from reins.core.settings.fields import recordings
from reins.errors import ReinsError
from reins.services.aiming import aim_chain, keep_chain
from reins.services.batch.doings import Doings
from reins.services.processing import Holding, hold_file

log = logging.getLogger(__name__)
BLOCK_FRAMES, LEAST_FRAMES = 16384, 512
READ_BYTES = 1 << 20
CHAIN_ENDING = ".chain.json"
HELD, KEPT, FAILED = "held", "there already", "failed"


@dataclass(frozen=True)
class Wish:
    """An aim, and by how much, where that is not its own default."""

    aim: str
    number: float | None = None


@dataclass(frozen=True)
class Written:
    """What kind of file is written."""

    file_format: str = "wav"
    bits: str = "24"
    dither: str | None = None


@dataclass(frozen=True)
class Task:
    """One file to be held: by a chain, whose text is given, or by what is found for it."""

    source: str
    output: str
    chain: str | None
    folder: str  # of the recordings that the chain names
    wishes: tuple[Wish, ...] = ()
    keys: tuple[tuple[str, str], ...] = ()
    written: Written = field(default_factory=Written)
    known: tuple[str, int, str] | None = None  # of the output that is there: what it was made of, its size and digest


@dataclass(frozen=True)
class Row:
    """What became of a file. Levels are None where they cannot be given, or where nothing was done."""

    file: str
    output: str
    done: str
    made_of: str | None = None
    output_bytes: int | None = None
    output_digest: str | None = None
    seconds: float | None = None  # how long its sound is
    lufs_before: float | None = None
    lufs_after: float | None = None
    true_peak_before_dbtp: float | None = None
    true_peak_after_dbtp: float | None = None
    crest_before_db: float | None = None
    crest_after_db: float | None = None
    usual_db: float | None = None
    deepest_db: float | None = None
    held_pct: float | None = None
    clipped_frames: int | None = None
    chain_file: str | None = None
    reason: str | None = None
    problem: str | None = None
    took_s: float = 0.0
    worker: str = ""


def hold(task: Task) -> Row:
    """Hold a file, and say what became of it; never raises for what lies with that file."""
    began, worker = time.perf_counter(), f"{platform.node()}:{os.getpid()}"
    nothing = Row(task.source, task.output, FAILED, worker=worker)
    try:
        row = _held(task, nothing)
    except ReinsError as error:
        name, sentence = Path(task.source).name, str(error)
        whole = sentence.removeprefix(name)  # a name alone could be any of many
        row = replace(nothing, problem=f"{task.source}{whole}" if whole != sentence else f"{task.source}: {sentence}")
    except Exception:  # one file never takes the others with it
        log.exception("%s could not be held", task.source)
        row = replace(nothing, problem=f"{task.source}: something went wrong here; standard error says more.")
    return replace(row, took_s=round(time.perf_counter() - began, 4))


def _held(task: Task, row: Row) -> Row:
    made_of = content_of(task)
    if task.known is not None and task.known == (made_of, *_shape(Path(task.output))):
        return replace(row, done=KEPT, made_of=made_of)
    parsed, told = _chain_for(task)
    how = Holding(
        {name: Path(path) for name, path in task.keys}, task.written.file_format, task.written.bits,
        task.written.dither, told.pop("tempo_bpm", None) or 120.0, Path(task.folder),
    )  # fmt: skip
    with AudioReader(Path(task.source)) as reader:
        before = SoundMeter(reader.channels, reader.sample_rate)
        frames, rate = reader.frames, reader.sample_rate
    doings: list[Doings] = []

    def watch(chain: Chain, source: AudioReader) -> Any:
        doings.append(Doings(chain, source))
        return doings[0].feed

    block = min(BLOCK_FRAMES, max(LEAST_FRAMES, frames))  # a short sound is not filled up to a long block
    clipped, failures = hold_file(
        Path(task.source), Path(task.output), parsed, how, block_frames=block, watch=watch, heard=before.feed
    )
    was, did = before.finish(), doings[0].finish()
    size, digest = _shape(Path(task.output))
    return replace(
        row, done=HELD, made_of=made_of, output_bytes=size, output_digest=digest,
        seconds=round(frames / rate, 3), lufs_before=was["integrated_lufs"],
        true_peak_before_dbtp=was["true_peak_dbtp"], crest_before_db=was["crest_db"],
        clipped_frames=clipped, problem=" ".join(failures) or None, **did, **told,
    )  # fmt: skip


def _chain_for(task: Task) -> tuple[Parsed, dict[str, Any]]:
    """The chain of a task, and what a row tells of how it was found; what was found is written beside the output."""
    if task.chain is not None:
        return _parsed(task.chain), {}
    key = next((Path(path) for _, path in task.keys), None)
    found = aim_chain([(wish.aim, wish.number) for wish in task.wishes], Path(task.source), key=key)
    chain_file = Path(task.output).with_suffix(CHAIN_ENDING)
    keep_chain(chain_file, found["chain"])
    told = {"chain_file": str(chain_file), "reason": found["reason"], "tempo_bpm": found["tempo_bpm"]}
    return parse_chain(json.dumps(found["chain"]), chain_file.name), told


@cache
def _version() -> str:
    return version("reins")


@lru_cache(4)
def _parsed(text: str) -> Parsed:
    """Of one chain for ten thousand files."""
    return parse_chain(text, "the chain")


@lru_cache(4)
def _named(text: str) -> list[str]:
    """The recordings that a chain names."""
    return [name for entry in _parsed(text).entries for name in recordings(entry.settings).values()]


def content_of(task: Task) -> str:
    """What the output of a task is made of, as a digest."""
    known = [_version(), task.chain or "", *(repr(wish) for wish in task.wishes), repr(asdict(task.written))]
    files = [task.source, *(path for _, path in task.keys)]
    if task.chain is not None:
        files += [str(Path(task.folder) / name) for name in _named(task.chain)]
    digest = hashlib.blake2b(json.dumps(known + [name for name, _ in task.keys]).encode(), digest_size=20)
    for path in files:
        digest.update(_digest(Path(path)))
    return digest.hexdigest()


def _shape(path: Path) -> tuple[int, str]:
    """Size and digest of an output, by which it is known whether it is still what was written."""
    return (path.stat().st_size, _digest(path).hex()) if path.is_file() else (0, "")


def _digest(path: Path) -> bytes:
    own = hashlib.blake2b(digest_size=20)
    try:
        with path.open("rb") as file:
            while part := file.read(READ_BYTES):
                own.update(part)
    except OSError:
        return b""  # what opens it in earnest says what is wrong with it
    return own.digest()
