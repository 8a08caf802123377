"""What a person can do to the reins of a strip: put one there, change it, take it away."""

from typing import Any, Literal

from pydantic import Field

from reins.core.chainfile import parse_reins
from reins.core.changes.chains import MOST_SAID, OnStrip
from reins.core.moves.models import ByBeat, ByKey, ByLine, Rein
from reins.core.moves.rules import STRIP, check, check_number, found, named, way_to
from reins.core.processors import PROCESSORS
from reins.core.routing import describe_tie, in_order
from reins.core.sessions import Document, Strip, new_id
from reins.core.settings.models import PartError
from reins.errors import NotFoundError, SettingsError

KINDS = {ByBeat: "by the beat", ByLine: "by hand", ByKey: "by a key"}


def describe_rein(strip: Strip, rein: Rein) -> str:
    """A rein as a person says it: "level gain and 2 more by the beat"."""
    names = [_said(strip, move.what) for move in rein.moves]
    more = f" and {len(names) - 1} more" if len(names) > 1 else ""
    return f"{names[0]}{more} {KINDS[type(rein.by)]}"


def _said(strip: Strip, what: str) -> str:
    place, _ = found(what, strip.chain)
    label = way_to(what, strip.chain, strip).label.lower()
    return label if place == STRIP else f"{PROCESSORS[strip.chain[place].type].label.lower()} {label}"


class PutRein(OnStrip):
    """Put a rein on a strip: a new one, or another in the place of one with the same id."""

    kind: Literal["put_rein"]
    rein_id: str = Field(default_factory=new_id, min_length=1, max_length=40)
    rein: dict[str, Any]
    laid_said: str = Field("", max_length=MOST_SAID)

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with the rein, and the label; SettingsError saying what is wrong, ConflictError for a circle."""
        strip = document.strip(self.strip_id)
        changed, before, rein = self._put(document)
        said = f"{strip.name}: {describe_rein(strip, rein)}, {_what_changed(document, before, rein)}"
        return changed, said + (f", {self.laid_said}" if self.laid_said else "")

    def tried(self, document: Document) -> Document:
        """As apply, without the label: what a drag does many times a second."""
        return self._put(document)[0]

    def _put(self, document: Document) -> tuple[Document, Rein | None, Rein]:
        strip = document.strip(self.strip_id)
        try:
            rein = parse_reins([{**self.rein, "id": self.rein_id}])[0]
            check([rein], strip.chain, strip)
            [rein] = named([rein], strip.chain, strip.chain)  # by ids: a place in the chain is another's tomorrow
            before = next((known for known in strip.reins if known.id == self.rein_id), None)
            reins = [rein if known is before else known for known in strip.reins] if before else [*strip.reins, rein]
            check_number(reins)
        except (PartError, SettingsError) as error:
            raise SettingsError(f"{strip.name}: {error} Nothing was changed.") from error
        changed = document.with_strip(self.strip_id, reins=reins)
        in_order(changed)
        return changed, before, rein


def _what_changed(document: Document, before: Rein | None, rein: Rein) -> str:
    if before is None:
        return "added"
    if before.on != rein.on:
        return f"switched {'on' if rein.on else 'off'}"
    if before.moves != rein.moves:
        more = len(rein.moves) - len(before.moves)
        return "one more setting" if more > 0 else "one setting less" if more < 0 else "goes elsewhere"
    if isinstance(before.by, ByKey) and isinstance(rein.by, ByKey) and before.by.key.source != rein.by.key.source:
        return f"follows {describe_tie(document, rein.by.key.source)}"
    return "unchanged" if before == rein else "set" if isinstance(rein.by, ByKey) else "drawn"


class RemoveRein(OnStrip):
    """Take a rein away; what it moved stays where it rests."""

    kind: Literal["remove_rein"]
    rein_id: str

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document without the rein, and the label."""
        strip = document.strip(self.strip_id)
        rein = next((known for known in strip.reins if known.id == self.rein_id), None)
        if rein is None:
            raise NotFoundError("rein", self.rein_id)
        reins = [known for known in strip.reins if known is not rein]
        return document.with_strip(self.strip_id, reins=reins), f"{strip.name}: {describe_rein(strip, rein)}, removed"
