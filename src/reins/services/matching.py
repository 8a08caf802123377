"""Making what is compared equally loud: over the loop when it is on, else over the whole session."""

from typing import Any

from reins.core.changes import SetProcessor
from reins.core.engine.length import session_frames
from reins.core.sessions import Document
from reins.core.trials import matching
from reins.core.trials.running import Trial
from reins.errors import ConflictError
from reins.services.editing import change_session, document_of
from reins.services.house import House
from reins.services.newest import Newest
from reins.services.sounds import Sounds


class Matching:
    """Answers how much each listening choice must be turned up or down, and sets makeup by loudness."""

    def __init__(self, house: House, sounds: Sounds) -> None:
        self._house, self._sounds = house, sounds
        self._newest = Newest()

    def listening(
        self, session_id: str, of: str | None, processor_id: str | None = None, *, desk: str, number: int
    ) -> dict[str, Any]:
        """{"number", "gains_db": by listening choice}; CancelledError when the desk asks again meanwhile."""
        check = self._newest.check(desk, number)
        document = document_of(self._house, session_id)
        if of is not None:
            document.strip(of)
        takes = self._house.takes(document)
        start, end = span_of(document, session_frames(document, takes))
        gains = matching.match_listening(document, takes, of, start, end, check, processor_id)
        return {"number": number, "gains_db": {what: round(gain, 2) for what, gain in gains.items()}}

    def makeup(self, session_id: str, strip_id: str, processor_id: str) -> dict[str, Any]:
        """Set a processor's makeup so that result and source are equally loud; returns the step, as any change."""
        document = document_of(self._house, session_id)
        sound, _ = self._sounds.source(document, strip_id)
        start, end = span_of(document, sound.facts.frames)
        chain = document.strip(strip_id).chain
        keys, _ = self._sounds.keys(document, strip_id)
        trial = Trial(sound, chain, keys, document.beat, document.strip(strip_id).reins)
        makeup_db = matching.match_makeup(trial, processor_id, start, end, lambda: None)
        entry = next(entry for entry in trial.entries if entry.id == processor_id)
        settings = {matching.levelled_by(entry.settings) or "": makeup_db}
        change = SetProcessor(kind="set_processor", strip_id=strip_id, processor_id=processor_id, settings=settings)
        return change_session(self._house, session_id, change.model_dump())


def span_of(document: Document, frames: int) -> tuple[int, int]:
    """The loop when it is on and lies inside, else everything; ConflictError when there is nothing."""
    if frames == 0:
        raise ConflictError("There is nothing to compare yet: no track with a take.")
    loop = document.loop
    if loop.on and loop.start_frame < min(loop.end_frame, frames):
        return loop.start_frame, min(loop.end_frame, frames)
    return 0, frames
