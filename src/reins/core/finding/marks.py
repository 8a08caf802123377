"""All that is found in a take, together, as it is shown on it and corrected by hand."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

from reins.core.finding.frames import Frames, frames_of
from reins.core.finding.hits import Hit, find_hits
from reins.core.finding.phrases import Activity, active_level, find_phrases
from reins.core.finding.sibilants import find_sibilants
from reins.core.finding.tempo import Tempo, find_tempo
from reins.core.sound import Sound

Spans = list[tuple[float, float]]


@dataclass
class Marks:
    """What is found in a sound, each when it is first asked for."""

    sound: Sound
    frames: Frames

    @classmethod
    def of(cls, sound: Sound, check: Callable[[], None] = lambda: None) -> "Marks":
        """Those of a sound; `check` may raise to stop."""
        return cls(sound, frames_of(sound, check))

    @cached_property
    def _onsets(self) -> tuple[list[Hit], list[Hit]]:
        return find_hits(self.sound, self.frames)

    @property
    def hits(self) -> list[Hit]:
        """What is struck in it."""
        return self._onsets[0]

    @property
    def others(self) -> list[Hit]:
        """What else begins in it, of neighbours."""
        return self._onsets[1]

    @cached_property
    def phrases(self) -> Spans:
        """Where it is not silent, in seconds."""
        return find_phrases(self.frames)

    @cached_property
    def sibilants(self) -> Spans:
        """Where it hisses, in seconds."""
        return find_sibilants(self.frames)

    @cached_property
    def tempo(self) -> Tempo | None:
        """How it repeats."""
        return find_tempo(self.frames)

    @cached_property
    def active(self) -> Activity:
        """How loud it is while it is active."""
        return active_level(self.sound)
