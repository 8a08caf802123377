"""How a setting is described, once: default, limits, label, unit, scale, step, group and one sentence of help.

Validation, errors, JSON schema, controls and docs all read it from the Pydantic field.
"""

from typing import Any, Literal

from pydantic import Field

Scale = Literal["linear", "log", "db"]


def number(
    default: float, low: float, high: float, *, label: str, unit: str, group: str, step: float, help: str,
    scale: Scale = "linear",
) -> Any:  # fmt: skip
    """A setting that is a number between low and high, both allowed. A log scale may start at 0 (drawn as off)."""
    described: dict[str, Any] = {"label": label, "unit": unit, "group": group, "step": step, "scale": scale}
    return Field(default, ge=low, le=high, description=help, json_schema_extra={**described, "kind": "number"})


def choice(default: Any, *, label: str, group: str, help: str, words: dict[str, str] | None = None) -> Any:
    """A setting with a few named values (a Literal annotation) or on/off (bool); words are what the screen says."""
    extra: dict[str, Any] = {"label": label, "unit": "", "group": group, "words": words or {}, "kind": "choice"}
    return Field(default, description=help, json_schema_extra=extra)


def listed(*, label: str, group: str, **more: Any) -> dict[str, Any]:
    """What the screen is told of a setting that is a list.

    Of numbers: low, high, unit, step, scale, each (the help of one of them), head (the word over them in a table). Of
    bands: `columns` of their table, heads by setting, and `keys`, those of a second one; `between`, the list of numbers
    that parts them, where there is one; `rows` of the table for settings outside the list: label, gain, and by column
    the setting it shows.
    """
    return {"label": label, "group": group, "unit": "", "kind": "list", **more}
