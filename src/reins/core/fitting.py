"""Settings that follow the level of a take: what a starting point says of levels, moved by how far a take lies from the
one it is written for.
"""

from typing import Any

from pydantic import BaseModel

from reins.core.processors import PROCESSORS
from reins.core.settings.fields import limits_of, nested, settings_fields
from reins.core.settings.paths import laid_over, value_at

FOLLOWS = ("threshold_db", "floor_db")
#: By source, what of a take the levels of its starting points are written for: the median of hit peaks, or the level of
#: what is active (finding.phrases), in dB.
ANCHORS: dict[str, tuple[str, float]] = {
    "kick": ("hits", -7.0), "snare": ("hits", -20.0), "drum bus": ("hits", -11.0), "room": ("hits", -11.0),
    "voice": ("active", -21.0), "speech": ("active", -28.0), "bass": ("active", -17.0),
    "acoustic guitar": ("active", -25.0), "electric guitar": ("active", -25.0), "harmonium": ("active", -28.0),
    "piano": ("active", -25.0), "whole mix": ("loudness", -18.0),
}  # fmt: skip


def laid_on_take(kind: str, settings: Any, by_db: float) -> Any:
    """Settings whose levels lie so much higher, within their limits. Those of another track's key, and those that are
    relative to the sound itself, stay.
    """
    if not by_db or _hears_another(settings):
        return settings
    changes: dict[str, Any] = {}
    for path, limits in _levels(settings):
        low, high = limits
        changes[path] = round(min(max(value_at(settings, path) + by_db, low), high), 1)
    changes |= settings.lying_higher(by_db)
    if PROCESSORS[kind].line_drives:  # a quieter take is driven as much more, and comes out as much quieter again
        changes |= _driven(settings, -by_db)
    return laid_over(settings, changes)


def _driven(settings: Any, by_db: float) -> dict[str, float]:
    """So much more drive into a threshold that stands, and as much less behind it."""
    driven: dict[str, float] = {}
    for path, sign in (("input_db", 1.0), ("output_db", -1.0)):
        low, high = limits_of(type(settings).model_fields[path])
        driven[path] = round(min(max(getattr(settings, path) + sign * by_db, low), high), 1)
    return driven


def laid_deeper(kind: str, settings: Any, by_db: float) -> Any:
    """Settings that reach so much further into the sound: thresholds of what acts on the loud lie lower, those of what
    acts on the quiet higher, within their limits; a threshold that stands is driven into. The same object where there
    is none.
    """
    changes: dict[str, Any] = {}
    for path, (low, high) in _levels(settings, all_of_them=True):
        place, _, name = path.rpartition(".")
        if name == "threshold_db":
            owner = value_at(settings, place) if place else settings
            up = by_db if getattr(owner, "acts_below", False) else -by_db
            changes[path] = round(min(max(value_at(settings, path) + up, low), high), 1)
    changes |= settings.lying_higher(-by_db)
    if PROCESSORS[kind].line_drives:
        changes |= _driven(settings, by_db)
    return laid_over(settings, changes) if changes else settings


def levels(settings: Any) -> list[str]:
    """Paths of the levels that lie on the sound itself, those of bands too."""
    return [] if _hears_another(settings) else [path for path, _ in _levels(settings)]


def _hears_another(settings: Any) -> bool:
    key = getattr(settings, "key", None)
    if getattr(settings, "reference", "fixed") != "fixed":
        return True
    return bool(getattr(settings, "relative", False)) or (key is not None and key.source not in ("self", "before"))


def _levels(settings: BaseModel, lead: str = "", *, all_of_them: bool = False) -> list[tuple[str, tuple[float, float]]]:
    """Paths of levels, with their limits, those of bands too; all_of_them: of those that hear another as well."""
    found: list[tuple[str, tuple[float, float]]] = []
    for path, field in settings_fields(type(settings)):
        if path.startswith("key."):
            continue
        if path.split(".")[-1] in FOLLOWS:
            found.append((lead + path, limits_of(field)))
        elif nested(field.annotation) is not None and isinstance(value_at(settings, path), list):
            for place, band in enumerate(value_at(settings, path)):
                if all_of_them or not (hasattr(band, "key") and _hears_another(band)):
                    found += _levels(band, f"{lead}{path}.{place}.", all_of_them=all_of_them)
    return found
