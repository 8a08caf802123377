"""Colour: what a bent curve adds to a sound, at a raised rate; shared by `colour` and by the circuits.

What is driven is the sound times k = 10^(drive_db / 20) - 1; what the curve adds to that (dsp.shaping), over k, comes
to the sound dsp.raising.LATENCY_FRAMES later. So drive bends and is no gain: at 0 dB nothing is added.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from reins.core.dsp.gains import to_lin
from reins.core.dsp.raising import LATENCY_FRAMES
from reins.core.dsp.shaping import KINDS, Bender, bend
from reins.core.processors.base import Array, Delay

LEAST_K = 1e-6  # below it what is added would be rounding alone
MOST_OFFSET = 0.9  # of the bias: how far from the middle of the curve it works
#: Below how much drive in dB the rate is raised how often, where that is chosen by itself: what folds back below 20 kHz
#: of tones at 5 and 10 kHz then lies 80 dB under them, at any level up to full scale (at MOST_TIMES 90 up to 12 dB of
#: drive, and 70 at 36); twice that for even, whose mean between samples has no simple form, and for hard, which has a
#: corner.
AUTO_BELOW_DB = ((4.0, 2), (6.5, 4))
MOST_TIMES = 8


DC_HZ, DC_TAIL_S = 5.0, 0.2  # below it a constant is taken out, and how long what does so rings
WARM_FRAMES = 2048  # heard anew where what is carried was made otherwise
TONE_DB, TONE_HZ = -12.0, 1000.0  # of the test tone whose harmonics are shown
HARMONICS = 12
GRIT_DB = 36.0  # of drive, at all of it
PERIOD = 4096  # samples of the test tone's period


@dataclass(frozen=True)
class Bend:
    """How a sound is bent, where that is not a processor's own settings."""

    drive_db: float
    kind: str
    bias_pct: float
    oversampling: Any


def drive_k(drive_db: Any) -> Any:
    """k of a drive in dB, or of drives by the frame."""
    if isinstance(drive_db, np.ndarray):
        return np.maximum(to_lin(drive_db) - 1.0, 0.0)
    return max(10.0 ** (drive_db / 20.0) - 1.0, 0.0)


class Recent:
    """The last WARM_FRAMES of a signal, kept in the blocks it came in."""

    carried = ()

    def __init__(self, channels: int) -> None:
        self._parts: tuple[Array, ...] = (np.zeros((channels, WARM_FRAMES)),)
        self._frames = WARM_FRAMES

    def add(self, signal: Array, by: float | None = None) -> None:
        """Take in the next (channels, frames), so many times; without a number as it is, and nobody may write into it
        afterwards.
        """
        part = signal if by is None else signal * by
        self._parts, self._frames = (*self._parts, part), self._frames + signal.shape[1]
        while self._frames - self._parts[0].shape[1] >= WARM_FRAMES:
            self._frames -= self._parts[0].shape[1]
            self._parts = self._parts[1:]

    def joined(self) -> Array:
        """All of them (channels, WARM_FRAMES)."""
        return np.ascontiguousarray(np.concatenate(self._parts, axis=1)[:, -WARM_FRAMES:])


def times_for(settings: Any, *, moves: bool = False) -> int:
    """By how much the rate is raised, of settings with oversampling, drive_db and kind: as asked, or by the drive; as
    for the highest where that moves.
    """
    if settings.oversampling != "auto":
        return int(settings.oversampling)
    times = next((times for below_db, times in AUTO_BELOW_DB if settings.drive_db < below_db and not moves), MOST_TIMES)
    return times * (2 if settings.kind in ("even", "hard") and times > 2 else 1)


