"""What a person can do to a chain: its processors, their settings, its drafts. A chain is a track's, a bus's or the
master's.
"""

from typing import Any, Literal

from pydantic import Field

from reins.core.chainfile import ProcessorEntry, describe_change, parse_entry, parse_settings, settings_over
from reins.core.fitting import laid_on_take
from reins.core.kinds import as_kind
from reins.core.last_word import LAST
from reins.core.limits import MAX_PROCESSORS
from reins.core.moves.rules import fitted
from reins.core.pairs import moved_alike, tied_to
from reins.core.processors import PROCESSORS
from reins.core.routing import describe_tie, in_order, key_names, key_source
from reins.core.sessions import MOST_DRAFTS, Document, Draft, Strip, new_id
from reins.core.settings.models import Strict
from reins.core.starting_points import find_starting_point
from reins.errors import ConflictError, NotFoundError

MOST_SAID = 400  # characters of what was measured


def processor_at(strip: Strip, processor_id: str) -> tuple[int, ProcessorEntry]:
    """A processor of a chain with its place, or NotFoundError."""
    for index, entry in enumerate(strip.chain):
        if entry.id == processor_id:
            return index, entry
    raise NotFoundError("processor", processor_id)


def check_room(strip: Strip, processor_id: str) -> None:
    """Raise ConflictError unless one more processor, of this id, may be added to a chain."""
    if len(strip.chain) >= MAX_PROCESSORS:
        raise ConflictError(f"{strip.name}: the chain is full; {MAX_PROCESSORS} processors are allowed.")
    if any(entry.id == processor_id for entry in strip.chain):
        raise ConflictError(f"{strip.name}: there is a processor “{processor_id}” already; allowed: an id of its own.")


def with_chain(document: Document, strip_id: str, chain: list[ProcessorEntry]) -> Document:
    """A document in which a strip has this chain; its reins lose what is not there any more."""
    strip = document.strip(strip_id)
    reins = fitted(strip.reins, chain, strip) if strip.reins else strip.reins
    return document.with_strip(strip_id, chain=chain, **({} if reins == strip.reins else {"reins": reins}))


class OnStrip(Strict):
    """Base of what is done to one strip."""

    strip_id: str


class OnProcessor(OnStrip):
    """Base of what is done to one processor of a strip."""

    processor_id: str


class AddProcessor(OnStrip):
    """Add a processor at the desk's own defaults at the end of a chain; of the master's before a last limiter, which is
    to have the last word.
    """

    kind: Literal["add_processor"]
    processor_id: str = Field(default_factory=new_id, min_length=1, max_length=40)
    type: str
    settings: dict[str, Any] = {}  # by path, laid by the sound it is for
    laid_said: str = Field("", max_length=MOST_SAID)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the processor, and the label."""
        strip = document.strip(self.strip_id)
        check_room(strip, self.processor_id)
        raw = {"id": self.processor_id, "type": self.type}
        entry = parse_entry(raw | {"settings": added_with(self.type)}, strip.name)
        if self.settings:
            laid = parse_settings(entry.type, settings_over(entry, self.settings), f"{strip.name} ({entry.type})")
            entry = entry.model_copy(update={"settings": laid})
        label = f"{strip.name}: {PROCESSORS[self.type].label.lower()} added" + (
            f", {self.laid_said}" if self.laid_said else ""
        )
        chain = [*strip.chain, entry]
        if strip is document.master and self.type != LAST and len(chain) > 1 and chain[-2].type == LAST:
            chain[-2:] = [entry, chain[-2]]
        changed = document.with_strip(self.strip_id, chain=chain)
        if key_names(entry):
            in_order(changed)
        return changed, label


def added_with(kind: str) -> dict[str, Any]:
    """Settings of a type's own that the desk adds it with; none for a type that is not there."""
    return PROCESSORS[kind].added_with if kind in PROCESSORS else {}


class RemoveProcessor(OnProcessor):
    """Take a processor out of a chain."""

    kind: Literal["remove_processor"]

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without the processor, and the label."""
        strip = document.strip(self.strip_id)
        index, entry = processor_at(strip, self.processor_id)
        chain = strip.chain[:index] + strip.chain[index + 1 :]
        label = f"{strip.name}: {PROCESSORS[entry.type].label.lower()} removed"
        return with_chain(document, self.strip_id, chain), label


class DuplicateProcessor(OnProcessor):
    """Put a copy right behind a processor."""

    kind: Literal["duplicate_processor"]
    new_processor_id: str = Field(default_factory=new_id, min_length=1, max_length=40)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the copy, and the label."""
        strip = document.strip(self.strip_id)
        index, entry = processor_at(strip, self.processor_id)
        check_room(strip, self.new_processor_id)
        twin = entry.model_copy(update={"id": self.new_processor_id, "tied": ""})
        chain = [*strip.chain[: index + 1], twin, *strip.chain[index + 1 :]]
        label = f"{strip.name}: {PROCESSORS[entry.type].label.lower()} duplicated"
        return document.with_strip(self.strip_id, chain=chain), label


