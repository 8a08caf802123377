"""Bringing a file in as a take and a track; the demo session's takes come in the same way."""

import shutil
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from reins.core.audio import AudioReader, time_stamp
from reins.core.sessions import MAX_RATE, MIN_RATE, Document, Track, new_id
from reins.core.takes import TakeFacts, write_take
from reins.demo.facts import DEMO_ID, NAME, TEMPO_BPM
from reins.errors import AudioError
from reins.services.editing import document_of, keep_session, keep_track
from reins.services.house import House
from reins.store import sessions as store

MAX_TAKE_S = 2 * 3600
Progress = Callable[[int, int], None]


def write_new_take(
    house: House, blocks: Iterable[np.ndarray], *, channels: int, sample_rate: int, progress: Callable[[int], None]
) -> tuple[str, TakeFacts]:
    """Write a take's folder under a name no row knows yet; on any failure nothing of it stays."""
    take_id = new_id()
    folder = house.takes_dir / take_id
    try:
        facts = write_take(folder, blocks, channels=channels, sample_rate=sample_rate, progress=progress)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    return take_id, facts


def bring_in(house: House, session_id: str, path: Path, name: str, progress: Progress) -> str:
    """Bring an audio file in as a new track named after it; returns the track's id.

    The first track gives the session its sample rate; a Broadcast Wave time stamp lines tracks up. One file after the
    other, so that the second finds what the first has settled. Raises AudioError for what is not allowed,
    StorageError when the disk refuses; then no track, row or file is left.
    """
    title = (Path(name).stem.strip() or "Take")[:80]
    with house.bringing:
        document = document_of(house, session_id)
        rate = document.sample_rate if document.tracks else None
        with AudioReader(path, sample_rate=rate, name=name) as reader:
            _check_length(reader)
            take_id, facts = write_new_take(
                house, reader.blocks(), channels=reader.channels, sample_rate=reader.sample_rate,
                progress=lambda frames: progress(frames, reader.frames),
            )  # fmt: skip
            stamp = time_stamp(path)
            stamp_frame = None if stamp is None else round(stamp * reader.sample_rate / reader.source_rate)
        track = Track(name=title, take_id=take_id, stamp_frame=stamp_frame)
        with left_out_on_failure(house, [take_id]):
            return keep_track(house, session_id, take_id, facts, track)


def _check_length(reader: AudioReader) -> None:
    if not MIN_RATE <= reader.sample_rate <= MAX_RATE:
        raise AudioError(
            f"{reader.name}: its sample rate is {reader.sample_rate} Hz; {MIN_RATE} to {MAX_RATE} Hz is allowed."
        )
    if reader.frames > MAX_TAKE_S * reader.sample_rate:
        minutes = reader.frames / reader.sample_rate / 60
        raise AudioError(
            f"{reader.name}: it is {minutes:.0f} minutes long; up to {MAX_TAKE_S // 60} minutes are allowed."
        )


@contextmanager
def left_out_on_failure(house: House, take_ids: list[str]) -> Iterator[None]:
    """Remove these takes' folders when what follows fails."""
    try:
        yield
    except BaseException:
        for take_id in take_ids:
            shutil.rmtree(house.takes_dir / take_id, ignore_errors=True)
        raise


def ensure_demo(house: House, progress: Callable[[str, int, int], None]) -> str:
    """Make the demo session unless it is there; returns its id. Half-made takes are swept at the next start."""
    with house.database() as db:
        if any(stored.id == DEMO_ID for stored in store.list_sessions(db)):
            return DEMO_ID
    from reins.demo.build import make_parts
    from reins.demo.score import RATE

    rows, tracks = [], {}
    for part in make_parts(progress):
        take_id, facts = write_new_take(
            house, [part.samples], channels=part.samples.shape[0], sample_rate=RATE, progress=lambda frames: None
        )
        rows.append((take_id, part.name, facts))
        tracks[new_id()] = Track(name=part.name, take_id=take_id, fader_db=part.fader_db, pan_pct=part.pan_pct)
    document = Document(name=NAME, sample_rate=RATE, tempo_bpm=TEMPO_BPM, tracks=tracks, order=list(tracks))
    return keep_session(house, document, rows, session_id=DEMO_ID)
