"""Aims in a session: what is found in a strip's sound, as it was corrected, and what is proposed for a processor."""

from pathlib import Path
from typing import Any

from reins.core.chainfile import ProcessorEntry, parse_entry
from reins.core.finding.marks import Marks
from reins.core.routing import key_names
from reins.core.sessions import Document
from reins.core.trials.aims import Aim, Work, aim_called
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from reins.core.trials.why import why_here
from reins.core.trials.worst import worst_places
from reins.errors import ConflictError, NotFoundError
from reins.services.aiming import proposed, told
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.marking import Marking
from reins.services.newest import Newest
from reins.services.processing import TraceWriter
from reins.services.sounds import Check, Sounds

TRACE_FRAMES = 32768


class Aims:
    """Answers what is found and what is proposed; the newest request of a desk wins."""

    def __init__(self, house: House, sounds: Sounds, marking: Marking) -> None:
        self._house, self._sounds, self._marking = house, sounds, marking
        self._newest = Newest()

    def marks(self, session_id: str, strip_id: str, *, desk: str, number: int) -> dict[str, Any]:
        """What is found in what comes to a strip: hits_s, phrases_s, sibilants_s and tempo."""
        check = self._newest.check(f"{desk}/marks", number)
        document = document_of(self._house, session_id)
        marks = self._marking.marks(document, strip_id, check)
        tempo = marks.tempo
        found = None if tempo is None else {
            "bpm": round(tempo.bpm, 2), "downbeat_s": round(tempo.downbeat_s, 3),
            "confidence": round(tempo.confidence, 2),
        }  # fmt: skip
        return {"number": number, "tempo": found, **told(marks)}

    def propose(
        self, session_id: str, strip_id: str, *, desk: str, number: int, aim: str, asked: float,
        processor_id: str | None, first: bool,
    ) -> dict[str, Any]:  # fmt: skip
        """What an aim proposes for a processor: settings by path or a line, reason, figures, reached. `first`: from
        excerpts, where the take is long. Raises ConflictError with a sentence for what cannot be wanted here.
        """
        check = self._newest.check(f"{desk}/aim", number)
        document, wanted = document_of(self._house, session_id), aim_called(aim)
        entries = _for_aim(document.strip(strip_id).chain, wanted, processor_id)
        trial = self._trial(document, strip_id, entries, check)
        key = next((name for name in key_names(entries[-1]) if name in trial.keys), None)
        heard = None if key is None else Marks.of(trial.keys[key], check)
        work = Work(trial, self._marking.marks(document, strip_id, check), asked, heard, check)
        made = proposed(wanted, work, first=first)
        return {
            "number": number, "aim": aim, "settings": made.settings, "line": made.line, "reason": made.reason,
            "figures": made.figures, "reached": made.reached, "ways": [vars(way) for way in made.ways],
        }  # fmt: skip

    def why(
        self, session_id: str, strip_id: str, *, desk: str, number: int, processor_id: str, at_s: float
    ) -> dict[str, Any]:
        """Why a processor does what it does at a moment of the session, in numbers and a sentence."""
        check = self._newest.check(f"{desk}/why", number)
        document = document_of(self._house, session_id)
        entries = ending_with(document.strip(strip_id).chain, processor_id)
        trial = self._trial(document, strip_id, entries, check)
        return {"number": number, **why_here(trial, processor_id, round(at_s * document.sample_rate))}

    def worst(self, session_id: str, strip_id: str, *, desk: str, number: int, processor_id: str) -> dict[str, Any]:
        """The worst places of a processor over the whole, by kind, the worst first."""
        check = self._newest.check(f"{desk}/worst", number)
        document = document_of(self._house, session_id)
        trial = self._trial(document, strip_id, ending_with(document.strip(strip_id).chain, processor_id), check)
        span = measure_span(trial, processor_id, 0, trial.sound.facts.frames, check)
        return {"number": number, "places": [vars(one) for one in worst_places(span, document.sample_rate)]}

    def trace(self, session_id: str, strip_id: str, processor_id: str, path: Path) -> str:
        """Write each moving gain of a processor, a row a millisecond, as CSV; returns a name for the file."""
        document = document_of(self._house, session_id)
        strip = document.strip(strip_id)
        entries = ending_with(strip.chain, processor_id)
        trial = self._trial(document, strip_id, entries)
        chain = trial.chain()
        with TraceWriter(path, chain, document.sample_rate) as writer:
            for block, gains in trial.run(0, trial.sound.facts.frames, block_frames=TRACE_FRAMES, chain=chain):
                writer.write(gains, block.shape[1])
        return f"{strip.name} {entries[-1].type} gain.csv"

    def _trial(
        self, document: Document, strip_id: str, entries: list[ProcessorEntry], check: Check = lambda: None
    ) -> Trial:
        """A part of a strip's chain on what comes to it, with its keys and what moves."""
        sound, _ = self._sounds.source(document, strip_id, check)
        keys, _ = self._sounds.keys(document, strip_id, check)
        return Trial(sound, entries, keys, document.beat, document.strip(strip_id).reins)


def _for_aim(chain: list[ProcessorEntry], aim: Aim, processor_id: str | None) -> list[ProcessorEntry]:
    """The part of a chain that ends with the processor an aim is for; a line rides what the whole chain makes."""
    if aim.types == ("level",) and processor_id is None:
        return [*chain, parse_entry({"id": "ridden", "type": "level"}, aim.label)]
    if processor_id is None:
        raise ConflictError(f"“{aim.label}” is for a processor: choose one, or add it.")
    return ending_with(chain, processor_id)


def ending_with(chain: list[ProcessorEntry], processor_id: str) -> list[ProcessorEntry]:
    """The part of a chain that ends with a processor, or NotFoundError."""
    place = next((k for k, entry in enumerate(chain) if entry.id == processor_id), None)
    if place is None:
        raise NotFoundError("processor", processor_id)
    return chain[: place + 1]
