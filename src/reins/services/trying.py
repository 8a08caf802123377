"""What a desk hears of a session: what is kept, with what is only tried laid over it, and what is heard otherwise over
that. Read off the player's thread, so that it finds all of it worked out.
"""

from dataclasses import replace
from typing import Any

from reins.core.changes import Deepen, PutRein, PutSend, SetProcessor, SetStrip
from reins.core.engine.graph import only_retuned
from reins.core.moves.spans import prepare_moved
from reins.core.otherwise import Laid, Otherwise, read_otherwise
from reins.core.processors.making import prepare
from reins.core.routing import HITS
from reins.core.sessions import Bus, Document, Master, Track
from reins.core.trials.blind import Side
from reins.services.blinds import Blinds, ByItself, Under
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.mapping import complete


class Tried:
    """Reads commands that change what is heard; one caller at a time.

    document: what is kept, with what is only tried laid over it; under: the blind test that is on; by_itself: where
    that goes over by itself.
    """

    def __init__(self, house: House, session_id: str, blinds: Blinds) -> None:
        self._house, self._session_id, self._blinds = house, session_id, blinds
        self.under: Under | None = None
        self.by_itself: ByItself | None = None
        self._turn = 0
        self.document = self._kept = document_of(house, session_id)
        _prepare_moved(self.document)
        self._laid = Laid(house.loudness.get)
        self._heard = self.document  # with what is heard otherwise laid over it

    def read(self, message: dict[str, Any]) -> dict[str, Any]:
        """What a command comes to: a document to be heard, a refusal, or, where it changes nothing of that, itself."""
        kind = message.get("type")
        try:
            if kind == "kept":
                before, self.document = self.document, message["document"]
                self._kept = self.document
                _prepare_moved(self.document, before)
            elif kind == "try":
                # Matching waits until it is kept: the take's spectrum may have to be measured first.
                settings = {k: v for k, v in message["settings"].items() if k != "match_loudness"}
                place = {k: message[k] for k in ("strip_id", "processor_id")}
                self.document = SetProcessor(kind="set_processor", settings=settings, **place).tried(self.document)
                self._map_hits(settings)
                for entry in self.document.strip(message["strip_id"]).chain:
                    if entry.id == message["processor_id"]:
                        prepare(entry.type, entry.settings, self.document.sample_rate)
                return self.given("tried")
            elif kind == "try_rein":
                place = {k: message[k] for k in ("strip_id", "rein_id", "rein")}
                before = self.document
                self.document = PutRein(kind="put_rein", **place).tried(before)
                self._map_hits(message["rein"])
                _prepare_moved(self.document, before)
            elif kind == "try_strip":
                change = SetStrip(kind="set_strip", strip_id=message["strip_id"], values=message["values"])
                self.document = change.apply(self.document)[0]
            elif kind == "try_deeper":  # of what is kept: it is said how far from there
                deeper = Deepen(kind="deepen", strip_id=message["strip_id"], by_db=message["by_db"])
                strip = deeper.tried(self._kept).strip(deeper.strip_id)
                self.document = self.document.with_strip(deeper.strip_id, chain=strip.chain)
            elif kind == "try_send":
                place = {k: message[k] for k in ("strip_id", "bus", "level_db")}
                self.document = PutSend(kind="put_send", **place).apply(self.document)[0]
            elif kind == "untried":
                self.document = document_of(self._house, self._session_id)
            elif kind == "otherwise":
                self._laid.set(read_otherwise(message))
            elif kind == "blind":
                self._hear_blind(message)
            else:
                return message
            return {**self.given("kept"), "step": message["step"]} if kind == "kept" else self.given("tried")
        except Exception as error:  # is said by the player, in its turn
            return {"type": "refused", "error": error}

    def _map_hits(self, tried: Any) -> None:
        """Have hits that are tried as a key at hand; looked for only where what is tried may name them."""
        if HITS in repr(tried):
            self.document = complete(self.document, self._house.take)

    def _hear_blind(self, message: dict[str, Any]) -> None:
        """Hear one side of a blind test, or, with none, all as it is. Whatever side it is, the same work is done."""
        test = message.get("test")
        if test is None:
            self.under = self.by_itself = None
            self._laid.set(Otherwise())
            return
        under = self._blinds.under(str(test))
        if under.blind.kind == "by_itself":
            self.by_itself = ByItself(under, self.document.sample_rate)
            side = self.by_itself.side
        else:
            side = under.blind.heard(str(message.get("hear")))
        self.under = under
        self.go_over(under, side)

    def go_over(self, under: Under, side: Side) -> None:
        """Hear this side of a blind test from now on; given() has the document."""
        self._turn += 1
        self._laid.set(replace(under.ways[side], turn=self._turn))

    def given(self, kind: str) -> dict[str, Any]:
        """What is to be heard, as a command of the house."""
        before, self._heard = self._heard, self._laid.over(self.document)
        retuned = only_retuned(before, self._heard) if kind == "tried" else None
        return {"type": kind, "document": self._heard, "retuned": retuned}


def _prepare_moved(document: Document, before: Document | None = None) -> None:
    """Have what reins move worked out, so that the thread that plays finds it; where a strip is the one it was before,
    it has been.
    """
    known = {id(strip) for strip in _strips(before)} if before is not None else set()
    for strip in _strips(document):
        if id(strip) not in known:
            prepare_moved(strip.reins, strip.chain, document.sample_rate)


def _strips(document: Document) -> list[Track | Bus | Master]:
    return [*document.tracks.values(), *document.buses.values(), document.master]
