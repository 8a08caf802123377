"""How a setting is described, once: default, limits, label, unit, scale, step, group and one sentence of help.

Validation, errors, JSON schema, controls and docs all read it from the Pydantic field.
"""

from typing import Any, Literal

from pydantic import Field

MAX_RECORDING = 200  # characters of its name
Scale = Literal["linear", "log", "db"]
#: How a rein may move a setting (core.moves): by a grid of the session's frames; as a gain, sample by sample, where the
#: sound leaves; as one where it comes in; not at all, because latency or the number of something depends on it.
Moves = Literal["grid", "gain", "drive", False]


def number(
    default: float, low: float, high: float, *, label: str, unit: str, group: str, step: float, help: str,
    scale: Scale = "linear", moves: Moves = "grid", least: float | None = None, off_as: float | None = None,
    unless: str = "",
) -> Any:  # fmt: skip
    """A setting that is a number between low and high, both allowed. A log scale may start at 0 (drawn as off): then
    `least` is the least value above 0 that it moves to, and `off_as` what 0 counts as while it moves. `unless` names
    a setting that takes its place where it is chosen.
    """
    described: dict[str, Any] = {"label": label, "unit": unit, "group": group, "step": step, "scale": scale}
    described |= {"moves": moves} | ({} if least is None else {"least": least, "off_as": off_as or least})
    described |= {"unless": unless} if unless else {}
    return Field(default, ge=low, le=high, description=help, json_schema_extra={**described, "kind": "number"})


def choice(default: Any, *, label: str, group: str, help: str, words: dict[str, str] | None = None) -> Any:
    """A setting with a few named values (a Literal annotation) or on/off (bool); words are what the screen says."""
    extra: dict[str, Any] = {"label": label, "unit": "", "group": group, "words": words or {}, "kind": "choice"}
    return Field(default, description=help, json_schema_extra=extra)


def recording(*, label: str, group: str, none: str, help: str) -> Any:
    """A setting that names a recording of the session's by its id, in a chain file an audio file beside it; "" is none,
    which the screen calls `none`.
    """
    extra: dict[str, Any] = {"label": label, "unit": "", "group": group, "none": none, "kind": "recording"}
    return Field("", max_length=MAX_RECORDING, description=help, json_schema_extra=extra)


def listed(*, label: str, group: str, **more: Any) -> dict[str, Any]:
    """What the screen is told of a setting that is a list.

    Of numbers: low, high, unit, step, scale, each (the help of one of them), head (the word over them in a table). Of
    bands: `columns` of their table, heads by setting, and `keys`, those of a second one; `between`, the list of numbers
    that parts them, where there is one; `rows` of the table for settings outside the list: label, gain, and by column
    the setting it shows.
    """
    return {"label": label, "group": group, "unit": "", "kind": "list", **more}
