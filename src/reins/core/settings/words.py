"""How values are said, on the page (static/js/values.js) and in the history alike: "−18.0 dB", "2.50 kHz", "off"."""

from collections.abc import Mapping
from typing import Any

DIGITS = {"dB": 1, "%": 0, "Hz": 0, ":1": 2, "µs": 0, "bpm": 0, "beats": 0}


def said(value: Any, field: Mapping[str, Any]) -> str:
    """A value as a person reads it; field is its description, with unit and words."""
    words = field.get("words", {})
    name = str(value).lower() if isinstance(value, bool) else value
    if isinstance(name, str):
        on_off = {"true": "on", "false": "off"} if isinstance(value, bool) else {}
        return str(words.get(name) or on_off.get(name) or name.replace("_", " "))
    return _number(value, field.get("unit", ""))


def _number(value: float, unit: str) -> str:
    if unit == "Hz" and value == 0.0:
        return "off"
    if unit == "Hz" and value >= 1000.0:
        return f"{value / 1000.0:.{1 if value >= 10000.0 else 2}f} kHz"
    if unit == "ms" and value >= 1000.0:
        return f"{value / 1000.0:.2f} s"
    digits = DIGITS.get(unit, (1 if value < 100.0 else 0) if unit == "ms" else 2)
    figure = f"{value:.{digits}f}"
    if not figure.strip("-0."):
        figure = figure.lstrip("-")
    return f"{figure} {': 1' if unit == ':1' else unit}".replace("-", "−").strip()
