"""Where the sound of a session goes: through buses to the master, and by ties from keys to what they hold."""

from collections.abc import Iterable

from reins.core.chainfile import ProcessorEntry
from reins.core.moves.models import ByKey, outside_keys
from reins.core.processors.base import ProcessorSettings
from reins.core.processors.sidechain import keys_of, names_of
from reins.core.remembering import BySettings
from reins.core.sessions import MASTER, Bus, Document, Master, Send, Track
from reins.core.struck import MOST_AHEAD_MS
from reins.errors import ConflictError, SettingsError

TAPS = ("before", "after", "fader")  # where a key is taken: before the chain, after it, after fader and pan
SIDES = ("", "left", "right")
BEFORE = "before"  # a strip's own sound before its chain, which the chain has at hand
HITS = "hits"  # a take's map of hits instead of its sound; with ":20", 20 ms ahead; without a strip, one's own
_names: BySettings[tuple[str, ...]] = BySettings()  # asked of every processor with every block and drag


def destination(document: Document, strip_id: str) -> str:
    """The strip that a track or bus goes to; SettingsError when its bus is not there."""
    strip = document.strip(strip_id)
    bus = getattr(strip, "bus", "")
    if bus and bus not in document.buses:
        there = ", ".join(document.buses) or "none"
        raise SettingsError(
            f"{strip.name}: bus is “{bus}”; allowed: empty for the master, or one of the buses: {there}."
        )
    return bus or MASTER


def sends_of(document: Document, strip_id: str) -> list[Send]:
    """The sends of a track or bus, those that are off too; SettingsError when a bus is not there."""
    strip = document.strip(strip_id)
    sends: list[Send] = getattr(strip, "sends", [])
    for send in sends:
        if send.bus not in document.buses:
            there = ", ".join(document.buses) or "none"
            raise SettingsError(f"{strip.name}: a send's bus is “{send.bus}”; allowed: one of the buses: {there}.")
    return sends


def goals(document: Document, strip_id: str) -> list[str]:
    """All strips that a track or bus goes to: first where it goes whole, then by its sends."""
    return [destination(document, strip_id), *(send.bus for send in sends_of(document, strip_id))]


def strip_ids(document: Document) -> list[str]:
    """Tracks and buses in the order they are shown, the master last."""
    return [*document.order, *document.bus_order, MASTER]


def parse_tie(document: Document, name: str) -> tuple[str, str, str]:
    """(strip, tap, side) of a key's name, which reads "ID/before" or "ID/after" its chain or "ID/fader", with ":left"
    or ":right" for one side alone; or "ID/hits" of a track, where the side is how many ms ahead. SettingsError when it
    does not.
    """
    strip_id, _, taken = name.rpartition("/")
    tap, _, side = taken.partition(":")
    if tap == HITS:
        return strip_id, tap, _ahead(document, name, strip_id, side)
    known = strip_id in document.tracks or strip_id in document.buses
    if tap not in TAPS or side not in SIDES or not known or taken.endswith(":"):
        raise SettingsError(
            f"key.source is “{name}”; allowed: self, before (its own sound before the chain), or the id of a track or "
            "bus with /before or /after its chain or /fader, and :left or :right for one side; hits, its own, or the "
            "id of a track with /hits, and :1 to :50 for as many ms ahead."
        )
    return strip_id, tap, side


def _ahead(document: Document, name: str, strip_id: str, said: str) -> str:
    ahead_of(name)
    if strip_id not in document.tracks:
        raise SettingsError(
            f"key.source is “{name}”; allowed: the hits of a track, which are known beforehand; those of a bus or the "
            "master are not."
        )
    return said


def ahead_of(name: str) -> float:
    """How many ms before the hits a key's name wants to follow them; SettingsError where that is no number of them."""
    try:
        ahead_ms = float(name.rpartition("/")[2].partition(":")[2] or "0")
    except ValueError:
        ahead_ms = -1.0
    if not 0.0 <= ahead_ms <= MOST_AHEAD_MS:
        raise SettingsError(f"key.source is “{name}”; allowed behind the colon: 0 to {MOST_AHEAD_MS:g} ms ahead.")
    return ahead_ms


def is_hits(name: str) -> bool:
    """Whether a key's name means a map of hits."""
    return name.rpartition("/")[2].partition(":")[0] == HITS


