"""Changing a session: every change is kept at once as a step and told to every desk."""

from collections.abc import Callable
from typing import Any

from reins.core.changes import AddImpulse, AddTrack, SetProcessor, parse_change
from reins.core.comparing import compared, draft_of, named_alike
from reins.core.last_word import behind_limiter, said_behind
from reins.core.measure.maps import kept_spectrum
from reins.core.sessions import MASTER, Document, Track, new_id
from reins.core.sound import TakeFacts
from reins.core.stereo import stereo_pairs
from reins.errors import ConflictError, NotFoundError
from reins.services.house import House
from reins.store import sessions as store
from reins.store.database import transaction
from reins.store.takes import add_take, list_takes


def new_session(house: House, name: str, **values: Any) -> str:
    """Keep an empty session; returns its id."""
    session_id = new_id()
    document = Document(name=name, **values)
    with house.database() as db:
        store.add_session(db, session_id, document)
    return session_id


def session_state(house: House, session_id: str) -> dict[str, Any]:
    """Everything a desk shows: document, step number, what undo and redo would do, takes."""
    with house.reading() as db:
        stored = store.get_session(db, session_id)
        steps = {step["number"]: step["label"] for step in store.list_steps(db, session_id)}
        forth = store.next_step(db, stored)
        takes = list_takes(db, session_id)
    return {
        "id": session_id,
        "document": stored.document.model_dump(),
        "step": stored.step,
        "undo": steps.get(stored.step),
        "redo": steps.get(forth),
        "takes": takes,
        "frames": frames_of(stored.document, takes),
        "pairs": _pairs(stored.document, takes),
        "behind_limiter": said_behind(behind_limiter(stored.document.master.chain)),
    }


def _pairs(document: Document, takes: dict[str, dict[str, Any]]) -> list[tuple[str, str, str]]:
    """Mono tracks that are one stereo sound by their names: left, right, and what both are called."""
    mono = {k: t.name for k, t in document.tracks.items() if takes.get(t.take_id or "", {}).get("channels") == 1}
    return stereo_pairs(mono)


def frames_of(document: Document, takes: dict[str, dict[str, Any]]) -> int:
    """Length of a session: to the end of the take that ends last."""
    ends = (t.start_frame + takes[t.take_id]["frames"] for t in document.tracks.values() if t.take_id in takes)
    return max(ends, default=0)


def change_session(house: House, session_id: str, raw: Any) -> dict[str, Any]:
    """Apply a change, or one given as plain data; returns {"step", "label"}. Bringing in a track has its own way."""
    change = raw if hasattr(raw, "apply") else parse_change(raw)
    if isinstance(change, (AddTrack, AddImpulse)):
        raise ConflictError("A track or response comes with its take: bring in audio to add one.")
    if isinstance(change, SetProcessor) and change.settings.get("match_loudness"):
        _measure_spectrum(house, session_id, change.strip_id)
    with house.database() as db:
        stored, label = store.keep_step(db, session_id, change)
        house.tell(stored)
    return {"step": stored.step, "label": label}


def _measure_spectrum(house: House, session_id: str, strip_id: str) -> None:
    """Have the spectrum of a track's take measured here, so that sound does not wait for it when it is wanted."""
    track = document_of(house, session_id).tracks.get(strip_id)
    if track is not None and track.take_id is not None:
        kept_spectrum(house.take(track.take_id))


def undo(house: House, session_id: str) -> dict[str, Any]:
    """Go back one step; returns {"step", "label"}, label None when there was nothing to undo."""
    return _walk(house, session_id, store.undo)


def redo(house: House, session_id: str) -> dict[str, Any]:
    """Go forward one step; returns {"step", "label"}, label None when there was nothing to redo."""
    return _walk(house, session_id, store.redo)


def go_to_step(house: House, session_id: str, number: int) -> dict[str, Any]:
    """Go back or forth to a step of the history; 0 is the beginning."""
    return _walk(house, session_id, lambda db, session: store.go_to_step(db, session, number))


