"""A processor at a multiple of the rate that, as some settings have it, only bends the waveform: each sample's own
level asks for its gain at once.

Then only what that adds is made at the raised rate, by the kernel of dsp.by_level, and comes to the sound, which never
goes there: nothing bent changes nothing, to the bit. With any other settings, or while a rein moves it, it runs as
processors.oversampling has it, as late; where one takes over from the other it first hears anew what came last.
"""

from typing import Any, ClassVar

from reins.core.dsp.by_level import Gain, LevelBender
from reins.core.processors.base import Array, Block, Delay, alone
from reins.core.processors.oversampling import Oversampled
from reins.core.processors.shaper import Recent


class Bending(Oversampled):
    """Stands where the processor would; its `gain_at_once` says which gain, where it is only that."""

    carried: ClassVar[tuple[str, ...]] = (*Oversampled.carried, "_bender", "_late", "_recent")

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, **more: Any) -> None:
        super().__init__(settings, channels=channels, sample_rate=sample_rate, **more)
        self._bender = LevelBender(channels, sample_rate, self._times)
        self._late = Delay(channels, self._latency)
        self._recent = Recent(channels)
        self._made_by = self._gain_at_once

    @property
    def _gain_at_once(self) -> Gain | None:
        found: Gain | None = vars(self._inner)["gain_at_once"]
        return found

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        bends = self._gain_at_once if block.moved is None else None
        late = self._late.process(block.sound)
        if bends is not self._made_by:
            self._made_by = bends
            self._hear_anew(bends)
        self._recent.add(block.sound)
        if bends is None:
            return super().process(block)
        self.gains_db, self.marks, self.key_heard = {"gain_db": bends.told_db(late)}, {}, late
        made = self._bender.process(block.sound, bends)
        made += late
        return made

    def _hear_anew(self, bends: Gain | None) -> None:
        """Have what takes over stand as if it had run before."""
        recent = self._recent.joined()
        if bends is None:
            super().process(alone(recent, self._rate))
        else:
            self._bender.process(recent, bends)

    def hears(self, band: str = "") -> tuple[Array, Array | None] | None:
        """What the detector heard, at the base rate."""
        if self._made_by is None or self.key_heard is None:
            return super().hears(band)
        return self.key_heard, None
