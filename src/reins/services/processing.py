"""Work on files: hold one through a chain, measure, time the processors. Joins core and disk for the command line."""

import csv
import tempfile
import time
from collections.abc import Callable, Mapping
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from reins.core.audio import AudioReader, AudioWriter, BlockFeed, check_output, must_be_file
from reins.core.chainfile import Parsed, ProcessorEntry, parse_chain, parse_settings
from reins.core.engine.chain import Chain
from reins.core.engine.entries import wants_spectrum
from reins.core.engine.offline import run_chain
from reins.core.finding.marks import Marks
from reins.core.impulses import given_beside
from reins.core.laid import reader as reader_of
from reins.core.measure.soundmeter import SoundMeter
from reins.core.measure.spectra import SpectrumMeter
from reins.core.moves.models import outside_keys
from reins.core.processors import PROCESSORS
from reins.core.processors.base import Array, alone
from reins.core.processors.making import Make
from reins.core.routing import ahead_of, is_hits, key_names, taken_from
from reins.core.settings.fields import recordings
from reins.core.settings.paths import laid_over
from reins.core.struck import StruckSound, map_of
from reins.core.takes import Take, write_take
from reins.core.time import Beat, Stream, When
from reins.errors import SettingsError
from reins.services.outputs import check_outputs, recordings_of

Progress = Callable[[int, int], None]
MAX_BLOCK_FRAMES = 1 << 20
BENCH_ROUNDS, BENCH_TIMES = 20, 5  # in which the sound is passed so many times


def _no_progress(done: int, total: int) -> None:
    pass


class TraceWriter:
    """Writes one row a millisecond: time_s, then each moving gain in dB at that moment."""

    def __init__(self, path: Path, chain: Chain, sample_rate: int) -> None:
        if not path.parent.is_dir():
            raise SettingsError(f"{path}: the folder {path.parent} does not exist; make it first.")
        self.path, self._rate, self._chain = path, sample_rate, chain
        self._partial = path.with_name(f".{path.name}.partial")
        try:
            self._file = self._partial.open("w", newline="")
        except OSError as error:
            raise SettingsError(
                f"{path}: cannot be written there ({error.strerror}); choose another folder or name."
            ) from error
        self._rows = csv.writer(self._file)
        self._first = self._row = 0

    def _columns(self) -> dict[str, int]:
        """Name of each moving gain, and its place among all that the chain tells."""
        told = [
            f"{index}_{entry.type}.{name}"
            for index, (entry, moving, _) in zip(
                [i for i, entry in enumerate(self._chain.entries) if entry.on], self._chain.gains(), strict=True
            )
            for name in moving
        ]
        return {name: place for place, name in enumerate(told) if name.endswith(("gain_db", "in_charge"))}

    def write(self, gains: list[np.ndarray], frames: int) -> None:
        """Take in the gains of the next `frames` frames."""
        if self._row == 0:
            columns = self._columns()
            self._places = list(columns.values())
            self._rows.writerow(["time_s", *columns])
        while (frame := round(self._row * self._rate / 1000)) < self._first + frames:
            values = [f"{gains[place][frame - self._first]:.6f}" for place in self._places]
            self._rows.writerow([f"{self._row / 1000:.3f}", *values])
            self._row += 1
        self._first += frames

    def __enter__(self) -> "TraceWriter":
        return self

    def __exit__(self, kind: Any, error: Any, trace: Any) -> None:
        self._file.close()
        if kind is None:
            self._partial.replace(self.path)
        self._partial.unlink(missing_ok=True)


def process_file(
    source: Path, output: Path, chain_path: Path, *, keys: dict[str, Path], trace: Path | None, block_frames: int,
    file_format: str | None, bits: str, dither: str | None = None, tempo_bpm: float = 120.0,
    progress: Progress = _no_progress,
) -> tuple[int, list[str]]:  # fmt: skip
    """Hold a file through a chain file into `output`, as long as the source and lined up with it.

    Returns how many frames an integer format had to clip, and sentences on processors that failed and were passed by.
    Raises InputError for anything given wrongly, before anything is written; nothing half-written is left.
    """
    if not 1 <= block_frames <= MAX_BLOCK_FRAMES:
        raise SettingsError(f"--block is {block_frames}; allowed: 1 to {MAX_BLOCK_FRAMES} frames.")
    if not 20.0 <= tempo_bpm <= 400.0:
        raise SettingsError(f"--tempo is {tempo_bpm:g}; allowed: 20 to 400 bpm.")
    file_format = file_format or ("flac" if output.suffix.lower() == ".flac" else "wav")
    held = Holding(keys=keys, file_format=file_format, bits=bits, dither=dither, tempo_bpm=tempo_bpm, folder=chain_path)
    check_output(output, file_format, bits, dither)
    parsed = parse_chain(text_of(chain_path), chain_path.name)
    named = recordings_of(parsed.entries, chain_path.parent)
    check_outputs([output, *([] if trace is None else [trace])], [source, chain_path, *keys.values(), *named])
    with ExitStack() as stack:

        def watch(chain: Chain, reader: AudioReader) -> Callable[[Array, list[Array]], None]:
            if trace is None:
                return lambda block, gains: None
            tracer = stack.enter_context(TraceWriter(trace, chain, reader.sample_rate))
            return lambda block, gains: tracer.write(gains, block.shape[1])

        return hold_file(source, output, parsed, held, block_frames=block_frames, watch=watch, progress=progress)


