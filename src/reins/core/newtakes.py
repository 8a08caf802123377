"""A session document whose recordings are kept under new ids: brought in from a file, or copied."""

from typing import Any

from reins.core.chainfile import ProcessorEntry
from reins.core.moves.rules import named
from reins.core.sessions import MASTER, Document, Draft, Strip, new_id
from reins.core.settings.fields import recordings
from reins.core.settings.paths import laid_over


def on_new_takes(document: Document, takes: dict[str, str]) -> Document:
    """A document whose takes, responses too, have the ids given by their old ones; each processor has its own id."""
    impulses = {takes[take_id]: name for take_id, name in document.impulses.items()}
    reference = document.reference and document.reference.model_copy(
        update={"take_id": takes[document.reference.take_id]}
    )
    document = document.model_copy(update={"impulses": impulses, "reference": reference})
    for strip_id in (*document.tracks, *document.buses, MASTER):
        strip = document.strip(strip_id)
        drafts = {number: draft.model_copy(update=_identified(draft, takes)) for number, draft in strip.drafts.items()}
        document = document.with_strip(strip_id, drafts=drafts, **_identified(strip, takes))
    for track_id, track in document.tracks.items():
        document = document.with_strip(track_id, take_id=takes.get(track.take_id or ""))
    return document


def _identified(part: Strip | Draft, takes: dict[str, str]) -> dict[str, Any]:
    """The chain of a strip or draft on its new takes, and its reins, with ids of their own where they have none."""
    chain = [entry.model_copy(update={"id": entry.id or new_id()} | _on(takes, entry)) for entry in part.chain]
    reins = named(part.reins, part.chain, chain)
    return {"chain": chain, "reins": [rein.model_copy(update={"id": rein.id or new_id()}) for rein in reins]}


def _on(takes: dict[str, str], entry: ProcessorEntry) -> dict[str, Any]:
    """Settings that use recordings, with the new names of those."""
    used = {setting: takes[name] for setting, name in recordings(entry.settings).items()}
    return {"settings": laid_over(entry.settings, used)} if used else {}
