"""Another kind of compressor in a compressor's place: as deep, as quick and as loud as the kinds allow, so that one
hears the difference in kind and not in depth.

Depth: at REFERENCE_DB over the level from which the one acts, both hold alike. A kind with a threshold has that placed;
one that is driven into a fixed threshold has its drive, which its output takes back.
"""

from typing import Any

import numpy as np
from pydantic import BaseModel

from reins.core.chainfile import parse_settings
from reins.core.processors import PROCESSORS
from reins.core.settings.fields import limits_of
from reins.errors import SettingsError

KINDS = ("compressor", "fet", "optical", "variable_mu", "three_speed")
REFERENCE_DB = 10.0
SHARED = ("channels", "link_pct", "link_by", "apply_to", "lookahead_ms", "mix_pct", "operating_db", "key")
OF_CIRCUITS = ("hold_on", "colour_on")
#: How each kind calls what all but the optical one have, and by how much of a millisecond it counts there.
TIMES: dict[str, dict[str, tuple[str, float]]] = {
    "compressor": {"attack": ("attack_ms", 1.0), "release": ("release_ms", 1.0)},
    "fet": {"attack": ("attack_us", 1000.0), "release": ("release_ms", 1.0)},
    "variable_mu": {"attack": ("attack_ms", 1.0), "release": ("release_ms", 1.0)},
    "three_speed": {"attack": ("hits_attack_ms", 1.0), "release": ("hits_release_ms", 1.0)},
    "optical": {},
}
FIRM_FROM = 5.0  # the ratio from which an optical one is firm


def as_kind(kind: str, settings: Any, to: str) -> Any:
    """Settings of kind `to` that do what settings of `kind` do, as near as may be; SettingsError for other types."""
    for name in (kind, to):
        if name not in KINDS:
            raise SettingsError(f"“{name}” is no kind of compressor; allowed: {', '.join(KINDS)}.")
    given = vars(settings)
    made: dict[str, Any] = {name: given[name] for name in (*SHARED, *OF_CIRCUITS) if name in given}
    allowed = PROCESSORS[to].Settings.model_fields
    made = {name: value for name, value in made.items() if name in allowed}
    made |= _times(kind, given, to)
    ratio = _ratio(kind, given)
    if "ratio" in allowed:
        made["ratio"] = _within(to, "ratio", ratio)
    if to == "optical":
        made["firm"] = ratio > FIRM_FROM
    level_db = PROCESSORS[kind].acts_from_db(settings) + REFERENCE_DB
    placed = _placed(to, made, level_db, _held_db(kind, settings, level_db))
    louder_db = _out_db(kind, settings, level_db) - _out_db(to, PROCESSORS[to].Settings(**placed), level_db)
    placed["output_db"] = _within(to, "output_db", round(louder_db, 1))
    raw = {name: value.model_dump() if isinstance(value, BaseModel) else value for name, value in placed.items()}
    return parse_settings(to, raw, PROCESSORS[to].label)


def _times(kind: str, given: dict[str, Any], to: str) -> dict[str, float]:
    """The times both kinds have, as the one has them."""
    found = {}
    for which, (name, share) in TIMES[to].items():
        if which in TIMES[kind]:
            own, of = TIMES[kind][which]
            found[name] = _within(to, name, given[own] / of * share)
    return found


def _ratio(kind: str, given: dict[str, Any]) -> float:
    if kind == "optical":
        return 10.0 if given["firm"] else 3.0
    return float(given.get("ratio", 4.0))


def _within(kind: str, name: str, value: float) -> float:
    low, high = limits_of(PROCESSORS[kind].Settings.model_fields[name])
    return float(min(max(value, low), high))


def _held_db(kind: str, settings: Any, level_db: float) -> float:
    """What is held of a steady level, mixing and levels left out."""
    plain = {"mix_pct": 100.0, "makeup_db": 0.0, "output_db": 0.0}
    alone = settings.model_copy(update={name: value for name, value in plain.items() if hasattr(settings, name)})
    return _out_db(kind, alone, level_db) - level_db - getattr(settings, "input_db", 0.0)


def _out_db(kind: str, settings: Any, level_db: float) -> float:
    """What leaves of a steady level."""
    return float(PROCESSORS[kind].curve_db(settings, np.array([level_db]))[0])


def _placed(to: str, made: dict[str, Any], level_db: float, held_db: float) -> dict[str, Any]:
    """The settings with threshold, or drive, where a level is held as wanted: by halving, as more is deeper."""
    name, deeper = ("input_db", 1.0) if PROCESSORS[to].line_drives else ("threshold_db", -1.0)
    low, high = limits_of(PROCESSORS[to].Settings.model_fields[name])
    for _ in range(12):
        middle = 0.5 * (low + high)
        tried = PROCESSORS[to].Settings.model_validate(made | {name: middle})
        too_deep = _held_db(to, tried, level_db) < held_db
        low, high = (low, middle) if too_deep == (deeper > 0) else (middle, high)
    return made | {name: round(0.5 * (low + high), 1)}
