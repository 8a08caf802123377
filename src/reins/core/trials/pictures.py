"""Numbers for the bench's pictures, made by the processors themselves: the curve, the burst, the level histogram."""

from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry
from reins.core.measure import tap
from reins.core.measure.spectra import POINTS_HZ
from reins.core.processors import PROCESSORS
from reins.core.processors.base import alone
from reins.core.processors.making import response_db
from reins.core.sound import Sound
from reins.core.takes import BINS

Array = npt.NDArray[np.float64]
CURVE_DB = np.linspace(-100.0, 0.0, 201)
BURST_LEAD_MS, BURST_MS, BURST_COLUMNS = 20.0, 100.0, 240
BURST_OVER_DB = 12.0
MOST_SHOWN_DB = 24.0
BEND_POINTS = 81
HISTOGRAM_EDGES_DB = np.arange(-100.0, 0.1, 1.0)


def curve(entry: ProcessorEntry) -> dict[str, list[float]]:
    """Steady level in and out, both in dB, for the view in_out."""
    kind, settings = PROCESSORS[entry.type].stand_in(entry.settings)
    out = kind.curve_db(settings, CURVE_DB)
    return {"in_db": CURVE_DB.tolist(), "out_db": np.round(out, 3).tolist()}


def burst(entry: ProcessorEntry, *, sample_rate: int) -> dict[str, Any]:
    """For the view burst: the gain while a steady burst 12 dB over the threshold comes and goes.

    Runs the processor itself at peak detection, with the key's filters left out; the tail is long enough for the hold
    and three times the release. Times are those of the sound: latency is taken out.
    """
    kind, settings = PROCESSORS[entry.type].stand_in(entry.settings)
    back_ms = getattr(settings, "release_ms", None) or getattr(settings, "back_ms", None)
    back_ms = back_ms or kind.settling_s(settings) * 1000.0 / 3.0
    tail_ms = min(max(3.0 * back_ms + getattr(settings, "hold_ms", 0.0), 180.0), 4000.0)
    level_db = kind.acts_from_db(settings) + BURST_OVER_DB
    plain = settings
    if hasattr(settings, "key"):
        level_db -= settings.key.gain_db
        key = settings.key.model_copy(update={"source": "self", "low_cut_hz": 0.0, "high_cut_hz": 0.0})
        plain = settings.model_copy(update={"lookahead_ms": 0.0, "rms_pct": 0.0, "key": key})
    processor = kind(plain, channels=1, sample_rate=sample_rate)
    total_ms = BURST_LEAD_MS + BURST_MS + tail_ms
    frames = round(total_ms * sample_rate / 1000)
    signal = np.zeros((1, frames + processor.latency_frames))
    first, last = (round(t * sample_rate / 1000) for t in (BURST_LEAD_MS, BURST_LEAD_MS + BURST_MS))
    signal[:, first:last] = 10.0 ** (level_db / 20.0)
    processor.process(alone(signal, sample_rate))
    (gain_db,) = processor.gains_db.values()
    gain_db = gain_db[processor.latency_frames :]
    at = np.linspace(0, frames - 1, BURST_COLUMNS).astype(np.int64)
    return {
        "time_ms": np.round(at * 1000 / sample_rate, 2).tolist(),
        "gain_db": np.round(gain_db[at], 3).tolist(),
        "burst_ms": [BURST_LEAD_MS, BURST_LEAD_MS + BURST_MS],
    }


def harmonics(entry: ProcessorEntry) -> dict[str, Any]:
    """For the view harmonics: those of a test tone in dB, and what the curve makes of values from -1 to 1."""
    kind = PROCESSORS[entry.type]
    at = np.linspace(-1.0, 1.0, BEND_POINTS)
    bent = kind.bends(entry.settings, at)
    return kind.harmonics_db(entry.settings) | {"in": at.tolist(), "out": np.round(bent, 4).tolist()}


def frequency(entry: ProcessorEntry, *, sample_rate: int) -> dict[str, list[float]]:
    """For the view spectrum: how much it changes each of POINTS_HZ in dB, at rest, and with all that moves moved as far
    as it may.
    """
    reach = PROCESSORS[entry.type].reach_db(entry.settings)
    furthest = {name: max(-MOST_SHOWN_DB, min(MOST_SHOWN_DB, db)) for name, db in reach.items()}
    curves: dict[str, dict[str, float]] = {"rest_db": {}, "reach_db": furthest}
    return {
        name: np.round(response_db(entry.type, entry.settings, POINTS_HZ, gains, sample_rate), 2).tolist()
        for name, gains in curves.items()
    }


def level_histogram(take: Sound) -> dict[str, list[float]]:
    """Share of the take in percent for each dB from -100 to 0 of its peak level over every 21 ms (1024 frames)."""
    columns = max(take.facts.frames // BINS[1], 1) * tap.TENTH_BINS
    return histogram_of(take.peak_columns(0, take.facts.frames, columns))


def histogram_of(peaks: Array) -> dict[str, list[float]]:
    """As level_histogram, from the peaks of each 64 frames."""
    return {"from_db": HISTOGRAM_EDGES_DB[:-1].tolist(), "share_pct": tap.level_histogram(peaks, HISTOGRAM_EDGES_DB)}
