"""Bringing a file in as a take and a track; the demo session's takes come in the same way."""

import shutil
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from reins.core.audio import AudioReader, time_stamp
from reins.core.changes import AddImpulse, JoinTracks, ReplaceTake, SetReference
from reins.core.disk import sync
from reins.core.impulses import check_length
from reins.core.laid import LaidTake
from reins.core.limits import check_room
from reins.core.sessions import Document, Track, new_id
from reins.core.takes import Take, TakeFacts, write_take
from reins.demo.facts import DEMO_ID, NAME, TEMPO_BPM
from reins.errors import ConflictError
from reins.services.editing import document_of, keep_session, keep_track, keep_with_take
from reins.services.house import House
from reins.services.mapping import hits_in, mapped
from reins.store import sessions as store

Progress = Callable[[int, int], None]
JOINED_FRAMES = 1 << 16  # at a time
SWELLS_BYTES, SWELLS_TIMES = 100_000_000, 10
MOST_SWELLING = 100  # files that are remembered to have been told of


class NewTakes:
    """Takes on their way: written where nothing counts on them, then moved among the others, unknown to any row yet."""

    def __init__(self, house: House) -> None:
        self._takes_dir, self.passing = house.takes_dir, house.passing_folder()
        self.ids: list[str] = []

    def write(
        self, blocks: Iterable[np.ndarray], *, channels: int, sample_rate: int, progress: Callable[[int], None]
    ) -> tuple[str, TakeFacts]:
        """Write one take; returns its id and facts."""
        facts: list[TakeFacts] = []
        take_id = self.add(
            lambda place: facts.append(
                write_take(place, blocks, channels=channels, sample_rate=sample_rate, progress=progress)
            )
        )
        return take_id, facts[0]

    def add(self, make: Callable[[Path], None]) -> str:
        """Have `make` write one take's folder; returns its id."""
        take_id = new_id()
        make(self.passing / take_id)
        self.ids.append(take_id)
        return take_id

    def move_in(self) -> None:
        """Move all that were written among the takes; whoever calls keeps their rows next."""
        for take_id in self.ids:
            (self.passing / take_id).rename(self._takes_dir / take_id)
        sync(self._takes_dir)

    def remove(self) -> None:
        """Leave nothing of them."""
        for take_id in self.ids:
            shutil.rmtree(self._takes_dir / take_id, ignore_errors=True)


@contextmanager
def new_takes(house: House) -> Iterator[NewTakes]:
    """Takes to be written and kept; on any failure within, nothing of them stays."""
    takes = NewTakes(house)
    try:
        yield takes
    except BaseException:
        takes.remove()
        raise
    finally:
        shutil.rmtree(takes.passing, ignore_errors=True)


def take_bytes(frames: int, channels: int) -> int:
    """What a take needs on disk: samples, and the level pyramid's twelve bytes for 64 of them and then fewer."""
    return 4 * frames * channels * 6 // 5 + (64 << 10)


@dataclass(frozen=True)
class BroughtIn:
    """What came of a file: the track, and a sentence where it is not as it was."""

    track_id: str
    said: str = ""


def bring_in(house: House, session_id: str, path: Path, name: str, progress: Progress) -> BroughtIn:
    """Bring an audio file in as a new track named after it.

    The first track gives the session its sample rate; a Broadcast Wave time stamp lines tracks up. One file after the
    other, so that the second finds what the first has settled. Raises AudioError for what is not allowed,
    StorageError when the disk refuses; then no track, row or file is left.
    """
    title = (Path(name).stem.strip() or "Take")[:80]
    with house.bringing:
        document = document_of(house, session_id)
        rate = document.sample_rate if document.tracks else None
        with AudioReader(path, sample_rate=rate, name=name) as reader, new_takes(house) as takes:
            take_id, facts = _written(house, takes, reader, path, name, progress)
            stamp = time_stamp(path)
            stamp_frame = None if stamp is None else round(stamp * reader.sample_rate / reader.source_rate)
            takes.move_in()
            track = Track(name=title, take_id=take_id, stamp_frame=stamp_frame)
            return BroughtIn(keep_track(house, session_id, take_id, facts, track), _other_rate(reader, name))


