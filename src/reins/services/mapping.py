"""Maps of hits in a session: whoever follows a take's hits finds them there, as they were found and corrected."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from reins.core.finding.corrections import corrected
from reins.core.finding.hits import Hit
from reins.core.finding.marks import Marks
from reins.core.hitmaps import found_for, to_find, with_maps
from reins.core.laid import LaidTake
from reins.core.routing import HITS, all_names, is_hits
from reins.core.sessions import Document
from reins.core.struck import Map
from reins.core.takes import Take

HitsOf = Callable[[Document, str], list[Hit]]


@dataclass(frozen=True)
class Mapped:
    """A change, and the maps of hits that it makes needed, kept in one step with it."""

    change: Any
    maps: dict[str, Map]

    def apply(self, document: Document) -> tuple[Document, str]:
        """The changed document with the maps, and the change's label."""
        changed, label = self.change.apply(document)
        return with_maps(changed, {k: v for k, v in self.maps.items() if k in changed.tracks}), label


def mapped(document: Document, change: Any, hits_of: HitsOf) -> Any:
    """A change with the maps of hits that are to be found for it; itself where there are none."""
    if HITS not in repr(change) and not any(map(is_hits, all_names(document))):
        return change  # nobody follows any, in any draft: it need not be made to know that
    changed, _ = change.apply(document)
    tracks = to_find(changed, document)
    return Mapped(change, found_for(changed, tracks, hits_of)) if tracks else change


def complete(document: Document, take: Callable[[str], Take]) -> Document:
    """A document from elsewhere with the maps of hits it needs and lacks."""
    return with_maps(document, found_for(document, to_find(document), hits_in(take)))


def hits_in(take: Callable[[str], Take]) -> HitsOf:
    """Finds the hits of tracks in their takes, which are given by id."""

    def hits_of(document: Document, track_id: str) -> list[Hit]:
        track = document.tracks[track_id]
        marks = Marks.of(LaidTake(take(track.take_id or ""), track))
        return corrected(marks, dict(track.marks)).hits

    return hits_of
