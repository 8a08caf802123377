"""How long a session is, and how long it sounds: takes end, and what their chains let sound on comes after."""

from collections.abc import Mapping

from reins.core.processors.making import tail_s
from reins.core.routing import goals
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
    ends = _ends(document, takes)
    return max((end + min(_tail_frames(document, k, MASTER) or 0, most) for k, end in ends), default=0)


def strip_frames(document: Document, takes: Mapping[str, Sound], strip_id: str) -> int:
    """To the end of what a track's own chain makes; of a bus's, of all that leads there, or to the last take's end."""
    most = round(MOST_TAIL_S * document.sample_rate)
    tails = [(_tail_frames(document, k, strip_id), end) for k, end in _ends(document, takes)]
    ends = [end + min(tail, most) for tail, end in tails if tail is not None]
    return max(ends if strip_id in document.tracks else [*ends, session_frames(document, takes)], default=0)


def _ends(document: Document, takes: Mapping[str, Sound]) -> list[tuple[str, int]]:
    return [
        (k, track.start_frame + takes[track.take_id or ""].facts.frames)
        for k, track in document.tracks.items()
        if track.take_id in takes
    ]


def _tail_frames(document: Document, first: str, last: str) -> int | None:
    """How long the chains from one strip to another on its longest way let a sound go on, latency left out; None where
    no way leads there.
    """
    rate = document.sample_rate
    known: dict[str, float | None] = {}

    def seconds(strip_id: str) -> float | None:
        if strip_id not in known:
            known[strip_id] = None  # a circle leads nowhere
            chain = document.strip(strip_id).chain
            own = sum(tail_s(entry.type, entry.settings, rate) for entry in chain if entry.on)
            further = [] if strip_id in (last, MASTER) else [seconds(goal) for goal in goals(document, strip_id)]
            ways = [0.0] if strip_id == last else [way for way in further if way is not None]
            known[strip_id] = own + max(ways) if ways else None
        return known[strip_id]

    found = seconds(first)
    return None if found is None else round(found * rate)
