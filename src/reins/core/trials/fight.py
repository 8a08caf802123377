"""The fight: where two sounds are strong at the same time, by bands one ERB wide (dsp.bins), over time.

A band and moment counts fully where both are within COUNTS_DB of their own loudest band there and within a margin of
each other, not at all BEYOND_DB further, straight between. Bands that count for at least LEAST_SHARE of the time stand
by the energy of the weaker of the two in the moments that count; neighbours with a share ALIKE of the worst one's, or
more, join it.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.dsp.bins import erb_edges, erb_hz, erb_number, erb_powers, in_db
from reins.core.dsp.stft import Analysis, read_power
from reins.core.measure.spectra import MAP_HZ
from reins.core.sound import Sound
from reins.errors import ConflictError

Array = npt.NDArray[np.float64]
WINDOW, OVERLAP, READ_FRAMES = 8192, 4, 1 << 17
MARGIN_DB, COUNTS_DB, BEYOND_DB, SILENT_DB = 12.0, 40.0, 6.0, -70.0
LEAST_SHARE, ALIKE, WORST = 0.05, 0.25, 3
LOWEST_HZ, HIGHEST_HZ = 25.0, 18000.0


@dataclass(frozen=True)
class Region:
    """Where two fight: share of the whole time, and by how much the first is louder then."""

    low_hz: float
    high_hz: float
    share: float
    level_difference_db: float

    def sentence(self, one: str, other: str) -> str:
        """In words."""
        louder, quieter = (one, other) if self.level_difference_db >= 0 else (other, one)
        apart = abs(self.level_difference_db)
        how = f"{louder} {apart:.0f} dB above {quieter}" if apart >= 0.5 else f"{one} and {other} alike"
        return f"{in_hz(self.low_hz)} to {in_hz(self.high_hz)}, {100 * self.share:.0f} % of the time, {how}"


def in_hz(hz: float) -> str:
    """A frequency as it is written."""
    return f"{hz / 1000:.1f} kHz" if hz >= 1000 else f"{hz:.0f} Hz"


@dataclass(frozen=True)
class Fight:
    """Regions, the worst first; and how far each band (bands,) and moment (moments, bands) counts."""

    regions: list[Region]
    counts: Array
    edges_hz: Array

    def picture(self, most_columns: int) -> tuple[float, float, npt.NDArray[np.uint8]]:
        """(first frame, frames of a column, bytes (columns, rows)) as the map's rows: how far each counts, of 255; the
        furthest where moments share a column.
        """
        every = -(-len(self.counts) // most_columns)
        folded = np.maximum.reduceat(self.counts, np.arange(0, len(self.counts), every), axis=0)
        rows = np.clip(np.searchsorted(self.edges_hz, MAP_HZ, side="right") - 1, 0, folded.shape[1] - 1)
        hop = WINDOW // OVERLAP
        first = hop - WINDOW / 2 - hop / 2  # a window ends every hop, and stands for what is about its middle
        return first, float(every * hop), np.rint(255.0 * folded[:, rows]).astype(np.uint8)


def fight(one: Sound, other: Sound, margin_db: float = MARGIN_DB, check: Callable[[], None] = lambda: None) -> Fight:
    """Where two sounds of one rate fight; ConflictError where there is nothing to compare."""
    rate = one.facts.sample_rate
    if other.facts.sample_rate != rate:
        raise ConflictError("Their sample rates differ; allowed: the same for both.")
    frames = min(one.facts.frames, other.facts.frames)
    if frames < WINDOW:
        raise ConflictError(f"There is too little to compare: {WINDOW} frames of both are needed.")
    begins, _ = erb_edges(WINDOW, rate)
    powers = [_powers(sound, frames, begins, check) for sound in (one, other)]
    levels = [in_db(power) for power in powers]
    counts = counted(levels[0], levels[1], margin_db)
    edges = _edges_hz(begins, rate)
    return Fight(_regions(counts, powers, levels, edges), counts, edges)


def counted(one_db: Array, other_db: Array, margin_db: float) -> Array:
    """How far each moment and band counts, 0 to 1, of levels (moments, bands)."""
    apart = np.abs(one_db - other_db)
    share = np.clip(1.0 - (apart - margin_db) / BEYOND_DB, 0.0, 1.0)
    for level in (one_db, other_db):
        share = share * (level > level.max(axis=1, keepdims=True) - COUNTS_DB) * (level > SILENT_DB)
    return np.asarray(share)


def _powers(sound: Sound, frames: int, begins: npt.NDArray[np.int64], check: Callable[[], None]) -> Array:
    analysis, found = Analysis(sound.facts.channels, WINDOW, OVERLAP), []
    for start in range(0, frames, READ_FRAMES):
        check()
        spectra = analysis.process(sound.read(start, min(READ_FRAMES, frames - start)))
        found.append(erb_powers(read_power(spectra, WINDOW).mean(axis=0), begins))
    return np.concatenate(found).astype(np.float64)


def _edges_hz(begins: npt.NDArray[np.int64], rate: float) -> Array:
    """The frequencies between bands, those of their own numbers of ERBs."""
    numbers = np.floor(erb_number(np.asarray(begins * (rate / WINDOW), np.float64)))
    return erb_hz(np.append(numbers, numbers[-1] + 1.0))


def _regions(counts: Array, powers: list[Array], levels: list[Array], edges: Array) -> list[Region]:
    shares = counts.mean(axis=0)
    fits = (shares >= LEAST_SHARE) & (edges[1:] > LOWEST_HZ) & (edges[:-1] < HIGHEST_HZ)
    weaker = (counts * np.minimum(*powers)).sum(axis=0) * fits
    left, found = weaker.copy(), list[Region]()
    while left.max() > 0.0:
        a = b = int(left.argmax())
        least = left[a] * ALIKE
        while a > 0 and left[a - 1] >= least:
            a -= 1
        while b + 1 < left.size and left[b + 1] >= least:
            b += 1
        left[a : b + 1] = 0.0
        part, apart = counts[:, a : b + 1], (levels[0] - levels[1])[:, a : b + 1]
        share, difference = part.max(axis=1).mean(), (part * apart).sum() / part.sum()
        low_hz, high_hz = edges[a], edges[b + 1]
        found.append(Region(*(round(float(v), 3) for v in (low_hz, high_hz, share, difference))))
    return found
