"""The reference beside the mix, as loud as the mix."""

import hashlib
from typing import Any

import numpy as np

from reins.core.dsp.loudness import LoudnessMeter
from reins.core.engine.length import session_frames
from reins.core.engine.offline import RENDER_FRAMES, render_mix_and_stems
from reins.core.sessions import Document
from reins.core.takes import Take
from reins.core.trials.matching import MOST_GAIN_DB
from reins.errors import ConflictError
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.matching import span_of
from reins.services.newest import Newest
from reins.services.sounds import Check


class Referring:
    """Answers by how much the reference of a session is to be made louder; the newest question of a desk wins."""

    def __init__(self, house: House) -> None:
        self._house = house
        self._newest = Newest()

    def gain(self, session_id: str, *, desk: str, number: int) -> dict[str, Any]:
        """{"number", "gain_db", "mix_lufs", "reference_lufs"}: integrated loudness (BS.1770) of the mix over the loop,
        or all of it, and of the whole reference. ConflictError where there is none, or one of both is too quiet.
        """
        check = self._newest.check(f"{desk}/reference", number)
        document = document_of(self._house, session_id)
        if document.reference is None:
            raise ConflictError("There is no reference yet: bring one in under “⋯”, beside Match.")
        reference = self._remembered(
            f"reference {document.reference.take_id}",
            lambda: loudness_of_take(self._house.take(document.reference.take_id), check),
        )
        made = hashlib.sha256(document.model_dump_json(exclude={"reference", "name"}).encode()).hexdigest()
        mix = self._remembered(f"mix {made}", lambda: self._loudness_of_mix(document, check))
        for lufs, what in ((mix, "The mix"), (reference, f"“{document.reference.name}”")):
            if lufs is None:
                raise ConflictError(
                    f"{what} is too quiet or too short to be measured: BS.1770 wants 0.4 s over -70 LUFS."
                )
        assert mix is not None and reference is not None
        gain_db = max(-MOST_GAIN_DB, min(MOST_GAIN_DB, mix - reference))
        found = {"gain_db": gain_db, "mix_lufs": mix, "reference_lufs": reference}
        return {"number": number} | {name: round(value, 2) for name, value in found.items()}

    def _remembered(self, place: str, measure: Any) -> float | None:
        book = self._house.loudness
        known: float | None = book.get(place)
        if known is None:
            known = measure()
            book.note(place, known)
        return known

    def _loudness_of_mix(self, document: Document, check: Check) -> float | None:
        takes = self._house.takes(document)
        start, end = span_of(document, session_frames(document, takes))
        meter, done = LoudnessMeter(sample_rate=document.sample_rate), 0
        for block, _ in render_mix_and_stems(document, takes, end):
            check()
            part = block[:, max(0, start - done) :]
            if part.shape[1]:
                meter.feed(np.ascontiguousarray(part))
            done += block.shape[1]
        return meter.integrated_lufs()


def loudness_of_take(take: Take, check: Check = lambda: None) -> float | None:
    """Integrated loudness of a take, one channel as both; None where it cannot be given."""
    meter = LoudnessMeter(sample_rate=take.facts.sample_rate)
    for first in range(0, take.facts.frames, RENDER_FRAMES):
        check()
        part = take.read(first, min(RENDER_FRAMES, take.facts.frames - first))
        meter.feed(np.ascontiguousarray(part) if part.shape[0] == 2 else np.repeat(part, 2, axis=0))
    return meter.integrated_lufs()