def taken_from(name: str) -> str:
    """The strip, or file, that a map of hits is of; empty for one's own."""
    return name.rpartition("/")[0]


def at_home(name: str) -> str:
    """A key's name on the strip it came from: its own sound, or its own hits."""
    return name.rpartition("/")[2] if is_hits(name) else "self"


def of_strip(name: str, strip_id: str) -> str:
    """A key's name with its strip, where it is that strip's own hits."""
    return f"{strip_id}/{name}" if name.partition(":")[0] == HITS else name


def key_source(entry: ProcessorEntry) -> str:
    """The name of the key a processor as a whole listens to, "self" where it has none."""
    return next((key.source for path, key in keys_of(entry.settings) if path == "key"), "self")


def key_names(entry: ProcessorEntry) -> tuple[str, ...]:
    """The names of all outside keys a processor and its bands listen to, each once."""
    return _names.get(entry.settings, None, lambda: _outside(entry.settings))


def _outside(settings: ProcessorSettings) -> tuple[str, ...]:
    return tuple(dict.fromkeys(name for _, key in keys_of(settings) for name in names_of(key)))


def describe_tie(document: Document, name: str) -> str:
    """A key as a person says it: "Kick, after its chain"."""
    if name in ("self", BEFORE):
        return "itself" if name == "self" else "itself before the chain"
    own = name.partition(":")[0] == HITS
    if own or is_hits(name):
        ahead = name.partition(":")[2]
        whose = "its own hits" if own else f"the hits of {document.strip(parse_tie(document, name)[0]).name}"
        return whose + (f", {ahead} ms ahead" if float(ahead or 0) else "")
    strip_id, tap, side = parse_tie(document, name)
    where = {"before": "before its chain", "after": "after its chain", "fader": "after its fader"}[tap]
    return f"{document.strip(strip_id).name}, {where}" + (f", {side}" if side else "")


def ties(document: Document, strip_id: str) -> list[tuple[str, str, str, str]]:
    """(name, strip, tap, side) of every outside key that the chain of a strip and its reins listen to, each once."""
    return [(name, *parse_tie(document, of_strip(name, strip_id))) for name in strip_keys(document.strip(strip_id))]


def strip_keys(strip: Track | Bus | Master) -> tuple[str, ...]:
    """The names of all keys from other strips that a strip's chain and its reins listen to, each once."""
    names = [name for entry in strip.chain if entry.on for name in key_names(entry)]
    return tuple(name for name in dict.fromkeys([*names, *outside_keys(strip.reins)]) if name != BEFORE)


def all_names(document: Document) -> set[str]:
    """The names of all keys that any strip listens to, in any draft, on or off."""
    names: set[str] = set()
    for strip_id in strip_ids(document):
        strip = document.strip(strip_id)
        for part in (strip, *strip.drafts.values()):
            names |= {name for entry in part.chain for name in key_names(entry)}
            names |= {name for rein in part.reins if isinstance(rein.by, ByKey) for name in names_of(rein.by.key)}
    return names


def in_order(document: Document) -> list[str]:
    """Every strip after all those it needs; ConflictError with the names along the way when that is a circle."""
    needs: dict[str, list[str]] = {strip_id: [] for strip_id in strip_ids(document)}
    for strip_id in needs:
        for goal in goals(document, strip_id) if strip_id != MASTER else ():
            needs[goal].append(strip_id)
    for strip_id in needs:
        needs[strip_id] += [key for _, key, tap, _ in ties(document, strip_id) if tap != HITS]
    done: dict[str, None] = {}
    for strip_id in needs:
        _visit(document, strip_id, needs, done, ())
    return list(done)


def _visit(
    document: Document, strip_id: str, needs: dict[str, list[str]], done: dict[str, None], path: tuple[str, ...]
) -> None:
    if strip_id in done:
        return
    if strip_id in path:
        raise ConflictError(_circle(document, path[path.index(strip_id) :]))
    for needed in needs[strip_id]:
        _visit(document, needed, needs, done, (*path, strip_id))
    done[strip_id] = None


def _circle(document: Document, members: Iterable[str]) -> str:
    names = [document.strip(member).name for member in members]
    return f"That would close a circle: {' ← '.join([*names, names[0]])}. Each would wait for the other; not changed."
