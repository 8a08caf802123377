"""What is heard while something is soloed: each way of a strip by itself, since one to a soloed bus sounds on while
the strip's own way to the master is silent.

A way is heard when what goes it comes from a soloed strip, or when it leads to a soloed bus; the way a strip goes whole
also when it passes a bus that is solo-safe. Mute silences all ways of a strip.
"""

from typing import NamedTuple

from reins.core.routing import destination, goals, sends_of
from reins.core.sessions import MASTER, Bus, Document, Track


class Heard(NamedTuple):
    """Whether a strip is heard on its way whole, and on each of its sends."""

    whole: bool
    sends: tuple[bool, ...] = ()


def heard(document: Document, strip_id: str) -> Heard:
    """What is heard of a track, bus or the master."""
    if strip_id == MASTER:
        return Heard(True)
    strip = document.strip(strip_id)
    count = len(sends_of(document, strip_id))
    if getattr(strip, "mute", False):
        return Heard(False, (False,) * count)
    if not any_soloed(document) or _comes_from_solo(document, strip_id):
        return Heard(True, (True,) * count)
    way, *sends = goals(document, strip_id)
    whole = _leads_to_solo(document, way, safe=True) or (isinstance(strip, Bus) and strip.solo_safe)
    return Heard(whole, tuple(_leads_to_solo(document, bus, safe=False) for bus in sends))


def any_soloed(document: Document) -> bool:
    """Whether anything is."""
    return any(strip.solo for strip in (*document.tracks.values(), *document.buses.values()))


def _comes_from_solo(document: Document, strip_id: str) -> bool:
    """Whether a strip is soloed, or something that comes to it."""
    strip = document.strip(strip_id)
    if isinstance(strip, Track | Bus) and strip.solo:
        return True
    return strip_id in document.buses and any(
        strip_id in goals(document, other) and _comes_from_solo(document, other)
        for other in (*document.tracks, *document.buses)
    )


def _leads_to_solo(document: Document, strip_id: str, *, safe: bool) -> bool:
    """Whether a bus is soloed, or one that it leads to; `safe`: on the whole way a solo-safe one is enough."""
    if strip_id == MASTER:
        return False
    bus = document.buses[strip_id]
    if bus.solo or (safe and bus.solo_safe):
        return True
    sends = (send.bus for send in sends_of(document, strip_id))
    return _leads_to_solo(document, destination(document, strip_id), safe=safe) or any(
        _leads_to_solo(document, other, safe=False) for other in sends
    )
