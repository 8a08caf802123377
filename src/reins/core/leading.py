"""A session reduced to what leads to one of its strips."""

from typing import Any

from reins.core.moves.rules import of_chain_alone
from reins.core.routing import HITS, destination, goals, sends_of, ties
from reins.core.sessions import FADER_OFF_DB, MASTER, Document, Master, Send
from reins.core.settings.fields import recordings
from reins.core.soloing import heard


def leading_to(document: Document, strip_id: str, *, chain: bool = False, fader: bool = False) -> Document:
    """The document reduced to what leads to a strip's input, and, with `chain`, to its chain's result; with `fader`
    that after fader, pan and mute.

    Nothing else of the session can change how that sounds: two that are equal sound equal. Names, drafts and loop
    are left out, mute and solo worked into mute; the strip itself stands at rest, straight into the master.
    """
    wanted: set[str] = {strip_id}
    before = 0
    while len(wanted) > before:
        before = len(wanted)
        wanted |= {k for k in (*document.tracks, *document.buses) if wanted.intersection(goals(document, k))}
        keyed = wanted if chain else wanted - {strip_id}
        wanted |= {source for other in keyed for _, source, _, _ in ties(document, other)}
    followed = {source for other in wanted for _, source, tap, _ in ties(document, other) if tap == HITS}
    own: dict[str, object] = {} if fader else {"fader_db": 0.0, "pan_pct": 0.0, "mute": False}
    own |= {"bus": "", "sends": []}
    own |= {} if chain else {"chain": []}

    def at_rest(key: str) -> dict[str, Any]:
        bus, way = destination(document, key), heard(document, key)
        rest: dict[str, Any] = {"name": "x", "draft": 1, "draft_name": "", "drafts": {}, "marks": {}, "solo": False}
        rest |= {"hits": []} if key in document.tracks and key not in followed else {}
        rest["bus"] = bus if bus in wanted - {MASTER} else ""
        sends = zip(sends_of(document, key), way.sends, strict=True)
        rest["sends"] = [send for send, sounds in sends if sounds and send.bus in wanted]
        rest["mute"] = not (way.whole or rest["sends"])
        if rest["sends"] and not way.whole:
            rest |= _sent_alone(document.strip(key), rest["sends"])
        reins = document.strip(key).reins
        if not fader:
            reins = of_chain_alone(reins) if chain else []
        return rest | (own | {"reins": reins} if key == strip_id else {})

    tracks = {k: t.model_copy(update=at_rest(k)) for k, t in document.tracks.items() if k in wanted}
    buses = {k: b.model_copy(update=at_rest(k)) for k, b in document.buses.items() if k in wanted}
    at_master = chain and strip_id == MASTER
    above = document.master.chain if at_master else []
    reins = of_chain_alone(document.master.reins) if at_master else []
    chains = [strip.chain for strip in (*tracks.values(), *buses.values())] + [above]
    used = {name for chain in chains for entry in chain for name in recordings(entry.settings).values()}
    return Document(
        impulses=dict.fromkeys(sorted(used), "x"), name="x", sample_rate=document.sample_rate,
        tempo_bpm=document.tempo_bpm,
        beats_per_bar=document.beats_per_bar, tracks=tracks, order=[k for k in document.order if k in wanted],
        buses=buses, bus_order=[k for k in document.bus_order if k in wanted], master=Master(chain=above, reins=reins),
    )  # fmt: skip


def _sent_alone(strip: Any, sends: list[Send]) -> dict[str, Any]:
    """Fader and sends of a strip that is heard by its sends alone: what they take after the fader, they take before one
    that is down, quieter by as much.
    """
    moved = [
        send if send.tap == "before" else send.model_copy(
            update={"tap": "before", "level_db": max(FADER_OFF_DB, min(12.0, send.level_db + strip.fader_db))}
        )
        for send in sends
    ]  # fmt: skip
    return {"fader_db": FADER_OFF_DB, "sends": moved}
