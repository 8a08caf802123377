"""Parts of the dynamic EQ: what a band covers, adds and moves by, the cuts, and what bands listen to."""

import math
from collections.abc import Mapping
from functools import lru_cache
from typing import Any

import numpy as np

from reins.core.dsp import curving, dynamics, variable
from reins.core.dsp.filters import butterworth_cut, ring_s, run_sections
from reins.core.processors.base import Array, Rows
from reins.core.processors.curves import compress, expand
from reins.core.processors.eq_settings import DynamicEqSettings, EqBand
from reins.core.processors.sidechain import Key, KeyPath, gathered
from reins.core.processors.weighting import rising_sections
from reins.core.units import one_pole_k

MOVING = ("compress", "expand", "curve")
HIGH_HZ, NARROW_Q = 2000.0, 1.5  # from where on such a shelf is asked how long it rings


def cut_sections(settings: DynamicEqSettings, sample_rate: int) -> Array:
    """Sections of both cuts, (n, 5); none where both are off."""
    parts = [
        butterworth_cut(kind, cutoff_hz=hz, order=slope // 6, sample_rate=sample_rate)
        for kind, hz, slope in (
            ("low_cut", settings.low_cut_hz, settings.low_cut_slope),
            ("high_cut", settings.high_cut_hz, settings.high_cut_slope),
        )
        if hz > 0.0
    ]
    return np.concatenate(parts) if parts else np.zeros((0, 5))


def band_region(band: EqBand, sample_rate: int, *, rest: bool = False) -> Array:
    """What a band covers, as a filter of dsp.variable; or all but that."""
    return variable.region(band.shape, freq_hz=band.freq_hz, q=band.q, sample_rate=sample_rate, rest=rest)


@lru_cache(256)
def region_sections(band: EqBand, sample_rate: int, *, rest: bool = False) -> Array:
    """band_region as sections of the second order; to be read only."""
    return variable.as_sections(band_region(band, sample_rate, rest=rest))


def resting(band: EqBand, moved_db: float, sample_rate: int, *, match_highs: bool) -> Array:
    """What a band adds to the sound while it has moved by so much."""
    total = band.gain_db + moved_db
    still = variable.still_matched if match_highs else variable.still
    return still(band.shape, freq_hz=band.freq_hz, q=band.q, gain_db=total, sample_rate=sample_rate)


def moves(band: EqBand) -> bool:
    """Whether a band's gain moves."""
    return band.on and band.motion in MOVING


def band_ring_s(band: EqBand, *, match_highs: bool) -> float:
    """How long a band rings: the cookbook's poles move with the gain, a bell's in Q (up for a boost, down for a cut), a
    shelf's in frequency. Narrow shelves high up that follow the analogue curve may ring far longer: they are asked.
    """
    if not band.on or not (moves(band) or band.gain_db):
        return 0.0
    furthest_db = abs(band.gain_db) + (band.range_db if moves(band) else 0.0)
    if band.shape == "bell":
        most = 10.0 ** (furthest_db / 40.0)
        return max(ring_s(band.freq_hz, band.q * most), ring_s(band.freq_hz, band.q / most))
    told = ring_s(band.freq_hz / 10.0 ** (furthest_db / 80.0), band.q)
    if match_highs and band.freq_hz > HIGH_HZ and band.q > NARROW_Q:
        return max(told, _matched_ring_s(band.shape, band.freq_hz, band.q, furthest_db))
    return told


@lru_cache(256)
def _matched_ring_s(shape: str, freq_hz: float, q: float, furthest_db: float) -> float:
    """How long a shelf that follows the analogue curve rings at most, boosted or cut, at the usual rates."""
    longest = 0.0
    for rate in (44100, 48000, 96000):
        for gain_db in (furthest_db, 0.5 * furthest_db, -0.5 * furthest_db, -furthest_db):
            still = variable.still_matched(shape, freq_hz=freq_hz, q=q, gain_db=gain_db, sample_rate=rate)
            radius = np.abs(np.roots([1.0, *variable.as_sections(still)[0, 3:]])).max()
            longest = max(longest, 3.0 * math.log(10.0) / -math.log(radius) / rate)
    return longest


def covers(band: EqBand) -> bool:
    """Whether the rest leaves a band out."""
    return band.on and band.motion != "none"


@lru_cache(256)
def band_params(band: EqBand, sample_rate: int) -> Array:
    """Parameters of dsp.dynamics for a moving band; to be read only."""
    params = np.zeros(dynamics.PARAMS)
    params[dynamics.KEY_FLOOR_DB] = -120.0
    fill_params(params, band, sample_rate)
    return params


def fill_params(params: Array, band: Any, sample_rate: int) -> None:
    """Curve and times of a moving band into parameters (..., PARAMS), its settings numbers or one value a row."""
    if band.motion == "expand":
        expand(params, band, down=False, sample_rate=sample_rate)
    else:  # of a curve, what it does beside that: range and times, up as down
        compress(params, band, sample_rate=sample_rate)
    params[..., dynamics.BLEND] = band.rms_pct / 100.0
    params[..., dynamics.RMS_K] = one_pole_k(band.rms_ms, sample_rate)


NO_TABLE = np.zeros(0)


@lru_cache(64)
def curve_table(points: tuple[Any, ...], knee_db: float, times: float) -> Array:
    """The gains of a band's own curve, so many times; to be read only."""
    drawn = np.array([point[:2] for point in points])
    out_db = curving.joined_db(drawn, smooth=False, knee_db=knee_db, below=1.0, above=1.0)
    return curving.gain_table(out_db, times=times)


class Ear:
    """What some of the bands listen to alike: a key or the source, its gain, cuts and weighting."""

    carried = ("_path", "_state")

    def __init__(self, key: Key, *, weight_db_oct: float, lanes: int, sample_rate: int) -> None:
        self._key, self._lanes = key, lanes
        self._path = KeyPath(key, channels=lanes, sample_rate=sample_rate)
        self._weighting = rising_sections(sample_rate, weight_db_oct) if weight_db_oct else None
        self._state = np.zeros((0 if self._weighting is None else len(self._weighting), lanes, 2))

    def process(self, own: Array, keys: Mapping[str, Array]) -> Array:
        """What is heard over the next block, of the source or the keys."""
        signal = gathered(self._key, own, keys, self._lanes)
        return self._weighted(signal, self._path.process(signal))

    def process_moved(self, own: Array, keys: Mapping[str, Array], rows: Rows, prefix: str) -> Array:
        """As process, while settings of the key move by rows, at paths that begin with `prefix`."""
        signal = gathered(self._key, own, keys, self._lanes)
        return self._weighted(signal, self._path.process_moved(signal, rows, self._key, prefix))

    def _weighted(self, signal: Array, heard: Array) -> Array:
        if self._weighting is not None:
            heard = heard.copy() if heard is signal else heard
            run_sections(self._weighting, self._state, heard)
        self.heard = heard
        return heard
