"""Dotted names of settings: "threshold_db", "key.gain_db", "bands.2.freq_hz", "crossovers_hz.0"."""

from typing import Any

from pydantic import BaseModel


def value_at(settings: Any, path: str) -> Any:
    """The value a path leads to; LookupError where there is none."""
    for part in path.split("."):
        if isinstance(settings, BaseModel):
            settings = vars(settings)
        settings = settings[int(part)] if isinstance(settings, list) else settings[part]
    return settings


def laid_over(settings: Any, values: dict[str, Any]) -> Any:
    """Settings with values laid over them by path, unchecked; what does not change stays the same object."""
    if not values:
        return settings
    heads: dict[str, dict[str, Any]] = {}
    for path, value in values.items():
        head, _, rest = path.partition(".")
        heads.setdefault(head, {})[rest] = value
    if isinstance(settings, list):
        laid = settings.copy()
        for head, inner in heads.items():
            laid[int(head)] = inner[""] if "" in inner else laid_over(settings[int(head)], inner)
        return laid
    own = vars(settings)
    update = {head: inner[""] if "" in inner else laid_over(own[head], inner) for head, inner in heads.items()}
    return settings.model_copy(update=update)


def overlaid(settings: BaseModel, changes: dict[str, Any]) -> dict[str, Any]:
    """The fields of settings with values laid over them by path; LookupError, naming the path, where one leads nowhere.

    What does not change stays the same object as it was, so that it need not be read again.
    """
    merged = vars(settings).copy()
    for path, value in changes.items():
        *parents, last = path.split(".")
        place: Any = merged
        for part in parents:
            place = _opened(place, part)
        if isinstance(place, list) and last.isdecimal() and int(last) < len(place):
            place[int(last)] = value
        elif isinstance(place, dict):
            place[last] = value
        else:
            raise LookupError(path)
    return merged


def _opened(place: Any, part: str) -> Any:
    """What a name, or a number in a list, leads to, opened so that it can be changed; None where that is nothing."""
    if isinstance(place, list):
        at: Any = int(part) if part.isdecimal() and int(part) < len(place) else None
    else:
        at = part if isinstance(place, dict) and part in place else None
    if at is None:
        return None
    found = place[at]
    if isinstance(found, (BaseModel, list)):
        place[at] = found.copy() if isinstance(found, list) else vars(found).copy()
    return place[at]
