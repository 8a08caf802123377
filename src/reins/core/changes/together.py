"""What a person does to several strips at once, or to a whole chain: moved together, copied, laid, taken deeper; which
strips are soloed and which drafts are in use, kept under a name and recalled.
"""

import functools
from typing import Any, Literal

from pydantic import Field

from reins.core.chainfile import ProcessorEntry, parse_entry
from reins.core.changes.chains import OnStrip, UseDraft, with_chain
from reins.core.changes.strips import SetStrip, heeding, label_of
from reins.core.fitting import laid_deeper
from reins.core.limits import MAX_BUSES, MAX_PROCESSORS, MAX_TRACKS
from reins.core.moves.rules import named
from reins.core.routing import at_home, in_order, strip_ids
from reins.core.sessionparts import Name
from reins.core.sessions import MAX_SETS, Document, new_id
from reins.core.settings.describing import number
from reins.core.settings.models import Strict
from reins.errors import ConflictError, NotFoundError

NAMED = 3  # strips that a label names; more are counted


def _names(document: Document, ids: list[str]) -> str:
    names = [document.strip(strip_id).name for strip_id in ids]
    return ", ".join(names) if len(names) <= NAMED else f"{len(names)} strips"


class SetStrips(Strict):
    """As set_strip, for several strips in one step: values by strip."""

    kind: Literal["set_strips"]
    values: dict[str, dict[str, Any]] = Field(min_length=1, max_length=MAX_TRACKS + MAX_BUSES + 1)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the strips changed, and the label; SettingsError for what one has not or is outside limits."""
        said = []
        for strip_id, values in self.values.items():
            document, label = SetStrip(kind="set_strip", strip_id=strip_id, values=values).apply(document)
            said.append(label.partition(": ")[2])
        changed = {label_of(document.strip(one), name): None for one, values in self.values.items() for name in values}
        what = said[0] if len(set(said)) == 1 else ", ".join(changed)
        return document, f"{_names(document, list(self.values))}: {what}"


class CopyChain(OnStrip):
    """Put a copy of a strip's chain, with its reins, in the place of other strips' chains."""

    kind: Literal["copy_chain"]
    to: list[str] = Field(min_length=1)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the copies, and the label; ConflictError naming the members of a circle."""
        source, goals = document.strip(self.strip_id), [one for one in dict.fromkeys(self.to) if one != self.strip_id]
        if not goals:
            raise ConflictError(f"{source.name}: its own chain is there already; choose another strip to copy it to.")
        for goal in goals:
            copies = _copies(source.chain)
            own = heeding(copies, named(source.reins, source.chain, copies), functools.partial(_source_on, goal))
            document = with_chain(document.with_strip(goal, **own), goal, own["chain"])
        in_order(document)
        return document, f"{source.name}: chain copied to {_names(document, goals)}"


def _copies(chain: list[ProcessorEntry]) -> list[ProcessorEntry]:
    """The same processors with ids of their own, also where two came with the same one, tied as they were."""
    ids = [new_id() for _ in chain]
    first = {entry.id: own for entry, own in reversed(list(zip(chain, ids, strict=True)))}
    return [
        entry.model_copy(update={"id": own, "tied": first.get(entry.tied, "") if entry.tied else ""})
        for entry, own in zip(chain, ids, strict=True)
    ]


def _source_on(goal: str, name: str) -> str:
    """A key's name on a strip of its own: what came from there is its own sound now."""
    return at_home(name) if name.startswith(f"{goal}/") else name