class MoveProcessor(OnProcessor):
    """Move a processor to another place of its chain, counted from 0."""

    kind: Literal["move_processor"]
    index: int = Field(ge=0)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the new order, and the label."""
        strip = document.strip(self.strip_id)
        old, entry = processor_at(strip, self.processor_id)
        chain = strip.chain[:old] + strip.chain[old + 1 :]
        chain.insert(min(self.index, len(chain)), entry)
        label = f"{strip.name}: {PROCESSORS[entry.type].label.lower()} moved to place {chain.index(entry) + 1}"
        return document.with_strip(self.strip_id, chain=chain), label


class SetProcessor(OnProcessor):
    """Change some settings of a processor (dotted names for nested ones), or switch it on or off."""

    kind: Literal["set_processor"]
    on: bool | None = None
    as_loud: bool | None = None  # whether makeup goes with all else from now on
    settings: dict[str, Any] = {}
    laid_said: str = Field("", max_length=MOST_SAID)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the settings, and the label; SettingsError when a value is outside its limits."""
        changed, before, after = self._set(document)
        said = describe_change(before.type, before.settings, after.settings)
        if tied_to(before, document.strip(self.strip_id).chain) is not None:
            said = f"and the one tied to it: {said}" if said else ""
        if after.on != before.on:
            said = f"switched {'on' if after.on else 'off'}" + (f", {said}" if said else "")
        if key_source(after) != key_source(before):
            said = f"follows {describe_tie(document, key_source(after))}"
        if after.as_loud != before.as_loud:
            said = ", ".join(filter(None, ("as loud as it comes" if after.as_loud else "makeup by hand", said)))
        if self.laid_said:
            said = ", ".join(filter(None, (said, self.laid_said)))
        name = document.strip(self.strip_id).name
        return changed, f"{name}: {PROCESSORS[before.type].label.lower()} {said or 'unchanged'}"

    def tried(self, document: Document) -> Document:
        """As apply, without the label: what a drag does many times a second."""
        return self._set(document)[0]

    def _set(self, document: Document) -> tuple[Document, ProcessorEntry, ProcessorEntry]:
        """Document with the settings, and the processor before and after."""
        strip = document.strip(self.strip_id)
        index, entry = processor_at(strip, self.processor_id)
        merged = type(entry.settings).settled(settings_over(entry, self.settings), set(self.settings))
        settings = parse_settings(entry.type, merged, f"{strip.name} ({entry.type})")
        on = entry.on if self.on is None else self.on
        chain = list(strip.chain)
        as_loud = entry.as_loud if self.as_loud is None else self.as_loud
        if self.as_loud and not PROCESSORS[entry.type].may_be_as_loud:
            what = PROCESSORS[entry.type].label.lower()
            raise ConflictError(f"{strip.name}: a {what} is meant to make quieter; allowed: makeup by hand.")
        chain[index] = entry.model_copy(update={"settings": settings, "on": on, "as_loud": as_loud})
        if (other := tied_to(entry, chain)) is not None:
            chain[other] = moved_alike(chain[other], entry, chain[index], self.settings)
        changed = with_chain(document, self.strip_id, chain)
        if (key_names(chain[index]), on) != (key_names(entry), entry.on):
            in_order(changed)
        return changed, entry, chain[index]


class UseDraft(OnStrip):
    """Change to another draft of the chain; one never used starts as a copy of the present chain."""

    kind: Literal["use_draft"]
    draft: int = Field(ge=1, le=MOST_DRAFTS)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the other draft in use, and the label."""
        strip = document.strip(self.strip_id)
        if self.draft == strip.draft:
            return document, f"{strip.name}: draft {self.draft}"
        here = strip.in_use
        put_by = {**strip.drafts, str(strip.draft): here}
        there = put_by.pop(str(self.draft), here.model_copy(update={"name": ""}))
        changed = document.with_strip(
            self.strip_id, chain=there.chain, reins=there.reins, draft=self.draft, draft_name=there.name, drafts=put_by
        )
        in_order(changed)
        return changed, f"{strip.name}: {_draft(strip.draft, here.name)} → {_draft(self.draft, there.name)}"


class CopyDraft(OnStrip):
    """Copy the chain in use into another draft."""

    kind: Literal["copy_draft"]
    draft: int = Field(ge=1, le=MOST_DRAFTS)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the copy, and the label."""
        strip = document.strip(self.strip_id)
        if self.draft == strip.draft:
            raise ConflictError(f"{strip.name}: draft {self.draft} is the one in use; choose another to copy to.")
        known = strip.drafts.get(str(self.draft), Draft())
        copied = strip.in_use.model_copy(update={"name": known.name})
        label = f"{strip.name}: {_draft(strip.draft, strip.draft_name)} copied to {_draft(self.draft, known.name)}"
        return document.with_strip(self.strip_id, drafts={**strip.drafts, str(self.draft): copied}), label


