"""Butterworth cuts and Linkwitz-Riley crossovers that may be moved, steepened and switched while sound runs.

Sections of second order are state-variable filters by trapezoidal integration, those of first order one integrator
(V. Zavalishin, "The Art of VA Filter Design", ch. 3 and 4): their states stay those of the sound while their frequency
moves from sample to sample (see dsp.gliding). At rest they answer as dsp.filters.butterworth_cut.

    g = tan(pi f / rate), k = 1 / Q, a1 = 1 / (1 + g (g + k))
    v1 = a1 s1 + g a1 (x - s2), v2 = s2 + g v1;  s1' = 2 v1 - s1, s2' = 2 v2 - s2
    low-pass v2, high-pass x - k v1 - v2, all-pass x - 2 k v1
"""

import math
from functools import lru_cache
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import flush, kernel
from reins.core.dsp.gliding import Glide, fade_in
from reins.core.dsp.sweeping import columns, filter_swept, straight
from reins.core.dsp.variable import filter_still, fixed

Array = npt.NDArray[np.float64]
LOW_PASS, HIGH_PASS, ALL_PASS = 0, 1, 2
GONE_MS = 40.0  # what is switched off fades out for so long where it takes nothing any more
LOW_OFF_HZ = 1.0  # where a low cut takes nothing that is heard
OFF_NYQUIST = 0.499  # of the rate: where a high cut takes nothing, and the highest that any goes


class Swept(Protocol):
    """Rows of a block: their first frames, how far into the row these lie, and how long a row is."""

    begins: npt.NDArray[np.int64]
    into: npt.NDArray[np.int64]
    length: int


@kernel("void(f8[::1])")
def _tan(values):
    """Each value's tangent, in place: one by one, since numpy's may differ by where in an array a value stands."""
    for i in range(values.size):
        values[i] = math.tan(values[i])


@kernel("void(f8[:,::1], f8[::1], f8, i8, f8[:,::1])")
def _second_order_moving(signal, g, k, kind, state):
    """Filter signal (channels, frames) in place with g (frames,); state (channels, 2) is carried."""
    channels, frames = signal.shape
    m0 = 0.0 if kind == LOW_PASS else 1.0
    m1 = 0.0 if kind == LOW_PASS else (-k if kind == HIGH_PASS else -2.0 * k)
    m2 = 1.0 if kind == LOW_PASS else (-1.0 if kind == HIGH_PASS else 0.0)
    # Both channels side by side: one division serves them, and neither recursion waits for the other. A single one is
    # its own neighbour, whose result is not written.
    two = channels == 2
    left, right = signal[0], signal[channels - 1]
    s1, s2 = state[0]
    r1, r2 = state[channels - 1]
    for i in range(frames):
        w = g[i]
        a1 = 1.0 / (1.0 + w * (w + k))
        x, z = left[i], right[i]
        v1, u1 = a1 * s1 + w * a1 * (x - s2), a1 * r1 + w * a1 * (z - r2)
        v2, u2 = s2 + w * v1, r2 + w * u1
        s1, r1, s2, r2 = 2.0 * v1 - s1, 2.0 * u1 - r1, 2.0 * v2 - s2, 2.0 * u2 - r2
        left[i] = m0 * x + m1 * v1 + m2 * v2
        if two:
            right[i] = m0 * z + m1 * u1 + m2 * u2
    state[0, 0], state[0, 1] = flush(s1), flush(s2)
    if two:
        state[1, 0], state[1, 1] = flush(r1), flush(r2)


def second_order(signal: Array, g: Array, k: float, kind: int, state: Array) -> None:
    """Filter signal (channels, frames) in place; g (frames,), or (1,) where it stands still; state (channels, 2)."""
    if g.size > 1:
        _second_order_moving(signal, g, k, kind, state)
    else:
        filter_still(signal, _at_rest(float(g[0]), k, kind), state, False, signal)


