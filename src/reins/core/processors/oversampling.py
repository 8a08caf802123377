"""A processor at a multiple of the rate: a gain that moves within a few samples makes tones of its own, and those above
half the rate fold back into what is heard. At a higher rate they have room, and are taken out on the way back.

Sound and keys go up through half-band filters (dsp.halfband), the processor runs there as it is, and its result comes
down through the same filters; all is delayed to a whole number of frames. Gains and marks are told as they stand at
each frame of the base rate.
"""

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np

from reins.core.dsp.halfband import REACHES, Doubler, Halver
from reins.core.dsp.raising import LATENCY_FRAMES
from reins.core.processors.base import Array, Block, Delay, Moved, Processor, Rows

AUTO_BELOW_MS = ((1.0, 16), (3.0, 8))  # times the rate by the shortest attack or release
TIMES = ("attack_ms", "release_ms", "down_ms", "back_ms")


def fastest_ms(settings: Any) -> float:
    """The shortest of the times a processor's gain moves in, its moving bands' among them."""
    parts = [settings, *(band for band in getattr(settings, "bands", []) if _moves(band))]
    if hasattr(settings, "rest") and settings.rest.on:
        parts.append(settings.rest)
    return min((getattr(part, name) for part in parts for name in TIMES if hasattr(part, name)), default=math.inf)


def offer(settings: Any) -> str | None:
    """The sentence that offers a raised rate, where it is off and times have got so short that it would be heard."""
    if getattr(settings, "oversampling", "on") != "off" or fastest_ms(settings) >= AUTO_BELOW_MS[-1][0]:
        return None
    return "With times this short the gain folds tones of its own into the sound."


def _moves(band: Any) -> bool:
    return bool(band.on) and getattr(band, "motion", "compress") in ("compress", "expand", "curve")


def times_of(settings: Any) -> int:
    """By how much the rate is raised: 1, 2, 4, 8 or 16."""
    asked = getattr(settings, "oversampling", "off")
    if settings.raises_itself:  # for what it bends, unless a number is asked for, and there is a gain that moves
        return int(asked) if settings.raised_whole and settings.hold_on and asked != "auto" else 1
    if asked == "auto":
        fastest = fastest_ms(settings)
        return next((times for below_ms, times in AUTO_BELOW_MS if fastest < below_ms), 1)
    return 1 if asked == "off" else int(asked)


def within(settings: Any) -> Any:
    """The settings of a processor that runs at a raised rate: what it would raise itself is raised already."""
    whole = settings.raises_itself and times_of(settings) > 1
    return settings.model_copy(update={"oversampling": 1}) if whole else settings


def _filters_frames(times: int) -> int:
    """Frames of the higher rate that the way up takes, and the way down again."""
    return sum(reach * (times >> stage) for stage, reach in enumerate(REACHES[: times.bit_length() - 1], start=1))


def _padding(times: int, inner: int, *, bends: bool) -> int:
    """Frames of the higher rate that make all of it a whole number of frames; of one that may only bend, as many as
    that takes (processors.bending).
    """
    filters = 2 * _filters_frames(times)
    return LATENCY_FRAMES * times - filters + -inner % times if bends else -(filters + inner) % times


def latency_of(kind: type[Processor], settings: Any, times: int, *, sample_rate: int) -> int:
    """Frames by which the result comes later."""
    inner = kind.latency_of(settings, sample_rate=sample_rate * times)
    return (2 * _filters_frames(times) + inner + _padding(times, inner, bends=kind.bends_at_once)) // times


def filters_tail_s(settings: Any, sample_rate: int) -> float:
    """How long the filters of a raised rate sound on: as long as they make the sound late."""
    times = times_of(settings)
    return LATENCY_FRAMES / sample_rate if times > 1 else 0.0


class Raised:
    """A signal's way up, all doublings."""

    carried = ("_stages",)

    def __init__(self, channels: int, times: int) -> None:
        self._stages = [Doubler(channels, reach) for reach in REACHES[: times.bit_length() - 1]]

    def process(self, signal: Array) -> Array:
        """(channels, times n) from the next (channels, n)."""
        for stage in self._stages:
            signal = stage.process(signal)
        return signal


