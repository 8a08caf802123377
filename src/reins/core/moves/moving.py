"""The reins of a chain at work: what every moved setting is, over the frames of a block.

A processor is given gains by the frame, all else by a grid of the session's own frames (dsp.drawing.GRID apart): where
it stands at the begin of each row and where at its end. Curves are known ahead; a key is not, so what it moves by the
grid comes one row late. So neither block size nor the place of a start makes a difference.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel

from reins.core.dsp.drawing import GRID
from reins.core.moves.curves import Curve, by_beat, by_line
from reins.core.moves.following import Follower
from reins.core.moves.models import ByBeat, ByKey, ByLine, Rein
from reins.core.moves.rules import STRIP, found, ways_at
from reins.core.moves.scales import Way
from reins.core.processors.base import Counts, Moved, Rows
from reins.core.settings.paths import value_at
from reins.core.time import When

Array = npt.NDArray[np.float64]


@dataclass
class Target:
    """A setting that moves: where it rests on its scale, and what takes it how far from there."""

    path: str
    way: Way
    rest: float
    curves: list[tuple[Curve, float]] = field(default_factory=list)
    keys: list[tuple[str, float]] = field(default_factory=list)  # ids of reins
    #: The last two values a key had on the grid; kept when the chain is changed.
    trail: Array = field(default_factory=lambda: np.full(2, np.nan))
    free: bool = False  # whether it cannot leave its limits: what moves it alone stays between two values within them
    what: str = ""  # as the reins name it

    def over(self, when: When, followers: Mapping[str, Follower], late: int) -> Array:
        """Its value at each frame of a block; `late` is how long after the chain's source the sound there comes."""
        places = when.stream.read(lambda at, frames: self._drawn(when, at, frames), when.first, when.frames)[0]
        for rein_id, far in self.keys:
            places = places + far * followers[rein_id].late(late)
        return places if self.free else self.way.value(places)

    def _drawn(self, when: When, at: int, frames: int) -> Array:
        before = at % GRID
        places = np.full(before + frames, self.rest)
        self._add(places, at - before, when)
        return places[None, before:]

    def _add(self, places: Array, first: int, when: When) -> None:
        for curve, far in self.curves:
            curve.add(places, first, far, sample_rate=when.sample_rate, beat=when.beat)

    def on_grid(self, when: When, rows: Rows, followers: Mapping[str, Follower], late: int) -> tuple[Array, Array]:
        """Its value where each row begins and where it ends."""
        begin, end = [], []
        for at, frames in when.spans():
            first = at - at % GRID
            count = -(-(at + frames - first) // GRID)
            places = np.full(count * GRID + 1, self.rest)
            if self.curves:
                self._add(places, first, when)
            begin.append(places[:-1:GRID])
            end.append(places[GRID::GRID])
        at_begin, at_end = (ends[0] if len(ends) == 1 else np.concatenate(ends) for ends in (begin, end))
        if self.keys:
            moved = sum(far * followers[rein_id].late(late) for rein_id, far in self.keys)
            passed = self._pass(np.asarray(moved), rows)
            at_begin, at_end = at_begin + passed[:-1], at_end + passed[1:]
        return (at_begin, at_end) if self.free else (self.way.value(at_begin), self.way.value(at_end))

    def _pass(self, moved: Array, rows: Rows) -> Array:
        """What a key gives where each row begins, and where the last one ends: each value comes one row late."""
        if np.isnan(self.trail[0]):
            self.trail[:] = moved[0]
        from_grid = rows.into[0] == 0
        fresh = moved[rows.begins[0 if from_grid else 1 :]]
        passed = np.concatenate([self.trail[1:] if from_grid else self.trail, fresh])
        self.trail[:] = passed[-2:]
        return passed


def rows_of(when: When) -> Rows:
    """Where the rows of a block begin: at the session's multiples of GRID, and where a loop has jumped."""
    spans = when.spans()
    if len(spans) == 1:
        return Rows(*_grid(spans[0][0] % GRID, spans[0][1]), GRID)
    begins, into, done = [], [], 0
    for at, frames in spans:
        first, behind = _grid(at % GRID, frames)
        begins.append(done + first)
        into.append(behind)
        done += frames
    return Rows(np.concatenate(begins), np.concatenate(into), GRID)


@lru_cache(64)
def _grid(at: int, frames: int) -> tuple[Counts, Counts]:
    """Where rows begin in so many frames that begin `at` frames into one, and how far into its row each begin lies."""
    first = np.concatenate([[0], np.arange(GRID - at, frames, GRID)])
    return first, (at + first) % GRID


class Mover:
    """The reins of one chain; `process` of the chain asks it for what moves in each of its processors."""

    def __init__(
        self, entries: Sequence[Any], reins: Sequence[Rein], strip: BaseModel | None, *, channels: int,
        sample_rate: int, key_channels: Mapping[str, int], known: "Mover | None" = None,
    ) -> None:  # fmt: skip
        self.reins = [rein for rein in reins if rein.on]
        self.now: dict[str, float] = {}  # what each moved setting was when the block ended
        self._followers: dict[str, Follower] = {}
        for place, rein in enumerate(self.reins):
            if isinstance(rein.by, ByKey):
                name = rein.id or str(place)
                made = Follower(rein.by, channels=channels, sample_rate=sample_rate, key_channels=key_channels)
                own = known._followers.get(name) if known else None
                self._followers[name] = own.twin(rein.by) if own is not None and own.names == made.names else made
        #: By place in the chain, STRIP for the strip itself, and path.
        self._targets: dict[int, dict[str, Target]] = {}
        for place, rein in enumerate(self.reins):
            for move in rein.moves:
                self._aim(rein, rein.id or str(place), move, entries, strip)
        for where, targets in self._targets.items():
            for path, target in targets.items():
                old = known._targets.get(where, {}).get(path) if known else None
                if old is not None:
                    target.trail = old.trail.copy()
        for targets in self._targets.values():
            for target in targets.values():
                target.free = not target.way.log and len(target.curves) + len(target.keys) == 1
        self._settings = {place: entries[place].settings for place in self._targets if place != STRIP}

    def _aim(self, rein: Rein, name: str, move: Any, entries: Sequence[Any], strip: BaseModel | None) -> None:
        try:
            place, path = found(move.what, entries)
            way = ways_at(place, entries, strip)[path]
        except LookupError:  # a chain that is cut short, to look at a part of it
            return
        settings = strip if place == STRIP else entries[place].settings
        rest = float(way.place(value_at(settings, path)))
        target = self._targets.setdefault(place, {}).setdefault(path, Target(path, way, rest, what=move.what))
        if isinstance(rein.by, ByLine):
            target.curves.append((by_line(rein.by, way, rest), 1.0))
            return
        far = float(way.place(min(max(move.to, way.lowest), way.high))) - rest
        if isinstance(rein.by, ByBeat):
            target.curves.append((by_beat(rein.by), far))
        else:
            target.keys.append((name, far))

    def follow(self, sound: Array, keys: Mapping[str, Array]) -> None:
        """Hear the next block of the chain's sound and keys, as they come to the chain."""
        for follower in self._followers.values():
            follower.hear(sound, keys)

    def moves(self, place: int) -> bool:
        """Whether a processor at a place, or the strip at STRIP, has what moves."""
        return place in self._targets

    def moved(self, place: int, when: When, late: int, leaves_late: Callable[[str], int]) -> Moved:
        """What moves in a processor over a block that comes `late` frames after the chain's source; a gain, by the path
        of its setting, acts on it so much later still; when: the place of what comes.
        """
        targets = self._targets[place]
        moved = Moved()
        for path, target in targets.items():
            if target.way.moves in ("gain", "drive"):
                latency = leaves_late(path)
                moved.gains[path] = target.over(when.later(-latency), self._followers, late + latency)
                self.now[target.what] = float(moved.gains[path][-1])
                if target.way.moves == "drive":
                    moved.drives[path] = target.over(when, self._followers, late) if latency else moved.gains[path]
        grid = [target for target in targets.values() if target.way.moves == "grid"]
        if grid:
            moved.rows = rows = rows_of(when)
            for target in grid:
                rows.at[target.path], rows.to[target.path] = target.on_grid(when, rows, self._followers, late)
                self.now[target.what] = float(rows.to[target.path][-1])
            bound = getattr(self._settings[place], "bound", None)
            if bound is not None:
                bound(rows.at)
                bound(rows.to)
        return moved

    def strip(self, when: When, late: int) -> dict[str, Array]:
        """By name what moves fader and pan over a block of the chain's result, `late` frames after its source."""
        targets = self._targets.get(STRIP, {})
        moved = {path: target.over(when, self._followers, late) for path, target in targets.items()}
        self.now |= {targets[path].what: float(values[-1]) for path, values in moved.items()}
        return moved
