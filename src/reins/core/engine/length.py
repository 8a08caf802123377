"""How long a session is, and how long it sounds: takes end, and what their chains let sound on comes after."""

from collections.abc import Mapping

from reins.core.processors.making import tail_s
from reins.core.routing import destination
from reins.core.sessions import MASTER, Document
from reins.core.sound import Sound

MOST_TAIL_S = 20.0


def session_frames(document: Document, takes: Mapping[str, Sound]) -> int:
    """To the end of the take that ends last."""
    return max((end for _, end in _ends(document, takes)), default=0)


def sounding_frames(document: Document, takes: Mapping[str, Sound]) -> int:
    """To the end of all that sounds on after a take, through its own chain and those it goes through; nothing sounds on
    longer than MOST_TAIL_S.
    """
    most = round(MOST_TAIL_S * document.sample_rate)
    return max((end + min(_tail_frames(document, k, MASTER), most) for k, end in _ends(document, takes)), default=0)


def strip_frames(document: Document, takes: Mapping[str, Sound], strip_id: str) -> int:
    """To the end of what a track's own chain makes; of a bus's, of all that leads there, or to the last take's end."""
    most = round(MOST_TAIL_S * document.sample_rate)
    through = [(k, end) for k, end in _ends(document, takes) if strip_id in (k, *_way(document, k))]
    ends = [end + min(_tail_frames(document, k, strip_id), most) for k, end in through]
    return max(ends if strip_id in document.tracks else [*ends, session_frames(document, takes)], default=0)


def _ends(document: Document, takes: Mapping[str, Sound]) -> list[tuple[str, int]]:
    return [
        (k, track.start_frame + takes[track.take_id or ""].facts.frames)
        for k, track in document.tracks.items()
        if track.take_id in takes
    ]


def _way(document: Document, strip_id: str) -> list[str]:
    """The strips after this one, to the master."""
    way: list[str] = []
    while strip_id != MASTER and len(way) <= len(document.buses):
        strip_id = destination(document, strip_id)
        way.append(strip_id)
    return way


def _tail_frames(document: Document, first: str, last: str) -> int:
    """How long the chains from one strip to another on its way let a sound go on, latency left out."""
    way = [first, *_way(document, first)]
    chains = (document.strip(k).chain for k in way[: way.index(last) + 1])
    rate = document.sample_rate
    seconds = sum(tail_s(entry.type, entry.settings, rate) for chain in chains for entry in chain if entry.on)
    return round(seconds * rate)