def _straight(values: Array, times: int) -> Array:
    """Values (frames,) at so many times the rate; the last one stays."""
    return np.interp(np.arange(values.size * times) / times, np.arange(values.size), values)


class Oversampled:
    """Any processor at a multiple of the rate: stands where it would stand; type, settings and views are its."""

    carried: ClassVar[tuple[str, ...]] = ("_inner", "_up", "_down", "_pad", "_rows", "_keys")

    def __init__(
        self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int],
        kind: type[Processor], times: int,
    ) -> None:  # fmt: skip
        self._rate, self._times, self.kind = sample_rate, times, kind
        raised = sample_rate * times
        self._inner = kind(within(settings), channels=channels, sample_rate=raised, key_channels=key_channels)
        self._settings = settings
        self._up = Raised(channels, times)
        self._down = [Halver(channels, reach) for reach in reversed(REACHES[: times.bit_length() - 1])]
        inner = self._inner.latency_frames
        self._pad = Delay(channels, _padding(times, inner, bends=kind.bends_at_once))
        self._latency = latency_of(kind, settings, times, sample_rate=sample_rate)
        # A row told at the higher rate stands for sound that leaves so much later.
        self._told_late = self._pad.frames + _filters_frames(times)
        self._rows: dict[str, Delay] = {}
        self._keys: dict[str, Raised] = {}
        self.gains_db: dict[str, Array] = {}
        self.marks: dict[str, Array] = {}
        self.key_heard: Array | None = None
        self.by_bin = None  # what works on spectra has no raised rate

    @property
    def latency_frames(self) -> int:
        """Both ways of the filters, and what the processor itself takes."""
        return self._latency

    def leaves_late(self, path: str) -> int:
        """How much later than the source the sound is that the gains within act on: before the way down."""
        return (_filters_frames(self._times) + self._inner.leaves_late(path)) // self._times

    def takes(self, rows: Rows) -> bool:
        """Whether the processor does."""
        return self._inner.takes(rows)

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings of equal latency and rate; all state is kept."""
        self._settings = settings
        self._inner.apply(within(settings), over_frames=None if over_frames is None else over_frames * self._times)

    def know(self, spectrum: Array | None) -> None:
        """Hear of the spectrum of the take it works on."""
        self._inner.know(spectrum)

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        keys = {name: self._key(name, signal) for name, signal in block.keys.items()}
        moved = None if block.moved is None else self._raised(block.moved)
        raised = Block(self._up.process(block.sound), replace(block.when, times=self._times), keys, moved)
        made = self._pad.process(self._inner.process(raised))
        for stage in self._down:
            made = stage.process(made)
        self.gains_db = {name: self._at_base_rate(name, row) for name, row in self._inner.gains_db.items()}
        self.marks = {name: self._at_base_rate(name, row) for name, row in self._inner.marks.items()}
        heard = self._inner.key_heard  # came up from the base rate, so every so many-th frame holds all of it
        self.key_heard = None if heard is None else np.ascontiguousarray(heard[:, :: self._times])
        return made

    def _raised(self, moved: Moved) -> Moved:
        """What moves, at the higher rate: gains straight from frame to frame."""
        times, rows = self._times, moved.rows
        if rows is not None:
            rows = replace(rows, begins=rows.begins * times, into=rows.into * times, length=rows.length * times)
        gains, drives = (
            {path: _straight(values, times) for path, values in which.items()} for which in (moved.gains, moved.drives)
        )
        return Moved(gains, drives, rows)

    def _key(self, name: str, signal: Array) -> Array:
        if name not in self._keys:
            self._keys[name] = Raised(signal.shape[0], self._times)
        return self._keys[name].process(signal)

    def _at_base_rate(self, name: str, row: Array) -> Array:
        late = self._rows.setdefault(name, Delay(1, self._told_late))
        return late.process(row[None])[0, :: self._times].copy()

    def hears(self, band: str = "") -> tuple[Array, Array | None] | None:
        """What the detector heard, at the base rate, and the region of a band there."""
        heard = self._inner.hears(band)
        if heard is None:
            return None
        region = None if heard[1] is None else self.kind.region_of(self._settings, band, self._rate)
        return np.ascontiguousarray(heard[0][:, :: self._times]), region