def history(house: House, session_id: str) -> list[dict[str, Any]]:
    """Every step with number, label and how it stands; newest first, ending with the beginning.

    `undone` steps lie ahead on the line that is on, steps `aside` on another line; `now` is where the session is.
    """
    with house.reading() as db:
        stored = store.get_session(db, session_id)
        steps = [{"number": 0, "label": "The beginning"}, *store.list_steps(db, session_id)]
        done = set(store.line_to(db, session_id, stored.step))
        line = set(store.line_to(db, session_id, stored.tip))
    return [
        {
            "number": s["number"], "label": s["label"], "now": s["number"] == stored.step,
            "undone": s["number"] in line - done, "aside": s["number"] not in line | done,
        }
        for s in reversed(steps)
    ]  # fmt: skip


def _walk(house: House, session_id: str, way: Callable[..., tuple[store.Stored, str | None]]) -> dict[str, Any]:
    with house.database() as db:
        stored, label = way(db, session_id)
        house.tell(stored)
    return {"step": stored.step, "label": label}


def keep_track(house: House, session_id: str, take_id: str, facts: TakeFacts, track: Track) -> str:
    """Keep a finished take and its track as one step; returns the track's id."""
    track_id = new_id()
    change = AddTrack(kind="add_track", track_id=track_id, track=track, sample_rate=facts.sample_rate)
    keep_with_take(house, session_id, take_id, facts, track.name, change)
    return track_id


def keep_with_take(house: House, session_id: str, take_id: str, facts: TakeFacts, name: str, change: Any) -> None:
    """Keep a finished take and the change that uses it as one step."""
    with house.database() as db:
        with transaction(db):
            add_take(db, take_id, session_id, name, facts)
            stored, _ = store.keep_step(db, session_id, change)
        house.tell(stored)


def keep_session(
    house: House, document: Document, takes: list[tuple[str, str, TakeFacts]], session_id: str | None = None
) -> str:
    """Keep a whole session with the rows of its finished takes (id, name, facts); returns its id."""
    session_id = session_id or new_id()
    with house.database() as db, transaction(db):
        store.add_session(db, session_id, document)
        for take_id, name, facts in takes:
            add_take(db, take_id, session_id, name, facts)
    return session_id


def document_of(house: House, session_id: str) -> Document:
    """The session's document as kept now."""
    with house.reading() as db:
        return store.get_session(db, session_id).document


def comparable(house: House, session_id: str) -> list[dict[str, Any]]:
    """Every strip with a chain, of every session that can be read: session, name, strip, label; this session first."""
    with house.reading() as db:
        kept = [one for one in store.list_sessions(db) if isinstance(one, store.Stored)]
    kept.sort(key=lambda one: one.id != session_id)
    return [
        {"session": one.id, "strip": strip_id, "label": f"{one.document.name}: {one.document.strip(strip_id).name}"}
        for one in kept
        for strip_id in (*one.document.order, *one.document.bus_order, MASTER)
        if one.document.strip(strip_id).chain
    ]


def compare_chains(house: House, session_id: str, strip_id: str, other_session: str, other_strip: str) -> list[str]:
    """What differs from a strip's chain to another strip's, of this or another session, in words."""
    one = document_of(house, session_id).strip(strip_id).in_use
    other = document_of(house, other_session).strip(other_strip).in_use
    return compared(one, named_alike(one, other))


def compare_drafts(house: House, session_id: str, strip_id: str, one: int, other: int) -> list[str]:
    """What differs between two drafts of a strip's chain, in words; NotFoundError for one that is not there."""
    strip = document_of(house, session_id).strip(strip_id)
    drafts = []
    for number in (one, other):
        draft = draft_of(strip, number)
        if draft is None:
            raise NotFoundError("draft", str(number))
        drafts.append(draft)
    return compared(*drafts)
