"""What is measured of a take by frequency and kept beside it: its mean spectrum, and the map at one column a window.

A map's level is kept as a byte: 0 not known yet, else half dB from -120 dB on. The kept map is filled as it is looked
at; closer looks than it has columns for are computed from the samples.
"""

import contextlib
from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from reins.core.dsp.octaves import TWELFTHS_HZ
from reins.core.measure.spectra import FLOOR_DB, MAP_HZ, map_columns, spectrum_in_twelfths, window_frames
from reins.core.sound import Sound
from reins.core.takes import Take

Array = npt.NDArray[np.float64]
Codes = npt.NDArray[np.uint8]
STEP_DB = 0.5
SEGMENT = 256
SPECTRUM, MAP = "spectrum.f64", "map.u8"


def kept_spectrum(take: Take) -> Array:
    """Mean power of a take in twelfths of an octave; measured at the first call, kept where the disk allows."""
    file = take.folder / SPECTRUM
    with contextlib.suppress(OSError):
        known = np.fromfile(file, np.float64)
        if known.size == TWELFTHS_HZ.size:
            return known
    power = spectrum_in_twelfths(take)
    _keep(take, SPECTRUM, power)
    return power


def _keep(take: Take, name: str, values: npt.NDArray[np.generic]) -> None:
    """Keep values beside a take; what the disk refuses is measured anew next time."""
    partial = take.folder / f".{name}.partial"
    with contextlib.suppress(OSError):
        values.tofile(partial)
        partial.replace(take.folder / name)


def to_codes(levels_db: Array) -> Codes:
    """Levels as bytes, from 1 on."""
    return np.clip(np.rint((levels_db - FLOOR_DB) / STEP_DB) + 1, 1, 255).astype(np.uint8)


class TakeMap:
    """The map of a take: a column for each short window, filled as far as it was looked at."""

    def __init__(self, take: Take) -> None:
        self._take = take
        self.hop = window_frames(take.facts.sample_rate)[1]
        count = -(-take.facts.frames // self.hop)
        self._codes = np.zeros((count, MAP_HZ.size), np.uint8)
        with contextlib.suppress(OSError):
            known = np.fromfile(take.folder / MAP, np.uint8)
            if known.size == self._codes.size:
                self._codes = known.reshape(self._codes.shape)

    def columns(self, first: int, last: int, check: Callable[[], None] = lambda: None) -> Codes:
        """Columns first .. last (0 outside the take); what is not known yet is measured; `check` may raise to stop."""
        count = len(self._codes)
        low, high = min(max(first, 0), count), min(max(last, 0), count)
        fresh = False
        for start in range(low // SEGMENT * SEGMENT, high, SEGMENT):
            part = self._codes[start : start + SEGMENT]
            if not part.all():
                part[:] = to_codes(map_columns(self._take, (start + 0.5) * self.hop, self.hop, len(part), check))
                fresh = True
        if fresh and self._codes.all():
            _keep(self._take, MAP, self._codes)
        out = np.zeros((last - first, MAP_HZ.size), np.uint8)
        out[low - first : high - first] = self._codes[low:high]
        return out


def map_picture(
    sound: Sound, known: TakeMap | None, start: int, frames: int, columns: int,
    check: Callable[[], None] = lambda: None, *, gain: float = 1.0,
) -> Codes:  # fmt: skip
    """The map of a part of a sound, played with a gain, as bytes (columns, rows): the loudest of each column.

    known: the kept map, where the sound is a take.
    """
    per_column = frames / columns
    if known is None or per_column < known.hop:
        picture = to_codes(map_columns(sound, start + per_column / 2, per_column, columns, check))
    else:
        edges = (start + np.linspace(0, frames, columns + 1)) / known.hop
        first = int(np.floor(edges[0]))
        part = known.columns(first, int(np.ceil(edges[-1])) + 1, check)
        picture = np.maximum.reduceat(part, np.floor(edges[:-1]).astype(np.int64) - first, axis=0)
    moved = picture + 20.0 * np.log10(max(abs(gain), 1e-6)) / STEP_DB
    return np.where(picture > 0, np.clip(np.rint(moved), 1, 255), 1).astype(np.uint8)
