"""What a processor that works on spectra held or let over time and frequency, folded once while it runs, to be looked
at as the map is: a byte for each column and row, in half dB.
"""

from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.measure.folding import fold_bins
from reins.core.measure.spectra import MAP_HZ, MAP_PER_OCTAVE

Array = npt.NDArray[np.float64]
Codes = npt.NDArray[np.int8]
LEAST_FRAMES = 512  # of a column: five minutes are 3.4 MB


class HeldMap:
    """Of so many frames of a sound, rows as those of the map: twice the gain in dB that is furthest from 0. A column is
    as long as windows are apart, and no shorter than LEAST_FRAMES.
    """

    def __init__(self, frames: int, hop: int) -> None:
        self._column_frames = max(LEAST_FRAMES, hop)
        self.codes: Codes = np.zeros((-(-frames // self._column_frames), MAP_HZ.size), np.int8)
        self._bins: tuple[Any, Any, Any] | None = None

    def feed(self, gains_db: npt.NDArray[np.float32], hz: Array, middles: npt.NDArray[np.int64]) -> None:
        """Take in windows (lanes, windows, bins); middles: their frames, counted from the first."""
        if self._bins is None or self._bins[0] is not hz:
            edges = MAP_HZ[:, None] * 2.0 ** (np.array([-0.5, 0.5]) / MAP_PER_OCTAVE)
            low, high = np.searchsorted(hz, edges).T
            nearest = np.clip(np.rint(MAP_HZ / hz[1]).astype(np.int64), 0, hz.size - 1)
            none = high <= low  # a row between two bins has the nearer one's
            self._bins = hz, np.where(none, nearest, low), np.where(none, nearest + 1, high)
        fold_bins(gains_db, np.floor_divide(middles, self._column_frames), *self._bins[1:], self.codes)

    def columns(self, start: int, frames: int, columns: int) -> Codes:
        """Of a part (columns, rows) what is furthest from 0 in each; nothing outside."""
        edges = np.floor((start + np.linspace(0, frames, columns + 1)) / self._column_frames).astype(np.int64)
        inside = np.clip(edges[:-1], 0, len(self.codes) - 1)
        low, high = (way.reduceat(self.codes, inside, axis=0) for way in (np.minimum, np.maximum))
        # The last of them reaches to the end of all: no further than the part.
        last = self.codes[inside[-1] : max(edges[-1], inside[-1] + 1)]
        low[-1], high[-1] = last.min(axis=0), last.max(axis=0)
        furthest = np.where(-low.astype(np.int16) > high, low, high)
        furthest[(edges[:-1] < 0) | (edges[:-1] >= len(self.codes))] = 0
        return furthest