@lru_cache(256)
def _at_rest(g: float, k: float, kind: int) -> Array:
    mixed = {LOW_PASS: (0.0, 0.0, 1.0), HIGH_PASS: (1.0, -k, -1.0), ALL_PASS: (1.0, -2.0 * k, 0.0)}
    return fixed(g, k, *mixed[kind])


@kernel("void(f8[:,::1], f8[::1], i8, f8[:,::1])")
def first_order(signal, g, kind, state):
    """Filter signal (channels, frames) in place, 6 dB/oct; as second_order."""
    channels, frames = signal.shape
    moves = g.size > 1
    for channel in range(channels):
        row = signal[channel]
        s = state[channel, 0]
        share = g[0] / (1.0 + g[0])
        for i in range(frames):
            if moves:
                share = g[i] / (1.0 + g[i])
            x = row[i]
            v = (x - s) * share
            low = v + s
            s = low + v
            row[i] = low if kind == LOW_PASS else x - low
        state[channel, 0] = flush(s)


def prewarped(frequency_hz: Array, sample_rate: int) -> Array:
    """g for frequencies of any shape."""
    angle = np.ascontiguousarray(np.pi / sample_rate * np.minimum(frequency_hz, OFF_NYQUIST * sample_rate))
    _tan(angle.reshape(-1))
    return angle


def _inverse_q(order: int, index: int, resonance: Any) -> Any:
    """1 / Q of a section; resonance raises the corner, by the sharpest of them."""
    k = 2.0 * math.sin((2 * index + 1) * math.pi / (2 * order))
    return k / resonance if index == 0 else k


