"""Settings laid by the sound they are for: a starting point by its level, what is added without one by trying it."""

from dataclasses import replace
from typing import Any

from reins.core.chainfile import ProcessorEntry
from reins.core.changes import AddProcessor, ChangeKind, PutRein, SetProcessor, StartFrom, parse_change
from reins.core.finding.excerpt import Excerpt
from reins.core.finding.hits import Hit
from reins.core.finding.marks import Marks
from reins.core.kinds import KINDS
from reins.core.moves.models import ByKey
from reins.core.processors import PROCESSORS
from reins.core.routing import BEFORE, key_names, key_source, of_strip
from reins.core.sessions import Document
from reins.core.starting_points import find_starting_point
from reins.core.trials.ducking import lay, some_of
from reins.core.trials.followed import floor_and_ceiling
from reins.core.trials.kinding import as_kind_on_take
from reins.core.trials.laying import laid
from reins.core.trials.matching import levelled_by, match_makeup
from reins.core.trials.offered import Laid
from reins.core.trials.opening import opened_upward
from reins.core.trials.promising import laid_as_promised
from reins.core.trials.pulling import bands_laid, begin_to_move, with_levels
from reins.core.trials.running import Trial
from reins.core.trials.yielding import room_between
from reins.errors import ConflictError
from reins.services.editing import change_session, document_of
from reins.services.house import House
from reins.services.mapping import mapped
from reins.services.marking import Marking
from reins.services.matching import span_of
from reins.services.remembered import Remembered
from reins.services.sounds import Sounds

REMEMBERED, REMEMBERED_KINDS = 100, 500
UPWARD = {"direction": "up"}
LAYS = ("add_processor", "set_processor")


