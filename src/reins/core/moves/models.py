"""The document of a rein: which settings it moves, how far, and by what."""

from collections.abc import Iterable
from typing import Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator

from reins.core.limits import MAX_ID
from reins.core.processors.sidechain import Key, names_of
from reins.core.settings import usual
from reins.core.settings.describing import number
from reins.core.settings.models import MisfitError, PartError, Strict
from reins.core.settings.points import Drawn, Point, checked_points

MOST_MOVES = 16
MOST_REINS = 64  # on one strip
MOST_BEAT_POINTS = 64
MOST_LINE_POINTS = 100_000
LONGEST_LINE_S = 100.0 * 3600.0
LEAST_SPAN_DB = 1.0
VALUES = 1e6  # a line's values lie within the limits of what it moves, which are looked at with the chain


class Move(Strict):
    """A setting that is moved, and where it arrives when what moves it is at 1; None for a line, which says it itself.

    what: PROCESSOR.SETTING, PROCESSOR by its id, in a chain file also its place counted from 0; or strip.fader_db,
    strip.pan_pct.
    """

    what: str = Field(max_length=120)
    to: float | None = None


class ByBeat(Strict):
    """A curve that repeats with the beat; beat 0 is the session's frame 0."""

    kind: Literal["beat"] = "beat"
    beats: float = number(
        1.0, 1 / 16, 64, label="Length", unit="beats", group="Beat", step=0.25, scale="log", moves=False,
        help="How many beats the curve lasts before it begins again.",
    )  # fmt: skip
    offset_beats: float = number(
        0.0, -64, 64, label="Offset", unit="beats", group="Beat", step=0.25, moves=False,
        help="How many beats later than the bar's first it begins.",
    )  # fmt: skip
    points: list[Drawn] = Field(
        default=[Point(0.0, 1.0, -0.4), Point(1.0, 0.0)], min_length=2, max_length=MOST_BEAT_POINTS
    )

    @field_validator("points")
    @classmethod
    def _over_the_beat(cls, points: list[Point]) -> list[Point]:
        checked_points(points, places=(0.0, 1.0), values=(0.0, 1.0))
        if points[0].at != 0.0 or points[-1].at != 1.0:
            raise PartError(
                f"they go from {points[0].at:g} to {points[-1].at:g}; allowed: the first at 0, the last at 1."
            )
        return points


class ByLine(Strict):
    """A line over the session: [seconds, value in the setting's own unit, bend]."""

    kind: Literal["line"] = "line"
    points: list[Drawn] = Field(min_length=1, max_length=MOST_LINE_POINTS)

    @field_validator("points")
    @classmethod
    def _over_the_session(cls, points: list[Point]) -> list[Point]:
        return checked_points(points, places=(0.0, LONGEST_LINE_S), values=(-VALUES, VALUES))


class ByKey(Strict):
    """How loud a key is, between floor_db and ceiling_db."""

    kind: Literal["key"] = "key"
    key: Key = Key()
    rms_pct: float = usual.share_pct(
        0.0, "0 catches peaks, 100 follows the average; between them a blend.", group="Detect", label="Average",
        moves=False,
    )  # fmt: skip
    rms_ms: float = number(
        10.0, 1, 300, label="Window", unit="ms", group="Detect", step=1, scale="log", moves=False,
        help="The span over which the average is taken.",
    )  # fmt: skip
    floor_db: float = number(
        -50.0, -100, 11, label="Floor", unit="dB", group="Level", step=0.5, scale="db", moves=False,
        help="At this level of the key and under it nothing moves, so that a constant background is ignored.",
    )  # fmt: skip
    ceiling_db: float = number(
        -20.0, -99, 12, label="Ceiling", unit="dB", group="Level", step=0.5, scale="db", moves=False,
        help="At this level of the key and over it the setting is all the way there.",
    )  # fmt: skip
    attack_ms: float = usual.attack_ms(5.0, "How fast it goes there.")
    hold_ms: float = usual.hold_ms(0.0, "How long it stays before the way back.", high=2000)
    release_ms: float = usual.release_ms(100.0, "How fast it comes back.")

    @model_validator(mode="after")
    def _floor_under_ceiling(self) -> "ByKey":
        if self.ceiling_db < self.floor_db + LEAST_SPAN_DB:
            raise MisfitError(
                "ceiling_db",
                self.ceiling_db,
                f"at least {LEAST_SPAN_DB:g} dB above floor_db, which is {self.floor_db:g}",
            )
        return self


KINDS: dict[str, Any] = {"beat": ByBeat, "line": ByLine, "key": ByKey}
By = Annotated[ByBeat | ByLine | ByKey, Field(discriminator="kind")]


class Rein(Strict):
    """One movement and the settings it moves together."""

    id: str = Field("", max_length=MAX_ID)
    on: bool = True
    moves: list[Move] = Field(min_length=1, max_length=MOST_MOVES)
    by: By

    @model_validator(mode="after")
    def _arrives(self) -> "Rein":
        if isinstance(self.by, ByLine):
            if len(self.moves) != 1:
                raise MisfitError(
                    "moves", f"{len(self.moves)} settings", "one: a line is drawn in a setting's own unit"
                )
            if self.moves[0].to is not None:
                raise MisfitError("moves.0.to", self.moves[0].to, "nothing: a line says itself where the setting goes")
        for place, move in enumerate(self.moves):
            if move.to is None and not isinstance(self.by, ByLine):
                raise MisfitError(f"moves.{place}.to", "missing", "the value that the setting goes to")
        return self


def outside_keys(reins: Iterable[Any]) -> tuple[str, ...]:
    """The names of the outside keys that reins which are on follow, each once."""
    by = (rein.by for rein in reins if rein.on)
    return tuple(dict.fromkeys(name for b in by if isinstance(b, ByKey) for name in names_of(b.key)))
