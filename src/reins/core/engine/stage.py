"""A processor at work in a chain, with the delays of its keys; and what stands in for one that has failed."""

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry
from reins.core.dsp.gains import to_lin
from reins.core.processors.base import Block, Delay, Processor, Rows
from reins.core.processors.making import Make
from reins.core.processors.moving import in_rows
from reins.core.processors.oversampling import Oversampled
from reins.core.twins import twin_of

Array = npt.NDArray[np.float64]
IN_ROWS = "rows"  # of what a processor itself heard of


class PassedBy:
    """Stands where a processor has failed: the sound goes through as it is, as late as it would have been."""

    gains_db: ClassVar[dict[str, Array]] = {}
    marks: ClassVar[dict[str, Array]] = {}
    key_heard = None
    by_bin = None
    carried: ClassVar[tuple[str, ...]] = ("_delay",)

    def __init__(self, channels: int, channels_out: int, latency_frames: int) -> None:
        self.latency_frames, self._channels_out = latency_frames, channels_out
        self._delay = Delay(channels, latency_frames)

    def process(self, block: Block) -> Array:
        """The sound, delayed, on as many channels as it would have been."""
        late = self._delay.process(block.sound)
        return late if late.shape[0] == self._channels_out else np.repeat(late, self._channels_out, axis=0)

    def leaves_late(self, path: str) -> int:
        """As late as it would be."""
        return self.latency_frames

    def takes(self, rows: Rows) -> bool:
        """It heeds nothing."""
        return True

    def hears(self, band: str = "") -> None:
        """Nothing."""


@dataclass
class Stage:
    """A processor at work, the delays that line its outside keys up with it, by name, and the latency before it."""

    entry: ProcessorEntry
    make: Make
    processor: Processor | Oversampled | PassedBy
    keys: dict[str, Delay]
    latency_before: int
    channels: int  # that come in
    applied: Any = None  # what was applied last of settings that move by rows; see processors.moving

    def __post_init__(self) -> None:
        # Asked once, not with every block: what hangs on settings privately is found slowly.
        self._lays_gain_again = self.entry.settings.is_overdone and not self.make.kind.overdoes

    @property
    def place(self) -> tuple[object, ...]:
        """What another stage must be alike in to go on from this one's state."""
        return self.entry.id, self.entry.type, tuple(self.keys), self.make, self.channels

    def retuned(self, entry: ProcessorEntry) -> "Stage":
        """A stage that goes on from a copy of this one's state with an entry made alike."""
        processor = twin_of(self.processor)
        if self.goes_on_with(entry) and not isinstance(processor, PassedBy):
            processor.apply(entry.settings)
        keys = twin_of(self.keys) if self.keys else {}
        return Stage(entry, self.make, processor, keys, self.latency_before, self.channels)

    def goes_on_with(self, entry: ProcessorEntry) -> bool:
        """Whether the settings of an entry are others than those that a copy of the processor has."""
        return entry.settings is not self.entry.settings or self.applied is not None

    def process(self, block: Block) -> Array:
        """The result for the next block; its keys, which come as early as the chain's sound, are lined up with it."""
        keys = block.keys
        block.keys = {name: delay.process(keys[name]) for name, delay in self.keys.items() if name in keys}
        rows = None if block.moved is None else block.moved.rows
        if rows is None:
            made = self.processor.process(block)
        elif self.processor.takes(rows):
            self.applied = IN_ROWS
            made = self.processor.process(block)
        else:
            made, self.applied = in_rows(self.processor, self.entry.settings, block, rows, self.applied)
        if self._lays_gain_again:
            for gain_db in self.processor.gains_db.values():
                made = made * to_lin(gain_db)
        return made