class Fitting:
    """Makes changes that are fitted to a strip's sound first."""

    def __init__(self, house: House, sounds: Sounds, marking: Marking) -> None:
        self._house, self._sounds, self._marking = house, sounds, marking
        self._promised = Remembered(REMEMBERED)
        self._came_from = Remembered(REMEMBERED_KINDS)

    def change(self, session_id: str, raw: Any) -> dict[str, Any]:
        """As change_session: a starting point is laid on the strip's sound, and what is added, or given a key, with
        "lay" does something at once.
        """
        lays = isinstance(raw, dict) and raw.get("kind") in LAYS and raw.get("lay")
        if isinstance(raw, dict) and raw.get("kind") in LAYS:
            raw = {name: value for name, value in raw.items() if name != "lay"}
        change = parse_change(raw)
        if isinstance(change, StartFrom):
            change = self.fitted(session_id, change)
        elif lays and isinstance(change, (AddProcessor, SetProcessor)):
            change = self._laid(session_id, change)
        elif isinstance(change, ChangeKind) and change.laid is None:
            change = self._of_another_kind(session_id, change)
        elif isinstance(change, SetProcessor) and change.settings == UPWARD:
            change = self._opened_upward(session_id, change)
        elif isinstance(change, SetProcessor):
            change = self._bands_laid(session_id, change)
        elif isinstance(change, PutRein):
            change = self._rein_laid(session_id, change)
        change = self._as_loud(session_id, change)
        return change_session(self._house, session_id, mapped(document_of(self._house, session_id), change, self._hits))

    def _hits(self, document: Document, strip_id: str) -> list[Hit]:
        return self._marking.marks(document, strip_id).hits

    def _as_loud(self, session_id: str, change: Any) -> Any:
        """Makeup goes with a change of what is to come out as loud as it comes; set by hand, it goes no longer."""
        if not isinstance(change, (SetProcessor, StartFrom, ChangeKind)):
            return change
        document = document_of(self._house, session_id)
        entry = _entry_of(document, change)
        turned = change.as_loud if isinstance(change, SetProcessor) else None
        touches = bool(turned or not isinstance(change, SetProcessor) or change.settings)  # more than on or off
        if entry is None or turned is False or not touches or not (entry.as_loud or turned):
            return change
        trial = self._trial(document, change)
        name = None if trial is None else levelled_by(trial.entries[-1].settings)
        if trial is None or name is None:
            return change
        if isinstance(change, SetProcessor) and set(change.settings) == {name}:
            return change.model_copy(update={"as_loud": False})
        try:
            makeup_db = match_makeup(trial, change.processor_id, *span_of(document, trial.sound.facts.frames), _never)
        except ConflictError:  # nothing loud enough to go by
            return change
        path = "settings" if isinstance(change, SetProcessor) else "laid"
        return change.model_copy(update={path: (getattr(change, path) or {}) | {name: makeup_db}})

    def fitted(self, session_id: str, change: StartFrom) -> StartFrom:
        """A starting point as it is to be laid on a strip's sound, so that it keeps its promise there."""
        if change.settings is not None or change.fit_db or change.laid:
            return change
        document = document_of(self._house, session_id)
        by_key = self._by_key(document, change)
        if by_key is not None:
            return change.model_copy(update={"laid": by_key.settings, "fit_said": by_key.said})
        trial = self._trial(document, change)
        if trial is None:
            return change
        entry = trial.entries[-1]
        point = find_starting_point(entry.type, change.name)
        if entry.type == "make_room":
            room = _room_of(trial)
            return change if room is None else change.model_copy(update={"laid": room.settings, "fit_said": room.said})
        heard = self._sounds.source(document, change.strip_id)[1], self._sounds.keys(document, change.strip_id)[1]
        chain = [one.model_dump_json() for one in trial.entries]
        found = self._promised.get((*heard, *chain, point.name), lambda: laid_as_promised(trial, point))
        return change if found is None else change.model_copy(update={"laid": found.settings, "fit_said": found.said})

    def _laid(self, session_id: str, change: AddProcessor | SetProcessor) -> AddProcessor | SetProcessor:
        document = document_of(self._house, session_id)
        by_key = self._by_key(document, change)
        if by_key is not None:
            settings, said = by_key.settings, by_key.said
        elif isinstance(change, SetProcessor):
            return change
        else:
            trial = self._trial(document, change)
            if trial is None:
                return change
            settings, said = self._laid_alone(trial, change.settings)
        return change.model_copy(update={"settings": with_levels(change.settings, settings), "laid_said": said})

    @staticmethod
    def _laid_alone(trial: Trial, given: dict[str, Any]) -> tuple[dict[str, Any], str]:
        """What is added, laid by the sound it comes to and by whom it gives way to."""
        bands = begin_to_move(None, given)
        if bands:
            return bands_laid(trial, bands)
        if trial.entries[-1].type == "make_room":
            room = _room_of(trial)
            return ({}, "") if room is None else (room.settings, room.said)
        return laid(trial)

    def _rein_laid(self, session_id: str, change: PutRein) -> PutRein:
        """A rein that begins to follow a key has floor and ceiling by what that does, unless they are given."""
        raw = change.rein.get("by")
        if not isinstance(raw, dict) or raw.get("kind") != "key":
            return change
        document = document_of(self._house, session_id)
        tried = self._tried(document, change)
        by, before = (
            next((rein.by for rein in one.strip(change.strip_id).reins if rein.id == change.rein_id), None)
            for one in (tried, document)
        )
        if not isinstance(by, ByKey):
            return change
        if isinstance(before, ByKey):
            set_by_hand = (by.floor_db, by.ceiling_db) != (before.floor_db, before.ceiling_db)
            given = set_by_hand or by.key.source == before.key.source
        else:
            given = "floor_db" in raw or "ceiling_db" in raw
        if given:
            return change
        try:
            sound, _ = self._sounds.source(tried, change.strip_id)
        except ConflictError:
            return change
        alone = tried.with_strip(change.strip_id, chain=[])
        keys = self._sounds.keys(alone, change.strip_id)[0] | {BEFORE: sound}
        laid, said = floor_and_ceiling(by, sound, keys)
        return change.model_copy(update={"rein": change.rein | {"by": raw | laid}, "laid_said": said})

    def _bands_laid(self, session_id: str, change: SetProcessor) -> SetProcessor:
        """Bands that begin to move do so with what their regions have."""
        document = document_of(self._house, session_id)
        entry = _entry_of(document, change)
        bands = [] if entry is None else begin_to_move(entry.settings, change.settings)
        trial = self._trial(document, change) if bands else None
        if trial is None:
            return change
        settings, said = bands_laid(trial, bands)
        return change.model_copy(update={"settings": with_levels(change.settings, settings), "laid_said": said})

    def _opened_upward(self, session_id: str, change: SetProcessor) -> SetProcessor:
        """An expander that is turned round lays itself anew."""
        document = document_of(self._house, session_id)
        before = _entry_of(document, change)
        if before is None or before.type != "expander" or vars(before.settings)["direction"] == "up":
            return change
        trial = self._trial(document, change)
        if trial is None:
            return change
        settings, said = opened_upward(trial)
        return change.model_copy(update={"settings": change.settings | settings, "laid_said": said})

    def _of_another_kind(self, session_id: str, change: ChangeKind) -> ChangeKind:
        """Another kind does on this take what the one before it did there; gone back to the one it came from, with
        nothing moved meanwhile, it is what that was.
        """
        document = document_of(self._house, session_id)
        place = session_id, change.strip_id, change.processor_id
        entry = _entry_of(document, change)
        trial = (
            None
            if entry is None or entry.type not in KINDS or change.type not in KINDS
            else self._trial(document, change)
        )
        if entry is None or trial is None:
            return change
        came_from = self._came_from.get((*place, change.type, entry.settings.model_dump_json()), lambda: None)
        if came_from is not None:
            return change.model_copy(update={"laid": came_from, "laid_said": "as it was"})
        settings, said = as_kind_on_take(replace(trial, entries=[*trial.entries[:-1], entry]), change.type)
        if change.type != entry.type:
            self._came_from.put((*place, entry.type, settings.model_dump_json()), entry.settings.model_dump())
        return change.model_copy(update={"laid": settings.model_dump(), "laid_said": said})

    def _trial(self, document: Document, change: AddProcessor | SetProcessor | ChangeKind | StartFrom) -> Trial | None:
        """The chain up to the processor that a change is of, as it then is, on the strip's sound; None without one."""
        try:
            sound, _ = self._sounds.source(document, change.strip_id)
        except ConflictError:
            return None
        tried = self._tried(document, change)
        keys, _ = self._sounds.keys(tried, change.strip_id)
        strip = tried.strip(change.strip_id)
        place = [entry.id for entry in strip.chain].index(change.processor_id)
        return Trial(sound, strip.chain[: place + 1], keys, document.beat, strip.reins)

    def _tried(self, document: Document, change: Any) -> Document:
        """The document as a change makes it, with the maps of hits that it needs."""
        tried, _ = mapped(document, change, self._hits).apply(document)
        return tried

    def _by_key(self, document: Document, change: AddProcessor | SetProcessor | StartFrom) -> Laid | None:
        """How what yields to a key is laid by it; None for all else, and without a key that sounds."""
        tried = self._tried(document, change)
        entry = _entry_of(tried, change)
        if entry is None or not PROCESSORS[entry.type].made_by_tie:
            return None
        name = key_source(entry)
        if name in ("self", "before"):
            return None
        keys = {one: self._sounds.key(tried, of_strip(one, change.strip_id))[0] for one in key_names(entry)}
        heard = some_of(keys[name])
        if isinstance(heard, Excerpt):  # all that it hears, at the same moments
            keys = {one: Excerpt(sound, heard.parts) for one, sound in keys.items()}
        return lay(entry, keys, Marks.of(keys[name]), vars(entry.settings)["amount_db"])


def _room_of(trial: Trial) -> Laid | None:
    """How the last processor gives way to the one it follows; None where it follows nobody."""
    name = key_source(trial.entries[-1])
    return room_between(trial, trial.keys[name]) if name in trial.keys else None


def _entry_of(document: Document, change: Any) -> ProcessorEntry | None:
    """The processor that a change is of, where there is one."""
    chain = document.strip(change.strip_id).chain
    return next((entry for entry in chain if entry.id == change.processor_id), None)


def _never() -> None:
    """Whom a change waits for stops for nobody."""