@dataclass(frozen=True)
class Holding:
    """How a file is held and written: keys by name, and what is written; folder: of the recordings a chain names, or a
    file in it.
    """

    keys: Mapping[str, Path]
    file_format: str
    bits: str
    dither: str | None
    tempo_bpm: float
    folder: Path


#: Given the chain and the file, what is to see each block of the result and its gains (see run_chain).
Watch = Callable[[Chain, AudioReader], Callable[[Array, list[Array]], None]]


def hold_file(
    source: Path, output: Path, parsed: Parsed, how: Holding, *, block_frames: int, watch: Watch,
    heard: Callable[[Array], None] = lambda block: None, progress: Progress = _no_progress,
) -> tuple[int, list[str]]:  # fmt: skip
    """As process_file, by a chain that is known. heard: is given each block of the source."""
    with ExitStack() as stack:
        reader = stack.enter_context(AudioReader(source))
        rate, channels = reader.sample_rate, reader.channels
        entries = [_with_recordings(entry, how.folder, rate) for entry in parsed.entries]
        readers = {k: stack.enter_context(AudioReader(path, sample_rate=rate)) for k, path in how.keys.items()}
        key_channels = {name: key.channels for name, key in readers.items()}
        struck = _struck(parsed, source, how.keys, rate)
        key_channels |= dict.fromkeys(struck, 1)
        spectrum = _spectrum_of(source) if wants_spectrum(entries) else None
        chain = Chain(
            entries, channels=channels, sample_rate=rate, key_channels=key_channels, spectrum=spectrum,
            on_take=True, reins=parsed.reins,
        )  # fmt: skip
        place = When(Stream(0), 0, block_frames, rate, Beat(how.tempo_bpm))
        seen = watch(chain, reader)
        written: dict[str, Any] = {"file_format": how.file_format, "bits": how.bits, "dither": how.dither}
        writer = stack.enter_context(AudioWriter(output, channels=channels, sample_rate=rate, **written))
        feeds: dict[str, Callable[[int], Array]] = {name: BlockFeed(key).take for name, key in readers.items()}
        feeds |= {name: reader_of(sound, 0) for name, sound in struck.items()}
        done = 0
        for block, gains in run_chain(
            chain, BlockFeed(reader, heard).take, reader.frames, block_frames=block_frames, keys=feeds, place=place
        ):
            made = _folded(block, channels)
            writer.write(made)
            seen(made, gains)
            done += made.shape[1]
            progress(done, reader.frames)
        return writer.clipped_frames, list(chain.failures.values())


def _struck(parsed: Parsed, source: Path, keys: Mapping[str, Path], rate: int) -> dict[str, StruckSound]:
    """The hits that a chain follows, of the file itself or of keys, by the names they have in the chain."""
    names = {name for entry in parsed.entries if entry.on for name in key_names(entry)} | set(
        outside_keys(parsed.reins)
    )
    found: dict[str, StruckSound] = {}
    for name in sorted(filter(is_hits, names)):
        own, path = taken_from(name), keys.get(taken_from(name))
        if own and path is None:
            have = ", ".join(keys) or "none"
            raise SettingsError(f"key.source “{name}”: “{own}” is not given; keys given: {have}.")
        ahead_ms = ahead_of(name)
        with tempfile.TemporaryDirectory() as folder:
            take = take_of(path or source, Path(folder) / "take", rate, lambda done, total: None)
            found[name] = StruckSound(map_of(Marks.of(take).hits, take.facts), take.facts, ahead_ms=ahead_ms)
    return found


def take_of(path: Path, place: Path, rate: int | None, progress: Callable[[int, int], None]) -> Take:
    """A file as a take in a folder of its own, at a rate where one is given."""
    with AudioReader(path, sample_rate=rate) as reader:
        write_take(
            place, reader.blocks(), channels=reader.channels, sample_rate=reader.sample_rate,
            progress=lambda frames: progress(frames, reader.frames),
        )  # fmt: skip
    return Take(place)