def replace_take(house: House, session_id: str, track_id: str, path: Path, name: str, progress: Progress) -> BroughtIn:
    """Bring an audio file in as another take of a track, whose chain, place and fader stay. Raises as bring_in."""
    with house.bringing:
        document = document_of(house, session_id)
        document.track(track_id)
        with AudioReader(path, sample_rate=document.sample_rate, name=name) as reader, new_takes(house) as takes:
            take_id, facts = _written(house, takes, reader, path, name, progress)
            takes.move_in()
            change = ReplaceTake(
                kind="replace_take", track_id=track_id, take_id=take_id, name=name[:120], frames=facts.frames
            )
            _keep(house, session_id, take_id, facts, Path(name).stem[:80] or "Take", change)
            return BroughtIn(track_id, _other_rate(reader, name))


def join_pair(house: House, session_id: str, left_id: str, right_id: str, name: str, progress: Progress) -> BroughtIn:
    """Make one stereo track of two mono ones, as one step; ConflictError where they are not two mono takes."""
    with house.bringing:
        document = document_of(house, session_id)
        tracks = [document.track(one) for one in (left_id, right_id)]
        sounds = house.takes(document)
        mono = [sounds[t.take_id] for t in tracks if t.take_id in sounds and sounds[t.take_id].facts.channels == 1]
        if left_id == right_id or len(mono) != 2:
            raise ConflictError(
                f"{tracks[0].name} and {tracks[1].name}: not two mono takes; allowed: two different mono tracks."
            )
        start = min(track.start_frame for track in tracks)
        ends = [track.start_frame + take.facts.frames for track, take in zip(tracks, mono, strict=True)]
        frames = max(ends) - start
        check_room(house.takes_dir, take_bytes(frames, 2), f"{name}: it")
        # What was laid out by trim and polarity of each alone is in the sound of the pair.
        laid = [LaidTake(take, track.model_copy(update={"start_frame": track.start_frame - start}))
                for track, take in zip(tracks, mono, strict=True)]  # fmt: skip

        def blocks() -> Iterator[np.ndarray]:
            for first in range(0, frames, JOINED_FRAMES):
                count = min(JOINED_FRAMES, frames - first)
                yield np.concatenate([one.read(first, count) for one in laid])

        with new_takes(house) as takes:
            take_id, facts = takes.write(
                blocks(), channels=2, sample_rate=document.sample_rate, progress=lambda done: progress(done, frames)
            )
            takes.move_in()
            change = JoinTracks(
                kind="join_tracks", left_id=left_id, right_id=right_id, take_id=take_id, name=name[:80],
                start_frame=start,
            )  # fmt: skip
            _keep(house, session_id, take_id, facts, name[:80], change)
            return BroughtIn(left_id)


def _keep(house: House, session_id: str, take_id: str, facts: TakeFacts, name: str, change: Any) -> None:
    """Keep a take in the place of another, with the map of its hits where they are followed."""
    document = document_of(house, session_id)
    there = Take(house.takes_dir / take_id)  # which no row names yet

    def take(wanted: str) -> Take:
        return there if wanted == take_id else house.take(wanted)

    keep_with_take(house, session_id, take_id, facts, name, mapped(document, change, hits_in(take)))


def check_swelling(house: House, path: Path, wanted_bytes: int, name: str) -> None:
    """ConflictError for a small file that would take up a great deal of the disk, the first time it is brought in: who
    brings it in once more has read what it takes.
    """
    size = path.stat().st_size
    if wanted_bytes < SWELLS_BYTES or wanted_bytes <= SWELLS_TIMES * size or (name, size) in house.swelling:
        return
    if len(house.swelling) >= MOST_SWELLING:
        house.swelling.clear()
    house.swelling.add((name, size))
    raise ConflictError(
        f"{name}: its {size / 1e6:.1f} MB become {wanted_bytes / 1e6:.0f} MB here, more than {SWELLS_TIMES} times as "
        "much; bring it in once more to have it so."
    )


