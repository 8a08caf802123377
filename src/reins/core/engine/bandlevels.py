"""The level each band of a processor is measured by: what its detector hears, through what the band covers of it."""

import math
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry
from reins.core.dsp.compiled import plain
from reins.core.dsp.filters import run_sections, sections_response
from reins.core.engine.chain import Chain
from reins.core.measure.folding import fold_loudest
from reins.core.processors import PROCESSORS
from reins.core.units import one_pole_k

Array = npt.NDArray[np.float64]
COLUMN_FRAMES = 1024  # of which the loudest moment counts, so that no half wave is a column
USUAL_RMS_MS = 10.0
FLOOR_DB = -100.0
STEPS_PER_DB = 2
MEASURED = ("span", "bells", "splits")  # of what covers the frequencies so, bands have levels of their own
SINE_DB = 20.0 * math.log10(2.0) / 2.0  # of a sine, its peak over its mean


class BandLevels:
    """Of the processor with an id in a chain, the loudest moment of each column of what each moving band hears, as
    amplitude, by the name of its gain.
    """

    def __init__(self, entry: ProcessorEntry, columns: int, sample_rate: int) -> None:
        self._id, self._rate = entry.id, sample_rate
        self._kind, self._settings = PROCESSORS[entry.type], entry.settings
        named = self._kind.reach_db(entry.settings) if self._kind.covers in MEASURED else {}
        self.loudest = {name: np.zeros(columns) for name in named}
        self._averages = {name: self._average(name) for name in named}
        self._states: dict[str, tuple[Array, Array]] = {}  # of the region's filters, and of the average

    def _average(self, name: str) -> tuple[float, float]:
        """How far a band follows the average, and the pole of that."""
        part = self._kind.part_of(self._settings, name)
        k = one_pole_k(getattr(part, "rms_ms", USUAL_RMS_MS), self._rate)
        return getattr(part, "rms_pct", 0.0) / 100.0, k

    def taken_db(self) -> dict[str, float]:
        """The loudest moment of the first column in dB, which begins anew."""
        told = {name: float(20.0 * np.log10(max(row[0], 1e-6))) for name, row in self.loudest.items()}
        for row in self.loudest.values():
            row[0] = 0.0
        return told

    def feed(self, chain: Chain, first: int | None = None) -> None:
        """Take in the block a chain has just worked on, whose source begins at this frame of the columns; of none, all
        of it counts for the first column.
        """
        for name, loudest in self.loudest.items():
            heard = chain.heard(self._id, name)
            if heard is None:
                continue
            signal = plain(heard.signal)
            region = None if self._kind.measures_all(self._settings, name) else heard.region
            if region is not None:
                signal = signal.copy()
            sections = 0 if region is None else len(region)
            known = self._states.get(name)
            if known is None or known[0].shape != (sections, len(signal), 2):
                known = self._states[name] = np.zeros((sections, len(signal), 2)), np.zeros(1)
            if region is not None:
                run_sections(np.ascontiguousarray(region), known[0], signal)
            at, every = (0, signal.shape[1]) if first is None else (first - heard.latency_frames, COLUMN_FRAMES)
            fold_loudest(signal, *self._averages[name], known[1], at, every, loudest)


def above_spectrum_db(entry: ProcessorEntry, name: str, sample_rate: int) -> float:
    """By how much pink noise is louder in a band, as its detector follows it, than in a third octave of a spectrum,
    where a sine reads its peak (measure.spectra); so a threshold lies that much lower across one.

    The band's power is that of so many third octaves, |H|^2 over log frequency. Of a peak detector the loudest of a
    column counts: the median of the greatest of N peaks, each as Rayleigh has it (S. O. Rice, "Mathematical Analysis of
    Random Noise", Bell System Technical Journal 24(1), 1945), N by how wide the noise is: one, and twice the spread of
    its frequencies times the time.
    """
    kind = PROCESSORS[entry.type]
    region = None if kind.measures_all(entry.settings, name) else kind.region_of(entry.settings, name, sample_rate)
    part = kind.part_of(entry.settings, name)
    weight_db_oct, average = getattr(part, "weight_db_oct", 0.0), getattr(part, "rms_pct", 0.0) / 100.0
    sections = () if region is None else tuple(map(tuple, region.tolist()))
    return _louder_db(sections, weight_db_oct, average, sample_rate)


@lru_cache(512)
def _louder_db(sections: tuple[Any, ...], weight_db_oct: float, average: float, sample_rate: int) -> float:
    """Remembered, since a threshold that is dragged moves none of it."""
    high_hz = min(20000.0, 0.45 * sample_rate)
    hz = np.geomspace(20.0, high_hz, 2000)
    passed = np.abs(sections_response(np.array(sections), hz, sample_rate)) ** 2 if sections else np.ones(hz.size)
    passed = passed * np.maximum(hz / 100.0, 1.0) ** (weight_db_oct / 10.0 / math.log10(2.0))
    thirds = passed.mean() * math.log10(high_hz / 20.0) * 10.0
    shares = passed / passed.sum()  # of pink noise, which is even over log frequency
    spread_hz = math.sqrt(max(float((shares * hz**2).sum() - (shares * hz).sum() ** 2), 0.0))
    peaks = 1.0 + 2.0 * spread_hz * COLUMN_FRAMES / sample_rate
    crest_db = 10.0 * math.log10(-2.0 * math.log(1.0 - 0.5 ** (1.0 / peaks)))
    return 10.0 * math.log10(max(thirds, 1e-6)) - SINE_DB + (1.0 - average) * crest_db


def shares_pct(loudest: Array) -> list[float]:
    """Share of the columns in percent at each half dB from FLOOR_DB to 0, the last one with all above."""
    db = 20.0 * np.log10(np.maximum(loudest, 1e-6))
    place = np.clip(np.floor((db - FLOOR_DB) * STEPS_PER_DB), 0, -FLOOR_DB * STEPS_PER_DB).astype(np.int64)
    counts = np.bincount(place, minlength=int(-FLOOR_DB * STEPS_PER_DB) + 1)
    shares: list[float] = np.round(100.0 * counts / max(loudest.size, 1), 2).tolist()
    return shares


def above_pct(loudest: Array, threshold_db: float) -> float:
    """For how much of the time it lies above a threshold."""
    return float(100.0 * np.mean(loudest > 10.0 ** (threshold_db / 20.0))) if loudest.size else 0.0


def threshold_of(entry: ProcessorEntry, name: str) -> float | None:
    """The threshold of a band, by the name of its gain, that its level is compared with as it is; None where that is
    measured against something else.
    """
    part = PROCESSORS[entry.type].part_of(entry.settings, name)
    elsewhere = getattr(part, "relative", False) or getattr(part, "motion", "") == "curve"
    return None if elsewhere else getattr(part, "threshold_db", None)
