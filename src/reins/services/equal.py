"""How loud a strip is in each way it can be heard: as it stands, without its chain or a processor of it, overdone, by
each of its drafts. What was measured is remembered by what it depends on, where the live player looks it up: so what
one goes over to is as loud as what one comes from, from its first sample on.
"""

from collections.abc import Callable
from typing import Any

from reins.core.otherwise import Otherwise, signature
from reins.core.sessions import Document
from reins.core.trials.matching import loudness
from reins.core.trials.running import Trial
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.matching import span_of
from reins.services.newest import Newest
from reins.services.sounds import Sounds


class Equal:
    """Answers how loud a strip is in each way it can be heard; the newest question of a desk wins."""

    def __init__(self, house: House, sounds: Sounds) -> None:
        self._house, self._sounds = house, sounds
        self._newest = Newest()

    def loudness(
        self, session_id: str, strip_id: str, *, desk: str, number: int, processor_id: str | None
    ) -> dict[str, Any]:
        """{"number", "lufs": by way}: result, source, "draft N", "without chain"; of a processor "without" it and
        "overdone". None where there is nothing loud enough. CancelledError when the desk asks again meanwhile.
        """
        check = self._newest.check(f"{desk}/equal", number)
        document = document_of(self._house, session_id)
        ways = ways_of(document, strip_id, processor_id)
        lufs = {name: self.measure(heard_by(document, strip_id, way), strip_id, check) for name, way in ways.items()}
        return {"number": number, "lufs": {k: None if v is None else round(v, 2) for k, v in lufs.items()}}

    def measure(
        self, document: Document, strip_id: str, check: Callable[[], None] = lambda: None, *, gain_db: float = 0.0
    ) -> float | None:
        """Loudness of what a strip puts out in a document as it is heard, over the loop or all of it, made so much
        louder.
        """
        book, place = self._house.loudness, signature(document, strip_id)
        place = f"{gain_db} {place}" if gain_db else place
        known = book.get(place)
        if known is None:
            sound, _ = self._sounds.source(document, strip_id, check)
            keys, _ = self._sounds.keys(document, strip_id, check)
            strip = document.strip(strip_id)
            trial = Trial(sound, strip.chain, keys, document.beat, strip.reins, strip)
            known = loudness(trial, *span_of(document, sound.facts.frames), check, gain_db=gain_db)
            book.note(place, known)
        return known


def heard_by(document: Document, strip_id: str, way: Otherwise) -> Document:
    """A document with a strip as it is heard in a way."""
    strip: Any = document.strip(strip_id)
    heard: Any = way.of(strip_id, strip)
    return document.placed(strip_id, heard)


def ways_of(document: Document, strip_id: str, processor_id: str | None) -> dict[str, Otherwise]:
    """Each way a strip can be heard, by name."""
    strip: Any = document.strip(strip_id)
    here = frozenset({(strip_id, processor_id or "")})
    ways = {"result": Otherwise(), "without chain": Otherwise(passed=frozenset({(strip_id, "")}))}
    if any(entry.id == processor_id and entry.on for entry in strip.chain):
        ways |= {"without": Otherwise(passed=here), "overdone": Otherwise(overdone=here)}
    return ways | {
        f"draft {number}": Otherwise(drafts={strip_id: int(number)}) for number in sorted(strip.drafts, key=int)
    }