class Shaper:
    """What bending adds to a signal, LATENCY_FRAMES late."""

    carried = ("_bender", "_k", "_recent")
    latency_frames = LATENCY_FRAMES

    def __init__(self, channels: int, sample_rate: int, times: int) -> None:
        self._channels, self._rate = channels, sample_rate
        self._k: Delay | None = None  # where it moves
        self._stood = LEAST_K
        self._recent = Recent(channels)
        self._made_as: Any = None
        self._bender = Bender(channels, sample_rate, times)

    @staticmethod
    def still(signal: Array, *, kind: str, bias_pct: float) -> Array:
        """What the curve adds to a driven signal sample by sample, without a raised rate."""
        driven = np.zeros((signal.shape[0], 2, 1 + signal.shape[1]))
        driven[:, :, 1:] = signal[:, None]  # each is its own neighbour: the mean of the curve is the curve
        added = np.empty((signal.shape[0], 2, signal.shape[1]))
        bend(driven, KINDS[kind], MOST_OFFSET * bias_pct / 100.0, added, np.empty((signal.shape[0], 2, 0)))
        return added[:, 1]

    def process(self, signal: Array, k: Any, *, kind: str, bias_pct: float) -> Array:
        """What is added over the next frames (channels, frames) by k, a number or one a frame."""
        moves = isinstance(k, np.ndarray)
        k = np.maximum(k, LEAST_K) if moves else max(float(k), LEAST_K)
        curve, offset = KINDS[kind], MOST_OFFSET * bias_pct / 100.0
        if not moves:  # as long as it stands, what comes out went in by the same
            self._k, self._stood = None, k
            return self._bender.process(signal, k, curve, offset)
        made = self._bender.process(signal * k, 1.0, curve, offset)
        if self._k is None:
            self._k = Delay(1, LATENCY_FRAMES)
            self._k.process(np.full((1, LATENCY_FRAMES), self._stood))
        return made / self._k.process(k.reshape(1, -1))

    def add(self, signal: Array, k: Any, bend: Any, *, driven: float = 1.0) -> Array:
        """As process, with a curve that stands; what is on its way, made with another k or curve, is made anew of what
        came last, so that nothing steps. Where k is a number, the signal may be `driven` already, and what is added is.
        """
        times = times_for(bend)
        how: dict[str, Any] = {"kind": bend.kind, "bias_pct": bend.bias_pct}
        moves = isinstance(k, np.ndarray)
        if (made_as := (None if moves else k, bend.kind, bend.bias_pct, times)) != self._made_as:
            self._made_as = made_as
            self._bender = Bender(self._channels, self._rate, times)
            self.process(self._recent.joined(), float(k[0]) if moves else k, **how)
        self._recent.add(signal, 1.0 / driven)
        return self.process(signal, k if moves else max(k, LEAST_K) / driven, **how)


def bends(bend: Any, values: Array) -> Array:
    """What the curve makes of values (n,) at its drive."""
    k = max(float(drive_k(bend.drive_db)), LEAST_K)
    return values + Shaper.still(values[None] * k, kind=bend.kind, bias_pct=bend.bias_pct)[0] / k


def harmonics_db(bend: Any) -> dict[str, Any]:
    """The harmonics of a sine at TONE_DB, in dB of full scale, the first (itself) before the others."""
    sine = 10.0 ** (TONE_DB / 20.0) * np.sin(2.0 * np.pi * np.arange(PERIOD) / PERIOD)
    spectrum = np.abs(np.fft.rfft(bends(bend, sine))) / (PERIOD / 2)
    shown = 20.0 * np.log10(np.maximum(spectrum[1 : HARMONICS + 1], 1e-7))
    return {"tone_db": TONE_DB, "tone_hz": TONE_HZ, "db": np.round(shown, 2).tolist()}


def grit(pct: float) -> Bend:
    """How a part of a sound is bent by a share of grit: at all levels, odd harmonics."""
    return Bend(GRIT_DB * pct / 100.0, "soft", 0.0, "auto")


class Grit:
    """What bending adds to parts of a sound, and the rest of it, which waits as long."""

    carried = ("_shapers", "_late", "_late_rows")

    def __init__(self, channels: int, sample_rate: int, parts: int = 1) -> None:
        self._shapers = [Shaper(channels, sample_rate, 1) for _ in range(parts)]
        self._late = Delay(channels, LATENCY_FRAMES)
        self._late_rows: dict[str, Delay] = {}

    def process(self, whole: Array, parts: list[Array], levels: Any, bent: list[Bend]) -> Array:
        """The whole, late, with what is added to its parts (channels, frames); levels: how much louder than they are to
        be bent the parts stand, one for each, a number or one a frame.
        """
        out = self._late.process(whole).copy()
        for shaper, part, level, how in zip(self._shapers, parts, levels, bent, strict=True):
            if how.drive_db > 0.0:
                out += shaper.add(part, drive_k(how.drive_db) / level, how)
        return out

    def told(self, gains_db: dict[str, Array]) -> dict[str, Array]:
        """Gains by the frame, as late."""
        for name in gains_db:
            self._late_rows.setdefault(name, Delay(1, LATENCY_FRAMES))
        return {name: self._late_rows[name].process(row[None])[0] for name, row in gains_db.items()}