class LayChain(OnStrip):
    """Add the processors of a kept chain behind those that are there."""

    kind: Literal["lay_chain"]
    name: Name
    processors: list[dict[str, Any]] = Field(min_length=1, max_length=MAX_PROCESSORS)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the processors, and the label; ConflictError where the chain would be too long."""
        strip = document.strip(self.strip_id)
        laid = [
            parse_entry(raw | {"id": raw.get("id") or f"laid-{place}"}, f"{self.name}, processor {place}")
            for place, raw in enumerate(self.processors, 1)
        ]
        if len(strip.chain) + len(laid) > MAX_PROCESSORS:
            raise ConflictError(
                f"{strip.name}: with the {len(laid)} processors of “{self.name}” the chain has "
                f"{len(strip.chain) + len(laid)}; {MAX_PROCESSORS} are allowed."
            )
        changed = document.with_strip(self.strip_id, chain=[*strip.chain, *_copies(laid)])
        in_order(changed)
        return changed, f"{strip.name}: chain “{self.name}” laid"


class Deepen(OnStrip):
    """Move all thresholds of a chain so much further into the sound, or out of it."""

    kind: Literal["deepen"]
    by_db: float = number(
        0.0, -24, 24, label="All deeper", unit="dB", group="Chain", step=0.5, scale="db", moves=False,
        help="Moves every threshold of this chain further into the sound, to the left out of it; then it rests at 0.",
    )  # fmt: skip

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the thresholds moved, and the label; ConflictError where there is none."""
        strip = document.strip(self.strip_id)
        changed = self.tried(document)
        if all(new is old for new, old in zip(changed.strip(self.strip_id).chain, strip.chain, strict=True)):
            raise ConflictError(
                f"{strip.name}: nothing in its chain has a threshold to move; add a processor that has one."
            )
        return changed, f"{strip.name}: {abs(self.by_db):g} dB {'deeper' if self.by_db >= 0 else 'shallower'}"

    def tried(self, document: Document) -> Document:
        """As apply, without the label: what a drag does many times a second."""
        chain = []
        for entry in document.strip(self.strip_id).chain:
            settings = laid_deeper(entry.type, entry.settings, self.by_db) if entry.on else entry.settings
            chain.append(entry if settings is entry.settings else entry.model_copy(update={"settings": settings}))
        return document.with_strip(self.strip_id, chain=chain)


class _OfSet(Strict):
    what: Literal["solos", "drafts"]
    name: Name

    def _sets(self, document: Document) -> dict[str, Any]:
        return document.solo_sets if self.what == "solos" else document.draft_sets

    def _with(self, document: Document, sets: dict[str, Any]) -> Document:
        return document.model_copy(update={"solo_sets" if self.what == "solos" else "draft_sets": sets})

    def _known(self, document: Document) -> Any:
        if self.name not in self._sets(document):
            raise NotFoundError("set", self.name)
        return self._sets(document)[self.name]


class KeepSet(_OfSet):
    """Keep under a name which strips are soloed now, or which drafts are in use; one of that name is replaced."""

    kind: Literal["keep_set"]

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the set, and the label; ConflictError where nothing is soloed or there are too many."""
        known = self._sets(document)
        kept: Any
        if self.what == "solos":
            kept = [one for one in strip_ids(document) if getattr(document.strip(one), "solo", False)]
            if not kept:
                raise ConflictError("Nothing is soloed: solo what belongs together first.")
        else:
            kept = {one: document.strip(one).draft for one in strip_ids(document)}
        if self.name not in known and len(known) >= MAX_SETS:
            raise ConflictError(f"There are {MAX_SETS} sets already; take one away first.")
        return self._with(document, {**known, self.name: kept}), f"Session: {self.what} kept as “{self.name}”"


class UseSet(_OfSet):
    """Solo what a set names and nothing else, or change every strip to the draft that a set names."""

    kind: Literal["use_set"]

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the set in use, and the label. Strips that are not there any more are passed by, and so are
        drafts that were taken away.
        """
        known = self._known(document)
        for strip_id in strip_ids(document):
            strip = document.strip(strip_id)
            if self.what == "solos":
                wanted = strip_id in known
                if getattr(strip, "solo", wanted) != wanted:
                    document = document.with_strip(strip_id, solo=wanted)
            elif (draft := known.get(strip_id, strip.draft)) != strip.draft and str(draft) in strip.drafts:
                document, _ = UseDraft(kind="use_draft", strip_id=strip_id, draft=draft).apply(document)
        return document, f"Session: {self.what} of “{self.name}”"


class RemoveSet(_OfSet):
    """Forget a set; what is soloed or in use stays."""

    kind: Literal["remove_set"]

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without the set, and the label."""
        self._known(document)
        kept = {name: one for name, one in self._sets(document).items() if name != self.name}
        return self._with(document, kept), f"Session: {self.what} “{self.name}” forgotten"
