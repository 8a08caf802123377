"""A starting point: settings by source, with one sentence on what they do and why, and what that does to a take."""

from dataclasses import dataclass, field
from typing import Any, Literal

Range = tuple[float, float]

#: What lays a starting point on a take: its levels, in place of these one setting by its path, or beside them its
#: steady tones, what sounds in its pauses, its hits, its loudest low note.
Lays = str | Literal["levels", "tones", "pauses", "hits", "note"]


@dataclass(frozen=True)
class Promise:
    """What a starting point is to do to the take it is laid on, in dB and percent of the time; what is None, or empty,
    is not promised. What moves is measured as the desk tells it, each band by itself; lifts count as holds do.

    usual_db: while it moves, of all gains or of each in order; deepest_db, held_pct: at most; first_db: what the first
    five milliseconds of hits lose at most; sounds_db: what phrases lose at most; rests_db: what lies between phrases,
    or hits, is lower by at least; hits_pct: so many hits pass at least; tones_db: steady tones are lower by at least.
    """

    usual_db: tuple[Range, ...] = ()
    deepest_db: float | None = None
    held_pct: float | None = None
    first_db: float | None = None
    sounds_db: float | None = None
    rests_db: float | None = None
    hits_pct: float | None = None
    tones_db: float | None = None
    lays: Lays = "levels"


@dataclass(frozen=True)
class StartingPoint:
    """Named settings of a processor type; what is not named takes its default."""

    type: str
    source: str
    name: str
    sentence: str
    settings: dict[str, Any] = field(default_factory=dict)
    promise: Promise | None = None
