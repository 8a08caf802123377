"""The maps of hits a session needs: found and corrected once, kept with the track, followed by all that is told to."""

from collections.abc import Callable
from dataclasses import replace

from reins.core.finding.hits import Hit
from reins.core.routing import HITS, strip_ids, ties
from reins.core.sessions import Document, Track
from reins.core.sound import TakeFacts
from reins.core.struck import Map, map_of


def followed(document: Document) -> set[str]:
    """The tracks whose hits something follows that is on."""
    return {source for k in strip_ids(document) for _, source, tap, _ in ties(document, k) if tap == HITS}


def to_find(document: Document, before: Document | None = None) -> set[str]:
    """The tracks whose map is to be found: those that are followed as they were not before, and those whose take or
    corrections are others since.
    """
    wanted = {k for k in followed(document) if document.tracks[k].take_id is not None}
    if not wanted or before is None:
        return {k for k in wanted if not document.tracks[k].hits}
    already = followed(before)

    def stands(track_id: str) -> bool:
        old, new = before.tracks.get(track_id), document.tracks[track_id]
        if old is None or track_id not in already:
            return False
        return old.take_id == new.take_id and old.marks.get("hits") == new.marks.get("hits")

    return {k for k in wanted if not stands(k)}


def found_for(document: Document, tracks: set[str], hits_of: Callable[[Document, str], list[Hit]]) -> dict[str, Map]:
    """The maps of tracks by id; hits_of finds those of what comes to a track, corrected, in the session's seconds."""
    maps = {}
    for track_id in sorted(tracks):
        track = document.tracks[track_id]
        facts = TakeFacts(1, document.sample_rate, 1)
        found = _heeded(hits_of(document, track_id), track)
        maps[track_id] = map_of(found, facts, start_frame=track.start_frame, gain_db=track.trim_db)
    return maps


def _heeded(hits: list[Hit], track: Track) -> list[Hit]:
    """The hits, those that were marked by hand at least as strong as the softest found: whoever follows all of these
    follows them too.
    """
    by_hand = {mark[0] for mark in track.marks["hits"].added} if "hits" in track.marks else set()
    softest_db = min((hit.peak_db for hit in hits if hit.at_s not in by_hand), default=-120.0)
    return [replace(hit, peak_db=max(hit.peak_db, softest_db)) if hit.at_s in by_hand else hit for hit in hits]


def with_maps(document: Document, maps: dict[str, Map]) -> Document:
    """The document with these maps of hits."""
    for track_id, hits in maps.items():
        document = document.with_strip(track_id, hits=hits)
    return document