def _written(
    house: House, takes: NewTakes, reader: AudioReader, path: Path, name: str, progress: Progress
) -> tuple[str, TakeFacts]:
    wanted = take_bytes(reader.frames, reader.channels)
    check_swelling(house, path, wanted, name)
    check_room(house.takes_dir, wanted, f"{name}: it")
    return takes.write(
        reader.blocks(), channels=reader.channels, sample_rate=reader.sample_rate,
        progress=lambda frames: progress(frames, reader.frames),
    )  # fmt: skip


def _other_rate(reader: AudioReader, name: str) -> str:
    if reader.source_rate == reader.sample_rate:
        return ""
    return (
        f"{name} has {reader.source_rate / 1000:g} kHz, the session {reader.sample_rate / 1000:g}: it was brought to "
        "the session's rate, at the same speed and pitch."
    )


def bring_in_impulse(
    house: House, session_id: str, path: Path, name: str, strip_id: str, processor_id: str, progress: Progress
) -> str:
    """Bring an audio file in as a response for rooms, at the session's rate, and have a processor use it, as one step;
    returns its take's id. Raises AudioError for what is not allowed, ConflictError for a processor that uses none;
    then nothing is left.
    """
    title = (Path(name).stem.strip() or "Response")[:80]
    with house.bringing:
        document = document_of(house, session_id)
        with AudioReader(path, sample_rate=document.sample_rate, name=name) as reader, new_takes(house) as takes:
            check_length(reader.frames / reader.sample_rate, name)
            check_room(house.takes_dir, take_bytes(reader.frames, reader.channels), f"{name}: it")
            take_id, facts = takes.write(
                reader.blocks(), channels=reader.channels, sample_rate=reader.sample_rate,
                progress=lambda frames: progress(frames, reader.frames),
            )  # fmt: skip
            change = AddImpulse(
                kind="add_impulse", strip_id=strip_id, processor_id=processor_id, take_id=take_id, name=title
            )
            change.apply(document)  # before anything is moved
            takes.move_in()
            keep_with_take(house, session_id, take_id, facts, title, change)
            return take_id


def bring_in_reference(house: House, session_id: str, path: Path, name: str, progress: Progress) -> BroughtIn:
    """Bring an audio file in to be laid beside the mix, at the session's rate, as one step. Raises as bring_in."""
    title = (Path(name).stem.strip() or "Reference")[:80]
    with house.bringing:
        document = document_of(house, session_id)
        with AudioReader(path, sample_rate=document.sample_rate, name=name) as reader, new_takes(house) as takes:
            take_id, facts = _written(house, takes, reader, path, name, progress)
            takes.move_in()
            change = SetReference(kind="set_reference", take_id=take_id, name=title)
            keep_with_take(house, session_id, take_id, facts, title, change)
            return BroughtIn("", _other_rate(reader, name))


def ensure_demo(house: House, progress: Callable[[str, int, int], None]) -> str:
    """Make the demo session unless it is there; returns its id. What is half made is cleared at the next start."""
    with house.database() as db:
        if store.session_exists(db, DEMO_ID):
            return DEMO_ID
    from reins.demo.build import make_parts
    from reins.demo.score import RATE

    rows, tracks = [], {}
    with new_takes(house) as takes:
        for part in make_parts(progress):
            take_id, facts = takes.write(
                [part.samples], channels=part.samples.shape[0], sample_rate=RATE, progress=lambda frames: None
            )
            rows.append((take_id, part.name, facts))
            tracks[new_id()] = Track(name=part.name, take_id=take_id, fader_db=part.fader_db, pan_pct=part.pan_pct)
        takes.move_in()
        document = Document(name=NAME, sample_rate=RATE, tempo_bpm=TEMPO_BPM, tracks=tracks, order=list(tracks))
        return keep_session(house, document, rows, session_id=DEMO_ID)