class NameDraft(OnStrip):
    """Give a draft a name, or take it away."""

    kind: Literal["name_draft"]
    draft: int = Field(ge=1, le=MOST_DRAFTS)
    name: str = Field(max_length=40)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the name, and the label."""
        strip = document.strip(self.strip_id)
        label = f"{strip.name}: draft {self.draft} named “{self.name}”"
        if self.draft == strip.draft:
            return document.with_strip(self.strip_id, draft_name=self.name), label
        named = _known_draft(strip, self.draft).model_copy(update={"name": self.name})
        return document.with_strip(self.strip_id, drafts={**strip.drafts, str(self.draft): named}), label


class RemoveDraft(OnStrip):
    """Take a draft away that is not in use."""

    kind: Literal["remove_draft"]
    draft: int = Field(ge=1, le=MOST_DRAFTS)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without the draft, and the label."""
        strip = document.strip(self.strip_id)
        if self.draft == strip.draft:
            raise ConflictError(f"{strip.name}: draft {self.draft} is the one in use; choose another first.")
        gone = _known_draft(strip, self.draft)
        drafts = {number: draft for number, draft in strip.drafts.items() if number != str(self.draft)}
        label = f"{strip.name}: {_draft(self.draft, gone.name)} removed"
        return document.with_strip(self.strip_id, drafts=drafts), label


def _known_draft(strip: Strip, number: int) -> Draft:
    if str(number) not in strip.drafts:
        raise NotFoundError("draft", str(number))
    return strip.drafts[str(number)]


def _draft(number: int, name: str) -> str:
    return f"draft {number}" + (f" “{name}”" if name else "")


class ChangeKind(OnProcessor):
    """Put another kind of compressor in a compressor's place, as deep, quick and loud as the kinds allow."""

    kind: Literal["change_kind"]
    type: str
    laid: dict[str, Any] | None = None  # its settings, found on the sound it is for
    laid_said: str = Field("", max_length=MOST_SAID)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the other kind, and the label."""
        strip = document.strip(self.strip_id)
        index, entry = processor_at(strip, self.processor_id)
        settings = as_kind(entry.type, entry.settings, self.type)
        if self.laid is not None:
            settings = parse_settings(self.type, self.laid, f"{strip.name} ({self.type})")
        chain = list(strip.chain)
        chain[index] = entry.model_copy(update={"type": self.type, "settings": settings})
        label = f"{strip.name}: {PROCESSORS[self.type].label} in place of {PROCESSORS[entry.type].label.lower()}"
        label += f", {self.laid_said}" if self.laid_said else ""
        return with_chain(document, self.strip_id, chain), label


class StartFrom(OnProcessor):
    """Take a processor's settings from a starting point, all else at its default; whose key it hears stays."""

    kind: Literal["start_from"]
    name: str
    settings: dict[str, Any] | None = None  # of a person's own starting point
    fit_db: float = Field(0.0, ge=-90, le=90)  # how much louder the take is than the one it is written for
    fit_said: str = Field("", max_length=MOST_SAID)
    laid: dict[str, Any] = {}  # by path, over what it says, as the key wants it

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the settings, and the label."""
        strip = document.strip(self.strip_id)
        index, entry = processor_at(strip, self.processor_id)
        own = self.settings
        raw = added_with(entry.type) | find_starting_point(entry.type, self.name).settings if own is None else own
        chain = list(strip.chain)
        settings: Any = parse_settings(entry.type, raw, self.name)
        if hasattr(settings, "key"):
            key: Any = vars(entry.settings)["key"]
            listens = settings.key.model_copy(update={"source": key.source, "also": key.also})
            settings = settings.model_copy(update={"key": listens})
        chain[index] = entry.model_copy(update={"settings": laid_on_take(entry.type, settings, self.fit_db)})
        if self.laid:
            over = parse_settings(entry.type, settings_over(chain[index], self.laid), self.name)
            chain[index] = entry.model_copy(update={"settings": over})
        label = f"{strip.name}: {PROCESSORS[entry.type].label.lower()} from “{self.name}”"
        label += f", {self.fit_said}" if self.fit_said else ""
        return with_chain(document, self.strip_id, chain), label