def _with_recordings(entry: ProcessorEntry, folder: Path, sample_rate: int) -> ProcessorEntry:
    """An entry that has read the audio files it names in a folder, or beside a file."""
    used = recordings(entry.settings)
    if not used:
        return entry
    where = folder.parent if folder.is_file() else folder
    known = given_beside(used, where, f"{folder.name}: {entry.type}", sample_rate)
    return entry.model_copy(update={"settings": laid_over(entry.settings, known)})


def _folded(block: np.ndarray, channels: int) -> np.ndarray:
    """A block as wide as the file is that it came from, where a chain has made it wider: the middle of it."""
    return block if block.shape[0] == channels else block.mean(axis=0, keepdims=True)


def text_of(path: Path) -> str:
    """A chain file's text, or InputError."""
    must_be_file(path, path.name)
    try:
        return path.read_text(encoding="utf-8")
    except OSError as error:
        raise SettingsError(
            f"{path}: cannot be opened ({error.strerror}); give a file that is there and may be read."
        ) from error
    except UnicodeDecodeError as error:
        raise SettingsError(f"{path}: cannot be read as text; a chain file is JSON.") from error


def _spectrum_of(path: Path) -> np.ndarray:
    """Mean power of a file in twelfths of an octave."""
    with AudioReader(path) as reader:
        meter = SpectrumMeter(sample_rate=reader.sample_rate)
        for block in reader.blocks():
            meter.feed(block)
        return meter.finish().power_in_twelfths()


def measure_file(path: Path, progress: Progress = _no_progress) -> dict[str, Any]:
    """Loudness, range, true peak, sample peak, RMS and crest factor of a file.

    Loudness, range and crest are None where they cannot be given; levels of silence are the floor, -120 dB.
    """
    with AudioReader(path) as reader:
        meter, done = SoundMeter(reader.channels, reader.sample_rate), 0
        for block in reader.blocks():
            meter.feed(block)
            done += block.shape[1]
            progress(done, reader.frames)
        return {
            "file": str(path), "sample_rate_hz": reader.sample_rate, "channels": reader.channels,
            "frames": reader.frames, **meter.finish(),
        }  # fmt: skip


def bench_processors(seconds: float = 10.0, sample_rate: int = 48000, block_frames: int = 1024) -> list[dict[str, Any]]:
    """Time each processor on stereo noise with bursts, block by block; the best of all rounds. They take turns, a part
    of the sound each: a machine that changes its pace does so for all of them, and ratios stay true.

    At its defaults, or, where bands are at rest there, with eight moving bands, or four.
    """
    rng = np.random.default_rng(7)
    blocks = max(1, int(BENCH_TIMES * seconds * sample_rate / block_frames / BENCH_ROUNDS))
    bursts = rng.standard_normal((2, block_frames * 32)) * (0.1 + 0.9 * (rng.random(block_frames * 32) > 0.5))
    pieces = [alone(np.ascontiguousarray(0.25 * part), sample_rate) for part in np.split(bursts, 32, axis=1)]
    timed = {
        name: _made_for_bench(kind, own | more, sample_rate)
        for kind, own in ((kind, made.timed_with) for kind, made in PROCESSORS.items())
        for name, more in ((kind, {}), *((f"{kind}, {how}", m) for how, m in PROCESSORS[kind].timed_also.items()))
    }
    best = dict.fromkeys(timed, float("inf"))
    for _ in range(BENCH_ROUNDS):
        for name, processor in timed.items():
            began = time.perf_counter()
            for index in range(blocks):
                processor.process(pieces[index % 32])
            best[name] = min(best[name], (time.perf_counter() - began) / (blocks * block_frames))
    return [
        {"type": name, "ns_per_stereo_frame": 1e9 * frame_s, "times_real_time": 1.0 / (frame_s * sample_rate)}
        for name, frame_s in best.items()
    ]


def _made_for_bench(kind: str, given: dict[str, Any], sample_rate: int) -> Any:
    settings = parse_settings(kind, given, "bench")
    make = Make.of(kind, settings, sample_rate=sample_rate, on_take=False)
    return make.processor(settings, channels=2, sample_rate=sample_rate)


def parse_key_option(text: str) -> tuple[str, Path]:
    """NAME=FILE of --key, or SettingsError."""
    name, equals, file = text.partition("=")
    if not (name and equals and file) or name == "self":
        raise SettingsError(f"--key is “{text}”; allowed: NAME=FILE, with a name other than self.")
    return name, Path(file)
