"""How a detector is listened to: what it hears, through its band's filter, delayed to the time of the mix."""

import numpy as np
import numpy.typing as npt

from reins.core.dsp.filters import run_sections
from reins.core.processors.base import Delay

Array = npt.NDArray[np.float64]


class Ear:
    """Filters and delays a stereo stream; new sections of the same number go on from the same state."""

    def __init__(self, late_frames: int, sections: Array | None) -> None:
        self._delay = Delay(2, late_frames)
        self._sections = sections
        self._state = np.zeros((0 if sections is None else len(sections), 2, 2))

    def fits(self, late_frames: int, sections: Array | None) -> bool:
        """Go on with these, where that is possible; else False."""
        if self._delay.frames != late_frames or (0 if sections is None else len(sections)) != len(self._state):
            return False
        self._sections = sections
        return True

    def process(self, heard: Array) -> Array:
        """What is heard of the next block (2, frames)."""
        if self._sections is not None:
            heard = heard.copy()
            run_sections(self._sections, self._state, heard)
        return self._delay.process(heard)
