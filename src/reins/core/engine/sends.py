"""What a strip gives to buses besides the one it goes to; see strips."""

import copy

import numpy as np
import numpy.typing as npt

from reins.core.dsp.gliding import Ramp
from reins.core.sessions import Bus, Master, Track
from reins.core.twins import twin_of

Array = npt.NDArray[np.float64]


class Sends:
    """What a strip gives to buses besides; level, tap and switch go over as gains do, those of the two taps apart."""

    def __init__(self, strip: Track | Bus | Master, sample_rate: int) -> None:
        self._rate = sample_rate
        self._lay(strip, ())
        self._pans = Ramp((0.0, 0.0), sample_rate)

    def _lay(self, strip: Track | Bus | Master, sounds: tuple[bool, ...]) -> None:
        self.buses = [send.bus for send in getattr(strip, "sends", [])]
        self._gains = Ramp(self._wanted(strip, sounds or (True,) * len(self.buses)), self._rate)

    @staticmethod
    def _wanted(strip: Track | Bus | Master, sounds: tuple[bool, ...]) -> tuple[float, ...]:
        """Of each send the gain of what is taken before the fader, and after it."""
        sends = zip(getattr(strip, "sends", []), sounds, strict=True)
        levels = ((send.tap, send.gain if heard else 0.0) for send, heard in sends)
        return tuple(gain for tap, level in levels for gain in ((level, 0.0) if tap == "before" else (0.0, level)))

    def go(self, strip: Track | Bus | Master, pans: Array, sounds: tuple[bool, ...]) -> None:
        """Set out for the levels of a strip; pans (2,): of both sides without the fader; which of the sends sound."""
        if [send.bus for send in getattr(strip, "sends", [])] == self.buses:
            self._gains.go(self._wanted(strip, sounds))
        self._pans.go((float(pans[0]), float(pans[1])))

    def settle(self) -> None:
        """Have them in place at once."""
        self._gains.set(self._gains.goal)
        self._pans.set(self._pans.goal)

    def twin(self, strip: Track | Bus | Master, sounds: tuple[bool, ...]) -> "Sends":
        """One that goes on by itself, with the sends of a strip; new ones begin at their level."""
        twin = copy.copy(self)
        twin._gains, twin._pans = twin_of(self._gains), twin_of(self._pans)
        if [send.bus for send in getattr(strip, "sends", [])] != self.buses:
            twin._lay(strip, sounds)
        return twin

    def put(self, result: Array, dry: Array | None, placed: Array, moved_pans: Array | None) -> None:
        """Take in a block: the chain's result, dry (at the mix's time), and the gains (2, frames or 1) of fader and
        pan; moved_pans where a rein moves the pan.
        """
        levels, pans = self._gains.step(result.shape[1]), self._pans.step(result.shape[1])
        pans = pans if moved_pans is None else moved_pans
        self._sent = [
            tuple(
                None if sound is None else sound * (pans * levels[2 * k] + placed * levels[2 * k + 1])
                for sound in (result, dry)
            )
            for k in range(len(self.buses))
        ]

    def sent(self, bus: str, *, dry: bool = False) -> Array:
        """What a bus gets of the last block."""
        return self._sent[self.buses.index(bus)][dry]  # type: ignore[return-value]
