"""What the desk offers by itself, and the words it is told in."""

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Laid:
    """Settings by path; what was measured with them on this take; that in words; whether it is what was promised."""

    settings: dict[str, Any]
    figures: dict[str, Any]
    said: str
    reached: bool
    runs: int = 0


def counted(number: int, what: str) -> str:
    """So many of something, in words."""
    return f"{number or 'no'} {what}{'' if number == 1 else 's'}"


def in_db(value: float) -> str:
    """A figure in dB as it is written."""
    return f"{value:.1f} dB".replace("-0.0", "0.0").replace("-", "−")
