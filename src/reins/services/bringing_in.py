"""Bringing a file in as a take and a track; the demo session's takes come in the same way."""

import shutil
from collections.abc import Callable, Iterable
from pathlib import Path

import numpy as np

from reins.core.audio import AudioReader
from reins.core.sessions import Document, Track, new_id
from reins.core.takes import TakeFacts, write_take
from reins.demo.facts import DEMO_ID, NAME, TEMPO_BPM
from reins.errors import AudioError
from reins.services.editing import document_of, keep_track
from reins.services.house import House
from reins.store import sessions as store
from reins.store.database import transaction
from reins.store.takes import add_take

MAX_TAKE_S = 2 * 3600
Progress = Callable[[int, int], None]


def _write(
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

    Raises AudioError for what is not allowed, StorageError when the disk refuses; then no track, row or file is left.
    """
    document = document_of(house, session_id)
    title = (Path(name).stem.strip() or "Take")[:80]
    with AudioReader(path, sample_rate=document.sample_rate, name=name) as reader:
        if reader.frames > MAX_TAKE_S * document.sample_rate:
            minutes = reader.frames / document.sample_rate / 60
            raise AudioError(f"{name}: it is {minutes:.0f} minutes long; up to {MAX_TAKE_S // 60} minutes are allowed.")
        take_id, facts = _write(
            house, reader.blocks(), channels=reader.channels, sample_rate=document.sample_rate,
            progress=lambda frames: progress(frames, reader.frames),
        )  # fmt: skip
    try:
        return keep_track(house, session_id, take_id, facts, Track(name=title, take_id=take_id))
    except BaseException:
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
        take_id, facts = _write(
            house, [part.samples], channels=part.samples.shape[0], sample_rate=RATE, progress=lambda frames: None
        )
        rows.append((take_id, part.name, facts))
        tracks[new_id()] = Track(
            name=part.name, group=part.group, take_id=take_id, fader_db=part.fader_db, pan_pct=part.pan_pct
        )
    document = Document(name=NAME, sample_rate=RATE, tempo_bpm=TEMPO_BPM, tracks=tracks, order=list(tracks))
    with house.database() as db, transaction(db):
        store.add_session(db, DEMO_ID, document)
        for take_id, name, facts in rows:
            add_take(db, take_id, DEMO_ID, name, facts)
    return DEMO_ID
