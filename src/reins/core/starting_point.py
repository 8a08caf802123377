"""A starting point: settings by source, with one sentence on what they do and why."""

from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class StartingPoint:
    """Named settings of a processor type; what is not named takes its default."""

    type: str
    source: str
    name: str
    sentence: str
    settings: dict[str, Any] = field(default_factory=dict)
