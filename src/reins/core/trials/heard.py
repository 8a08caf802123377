"""A take, or some of it, as it comes to a processor, and what the processor makes of it, all at hand to be measured."""

import math
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import pairwise
from typing import Any, get_args

import numpy as np
import numpy.typing as npt

from reins.core.finding.excerpt import Excerpt
from reins.core.finding.marks import Marks
from reins.core.measure.levels import RUN_FRAMES
from reins.core.measure.span import SOUNDS_DB
from reins.core.sound import Sound
from reins.core.trials.laying import as_it_comes
from reins.core.trials.running import Trial

Array = npt.NDArray[np.float64]
WHOLE_S, PART_S, LOUDEST, SPREAD = 10.0, 2.0, 2, 3  # what is heard of a take that is longer
SILENT_POWER = 1e-11
AFTER_S, BEFORE_S = 0.15, 0.05  # a pause begins so long after a phrase, and ends so long before the next
NEXT_S, LATE = 0.25, 0.6  # between hits that far apart, from that part of the way on


def parts_to_hear(sound: Sound, whole_s: float = WHOLE_S) -> Excerpt:
    """All of a sound that is no longer; of another its loudest parts and some of all others that sound."""
    rate, frames = sound.facts.sample_rate, sound.facts.frames
    if frames <= whole_s * rate:
        return Excerpt(sound, [(0, frames)])
    part = round(PART_S * rate)
    count = frames // part
    peaks = sound.peak_columns(0, count * part, count)
    sounding = np.flatnonzero(peaks > peaks.max(initial=0.0) * 10.0 ** (-SOUNDS_DB / 20.0))
    loudest = np.argsort(peaks)[-LOUDEST:].tolist()
    others = [int(place) for place in sounding if place not in loudest]
    spread = [others[int(k)] for k in np.linspace(0, len(others) - 1, SPREAD)] if others else []
    return Excerpt(sound, [(place * part, (place + 1) * part) for place in sorted({*loudest, *spread})])


@dataclass
class Done:
    """What a processor did: its gains in dB by name, what came out."""

    gains: dict[str, Array]
    made: Array

    def moved(self) -> Array:
        """Of all gains the one that is furthest from none."""
        rows = np.stack([*self.gains.values()])
        return np.asarray(np.take_along_axis(rows, np.abs(rows).argmax(axis=0)[None], axis=0)[0])


@dataclass
class HeardTake:
    """What is heard of a take, and what was found in it."""

    trial: Trial  # the processor alone
    in_parts: bool  # not all of the take

    @classmethod
    def of(cls, trial: Trial, whole_s: float = WHOLE_S) -> "HeardTake":
        """What comes to the last processor of a trial: all of what is no longer, else some of it (parts_to_hear)."""
        heard = as_it_comes(trial, lambda sound: parts_to_hear(sound, whole_s))
        return cls(heard, heard.sound.facts.frames < trial.sound.facts.frames)

    def __post_init__(self) -> None:
        self.rate = self.trial.sound.facts.sample_rate
        self.came = self.trial.sound.read(0, self.trial.sound.facts.frames)

    @cached_property
    def marks(self) -> Marks:
        """What is found in it."""
        return Marks.of(self.trial.sound)

    @property
    def silent(self) -> bool:
        """Whether there is nothing to lay it by."""
        return float(np.abs(self.came).max(initial=0.0)) < 1e-4

    def run(self, settings: Any, *, roughly: bool = False) -> Done:
        """What the processor does with settings; roughly: at the take's own rate."""
        entry = self.trial.entries[-1]
        now = at_own_rate(settings) if roughly else settings
        trial = replace(self.trial, entries=[entry.model_copy(update={"on": True, "settings": now})])
        chain = trial.chain()
        made, rows, names = [], list[list[Array]](), list[str]()
        for block, told in trial.run(0, self.came.shape[1], block_frames=RUN_FRAMES, chain=chain):
            names = names or [name for _, moving, _ in chain.gains() for name in moving]
            made.append(block.copy())
            rows.append([row.copy() for row in told])
        joined = [np.concatenate(parts) for parts in zip(*rows, strict=True)]
        gains = {name: row for name, row in zip(names, joined, strict=True) if name.endswith("gain_db")}
        return Done(gains, np.concatenate(made, axis=1))

    def power(self, sound: Array, spans: list[tuple[float, float]]) -> float:
        """The power of a sound within spans of seconds."""
        places = [(max(round(a * self.rate), 0), round(b * self.rate)) for a, b in spans]
        frames = sum(max(min(b, sound.shape[1]) - a, 0) for a, b in places)
        return sum(float(np.sum(sound[:, a:b] ** 2)) for a, b in places) / max(frames * sound.shape[0], 1)

    def lost_db(self, made: Array, spans: list[tuple[float, float]]) -> float:
        """How much less of it there is within spans, in dB."""
        return 10.0 * math.log10(max(self.power(self.came, spans), 1e-15) / max(self.power(made, spans), 1e-15))

    def pauses(self) -> list[tuple[float, float]]:
        """What lies between phrases; nothing where that is silent."""
        end_s = self.came.shape[1] / self.rate
        edges = [0.0, *(edge for span in self.marks.phrases for edge in span), end_s]
        spans = [(a + AFTER_S if a else 0.0, b - BEFORE_S) for a, b in zip(edges[::2], edges[1::2], strict=True)]
        found = [(a, b) for a, b in spans if b > a]
        return found if self.power(self.came, found) > SILENT_POWER else []

    def between_hits(self) -> list[tuple[float, float]]:
        """The end of what lies between hits that are far enough apart."""
        apart = [(a.at_s, b.at_s) for a, b in pairwise(self.marks.hits) if b.at_s - a.at_s >= NEXT_S]
        return [(a + LATE * (b - a), b - 0.02) for a, b in apart]


def at_own_rate(settings: Any) -> Any:
    """Settings without oversampling, where that can be left out."""
    raised = type(settings).model_fields.get("oversampling")
    if raised is None or "off" not in get_args(raised.annotation):
        return settings
    return settings.model_copy(update={"oversampling": "off"})