@lru_cache(256)
def _resting(kind: int, order: int, hz: float, resonance: float, sample_rate: int) -> tuple[list[Array], Array]:
    """Coefficients of the sections of second order, and g (1,), of a cut that stands still: worked out once, since
    short blocks take no longer than that does.
    """
    g = prewarped(np.array([hz]), sample_rate)
    sections = [_at_rest(float(g[0]), float(_inverse_q(order, n, resonance)), kind) for n in range(order // 2)]
    return sections, g


class _Cascade:
    """The sections of one order, gliding; `going` once it is on its way out."""

    carried = ("glide", "_state")

    def __init__(
        self, kind: int, cutoff_hz: float, order: int, channels: int, sample_rate: int, resonance: float = 1.0
    ) -> None:
        self.kind, self.order, self._rate = kind, order, sample_rate
        self.glide = Glide([cutoff_hz, resonance], sample_rate)  # both evenly in their logarithm
        self._state = np.zeros(((order + 1) // 2, channels, 2))
        self._gone, self._gone_frames = 0, round(GONE_MS * 1e-3 * sample_rate)

    @property
    def stays(self) -> bool:
        """Whether it has not begun to fade out."""
        return self._gone == 0

    @property
    def gone(self) -> bool:
        """Whether one that was leaving does nothing any more."""
        return self._gone >= self._gone_frames

    def process(self, signal: Array) -> None:
        """Filter a signal (channels, frames) in place."""
        if not self.glide.moving:
            hz, resonance = self.glide.at_rest
            sections, g = _resting(self.kind, self.order, hz, resonance, self._rate)
            for section, state in zip(sections, self._state, strict=False):
                filter_still(signal, section, state, False, signal)
            if self.order % 2:
                first_order(signal, g, self.kind, self._state[-1])
            return
        hz, resonance = self.glide.step(signal.shape[1])
        g, goes = prewarped(hz, self._rate), resonance[0] != resonance[-1]
        for index in range(self.order // 2):
            k = self._k(index, resonance)
            if goes and index == 0:
                every = np.arange(g.size)
                each = self._columns(g, k)
                filter_swept(signal, each, each, every, np.zeros_like(every), 1, self._state[index])
            else:
                second_order(signal, g, float(k if index else k[0]), self.kind, self._state[index])
        if self.order % 2:
            first_order(signal, g, self.kind, self._state[-1])

    def _columns(self, g: Array, k: Any) -> Array:
        m0, m1, m2 = (0.0, 0.0, 1.0) if self.kind == LOW_PASS else (1.0, -k, -1.0)
        return columns(g, k, m0, m1, m2, g.size)

    def _k(self, index: int, resonance: Any) -> Any:
        return _inverse_q(self.order, index, resonance)

    def sweep(self, signal: Array, hz: tuple[Array, Array], resonance: tuple[Any, Any], rows: Swept) -> None:
        """Filter a signal in place while cutoff and resonance go along rows."""
        at, to = (prewarped(row, self._rate) for row in hz)
        for index in range(self.order // 2):
            ends = (self._columns(g, self._k(index, raised)) for g, raised in zip((at, to), resonance, strict=True))
            filter_swept(signal, *ends, rows.begins, rows.into, rows.length, self._state[index])
        if self.order % 2:
            first_order(signal, straight(at, to, rows, signal.shape[1]), self.kind, self._state[-1])
        self.glide.be([float(hz[1][-1]), float(np.ravel(resonance[1])[-1])])

    def leave(self, signal: Array) -> None:
        """As process, for one that leaves: once it takes nothing any more, what it still holds fades out."""
        still = max(0, min(signal.shape[1], self.glide.left_frames))
        plain = signal[:, still:].copy()
        self.process(signal)
        if plain.shape[1]:
            weight = fade_in(self._gone, plain.shape[1], self._gone_frames)
            signal[:, still:] += weight * (plain - signal[:, still:])
            self._gone += plain.shape[1]


class MovingCut:
    """A cut of kind "low_cut" or "high_cut", off at 0 Hz.

    Another cutoff is glided to; what is switched on comes from where it takes nothing, what is switched off goes there;
    another order comes as the old one goes.
    """

    carried = ("_here", "_leaving")

    def __init__(self, kind: str, *, channels: int, sample_rate: int) -> None:
        self._kind = HIGH_PASS if kind == "low_cut" else LOW_PASS
        self._channels, self._rate = channels, sample_rate
        self._off_hz = LOW_OFF_HZ if kind == "low_cut" else OFF_NYQUIST * sample_rate
        self._here: _Cascade | None = None
        self._leaving: list[_Cascade] = []

    def place(
        self, cutoff_hz: float, order: int, *, at_once: bool, frames: int | None = None, resonance_db: float = 0.0
    ) -> None:
        """Move the cut, in so many frames where that is said; at once before any sound has come."""
        here, resonance = self._here, 10.0 ** (resonance_db / 20.0)
        if here is not None and (cutoff_hz == 0.0 or here.order != order):
            here.glide.go([self._off_hz, 1.0])
            self._leaving.append(here)
            here = None
        if cutoff_hz > 0.0:
            if here is None:
                begin_hz = cutoff_hz if at_once else self._off_hz
                begin = begin_hz, order, self._channels, self._rate, resonance
                here = self._back(order) or _Cascade(self._kind, *begin)
            here.glide.go([cutoff_hz, resonance], frames)
        self._here = here

    def _back(self, order: int) -> _Cascade | None:
        """One of this order that has just set out to leave, taken back."""
        for place, cascade in enumerate(self._leaving):
            if cascade.order == order and cascade.stays:
                return self._leaving.pop(place)
        return None

    def sweep(
        self, signal: Array, hz: tuple[Array, Array], resonance_db: tuple[Any, Any], order: int, rows: Swept
    ) -> None:
        """Filter a signal in place while the cutoff goes along rows, from where each begins to where it ends."""
        if self._here is None:
            self._here = self._back(order) or _Cascade(self._kind, self._off_hz, order, self._channels, self._rate)
        raised = (10.0 ** (db / 20.0) for db in resonance_db)
        self._here.sweep(signal, hz, tuple(raised), rows)

    @property
    def acting(self) -> bool:
        """Whether it does anything."""
        return self._here is not None or bool(self._leaving)

    def process(self, signal: Array) -> None:
        """Filter a signal (channels, frames) in place."""
        for cascade in self._leaving:
            cascade.leave(signal)
        self._leaving = [cascade for cascade in self._leaving if not cascade.gone]
        if self._here is not None:
            self._here.process(signal)
