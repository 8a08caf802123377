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
NOTE_MS, NOTE_DIFFERS_DB = 2000.0, 0.3
TONE_HZ, TONE_PERIODS, TONE_POINTS = 60, 24, 40  # of the low tone; points of a period that is shown
MOST_SHOWN_DB = 24.0
BEND_POINTS = 81
HISTOGRAM_EDGES_DB = np.arange(-100.0, 0.1, 1.0)


def curve(entry: ProcessorEntry) -> dict[str, list[float]]:
    """Steady level in and out, both in dB, for the view in_out."""
    kind, settings = PROCESSORS[entry.type].stand_in(entry.settings)
    out = kind.curve_db(settings, CURVE_DB)
    apart = {name: np.round(row, 3).tolist() for name, row in kind.curves_apart_db(settings, CURVE_DB).items()}
    return {"in_db": CURVE_DB.tolist(), "out_db": np.round(out, 3).tolist(), "apart_db": apart}


def burst(entry: ProcessorEntry, *, sample_rate: int) -> dict[str, Any]:
    """For the view burst: the gain while a steady burst 12 dB over the threshold comes and goes; behind a note of 2 s
    that ends with it, where that goes another way back; and what is made of two periods of a low tone, as loud, once it
    has settled, against the tone: quick times bend it.

    Runs the processor itself at peak detection, with the key's filters left out and no colour; the tail is long enough
    for the hold and three times the release. Times are those of the sound: latency is taken out.
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
        still = {"lookahead_ms": 0.0, "rms_pct": 0.0, "colour_on": False}
        update = {name: value for name, value in still.items() if hasattr(settings, name)}
        plain = settings.model_copy(update=update | {"key": key})
    amplitude = 10.0 ** (level_db / 20.0)

    def over(signal: Array) -> tuple[Array, Array]:
        """(result, gain in dB) of a signal (frames,)."""
        processor = kind(plain, channels=1, sample_rate=sample_rate)
        late = processor.latency_frames
        made = processor.process(alone(np.concatenate([signal, np.zeros(late)])[None], sample_rate))
        (gain_db,) = processor.gains_db.values()
        return made[0, late:], gain_db[late:]

    def comes_and_goes(before_ms: float) -> tuple[Array, Array]:
        """Times and gain in dB, in columns, of a burst that has begun so long before the picture does."""
        parts = [BURST_LEAD_MS, before_ms + BURST_MS, tail_ms]
        frames = [round(ms * sample_rate / 1000) for ms in parts]
        levels = [np.full(count, level) for count, level in zip(frames, (0.0, amplitude, 0.0), strict=True)]
        _, gain_db = over(np.concatenate(levels))
        shown = round((BURST_LEAD_MS + BURST_MS + tail_ms) * sample_rate / 1000)
        at = np.linspace(0, shown - 1, BURST_COLUMNS).astype(np.int64)
        return at * 1000 / sample_rate, gain_db[-shown:][at]

    time_ms, gain_db = comes_and_goes(0.0)
    _, note_db = comes_and_goes(NOTE_MS)
    behind = time_ms > BURST_LEAD_MS + BURST_MS
    differs = np.abs(note_db - gain_db)[behind].max() > NOTE_DIFFERS_DB
    period = round(sample_rate / TONE_HZ)
    tone = amplitude * np.sin(2 * np.pi * np.arange(TONE_PERIODS * period) / period)
    made = over(tone)[0][-2 * period :: period // TONE_POINTS]
    return {
        "time_ms": np.round(time_ms, 2).tolist(),
        "gain_db": np.round(gain_db, 3).tolist(),
        "note_db": np.round(note_db, 3).tolist() if differs else None,
        "burst_ms": [BURST_LEAD_MS, BURST_LEAD_MS + BURST_MS],
        "tone": np.round(made / max(np.abs(made).max(), 1e-9), 3).tolist(),
        "tone_hz": TONE_HZ,
    }


def harmonics(entry: ProcessorEntry) -> dict[str, Any]:
    """For the view harmonics: those of a test tone in dB, and what the curve makes of values from -1 to 1."""
    kind = PROCESSORS[entry.type]
    at = np.linspace(-1.0, 1.0, BEND_POINTS)
    bent = kind.bends(entry.settings, at)
    return kind.harmonics_db(entry.settings) | {"in": at.tolist(), "out": np.round(bent, 4).tolist()}


def frequency(
    entry: ProcessorEntry, *, sample_rate: int, spectrum: Array | None = None
) -> dict[str, list[float] | None]:
    """For the view spectrum: how much it changes each of POINTS_HZ in dB, at rest, and with all that moves moved as far
    as it may; and what a threshold drawn across them lies on. spectrum: of the take, as in Processor.know.
    """
    reach = PROCESSORS[entry.type].reach_db(entry.settings)
    furthest = {name: max(-MOST_SHOWN_DB, min(MOST_SHOWN_DB, db)) for name, db in reach.items()}
    curves: dict[str, dict[str, float]] = {"rest_db": {}, "reach_db": furthest}
    under = PROCESSORS[entry.type].lies_on_db(entry.settings, POINTS_HZ, spectrum, sample_rate)
    return {
        name: np.round(response_db(entry.type, entry.settings, POINTS_HZ, gains, sample_rate), 2).tolist()
        for name, gains in curves.items()
    } | {"lies_on_db": None if under is None else np.round(under, 2).tolist()}


def level_histogram(take: Sound) -> dict[str, list[float]]:
    """Share of the take in percent for each dB from -100 to 0 of its peak level over every 21 ms (1024 frames)."""
    columns = max(take.facts.frames // BINS[1], 1) * tap.TENTH_BINS
    return histogram_of(take.peak_columns(0, take.facts.frames, columns))


def histogram_of(peaks: Array) -> dict[str, list[float]]:
    """As level_histogram, from the peaks of each 64 frames."""
    return {"from_db": HISTOGRAM_EDGES_DB[:-1].tolist(), "share_pct": tap.level_histogram(peaks, HISTOGRAM_EDGES_DB)}
