"""Bells and shelves that follow their analogue curve up to 18 kHz, where the cookbook's are squeezed by half the rate.

After M. Vicanek, "Matched Second Order Digital Filters" (2016): poles by impulse invariance, zeros fitted to the
magnitude of the analogue prototype. Here the fit is by least squares of the relative error of |H|^2 over a grid up to
18 kHz, weighed anew twice where the error is largest (C. L. Lawson's way to the smallest maximum), and for shelves one
Gauss-Newton step moves the poles first. Of a boost and the cut that mirrors it the one with the lower or narrower poles
is fitted, and the other is its inverse, so that both together change nothing.

All is done in the variable s = j tan(pi f / rate) / g of the filters of dsp.variable:

    H = (n2 s^2 + n1 s + n0) / (s^2 + k s + 1),   |numerator|^2 = n0^2 + (n1^2 - 2 n0 n2) u + n2^2 u^2,   u = |s|^2

so the fit is linear and well-conditioned at any frequency, and positive n and k make a stable filter and inverse.
"""

import math
from functools import lru_cache

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
TOP_HZ = 18000.0
GRID = np.linspace(0.03, 1.0, 24)
MOST_DB, STEPS_PER_DB = 84, 1  # a band at rest and its movement together; one row of the table each dB
NYQUIST = 1e-4  # the least magnitude there, and next to nothing of n1
G, K, M0, M1, M2 = range(5)


def _prototype(shape: str, a: Array, q: float, ratio: Array) -> Array:
    """|H|^2 of the cookbook's analogue bell or shelf, a = 10^(gain / 40), at ratio = f / f0."""
    s = 1j * ratio
    if shape == "bell":
        h = (s * s + s * a / q + 1.0) / (s * s + s / (a * q) + 1.0)
    elif shape == "low_shelf":
        h = a * (s * s + s * np.sqrt(a) / q + a) / (a * s * s + s * np.sqrt(a) / q + 1.0)
    else:
        h = a * (a * s * s + s * np.sqrt(a) / q + 1.0) / (s * s + s * np.sqrt(a) / q + a)
    return np.asarray(np.abs(h) ** 2)


def _poles(pole: Array, damping: Array) -> tuple[Array, Array]:
    """g and k of poles by impulse invariance, at pole (radians a frame) with this damping."""
    decay, turn = np.exp(-damping * pole), np.sqrt(np.abs(1.0 - damping**2)) * pole
    a1 = -2.0 * decay * np.where(damping <= 1.0, np.cos(turn), np.cosh(np.minimum(turn, 300.0)))
    a2 = decay * decay
    at_nyquist = 1.0 - a1 + a2
    g = np.sqrt((1.0 + a1 + a2) / at_nyquist)
    return g, 2.0 * (1.0 - a2) / at_nyquist / g


class _Fit:
    """Zeros for poles, by least squares; each row is one gain."""

    def __init__(self, warped: Array, wanted: Array, n0: Array) -> None:
        self._warped, self._wanted, self._n0 = warped, wanted, n0

    def of(self, at: Array, weight: Array | float = 1.0) -> tuple[Array, Array]:
        """(g, k, n0, n1, n2) and the error in dB over the grid; at: logarithms of pole and damping (2, rows)."""
        g, k = _poles(*np.exp(at))
        u = (self._warped / g[:, None]) ** 2
        share = 1.0 / (self._wanted * ((1.0 - u) ** 2 + k[:, None] ** 2 * u))
        n0 = self._n0
        first, second = weight * u * share, weight * u * u * share
        left = weight * (1.0 - n0[:, None] ** 2 * share)
        s11, s12, s22 = (first * first).sum(1), (first * second).sum(1), (second * second).sum(1)
        v1, v2 = (first * left).sum(1), (second * left).sum(1)
        c2 = np.maximum((s11 * v2 - s12 * v1) / (s11 * s22 - s12 * s12), NYQUIST**2)
        c1, n2 = (v1 - s12 * c2) / s11, np.sqrt(c2)
        n1 = np.sqrt(np.maximum(c1 + 2.0 * n0 * n2, NYQUIST * n0 * n2))
        made = (n0[:, None] - n2[:, None] * u) ** 2 + n1[:, None] ** 2 * u
        return np.stack([g, k, n0, n1, n2]), 10.0 * np.log10(made * share)

    def move(self, at: Array, error: Array) -> Array:
        """Poles after one damped Gauss-Newton step."""
        step = 1e-4
        slopes = [(self.of(at + step * np.eye(2)[:, [i]])[1] - error) / step for i in (0, 1)]
        s11, s22 = ((slope * slope).sum(1) + 1.0 for slope in slopes)
        s12 = (slopes[0] * slopes[1]).sum(1)
        v1, v2 = ((slope * error).sum(1) for slope in slopes)
        moved = -np.stack([s22 * v1 - s12 * v2, s11 * v2 - s12 * v1]) / (s11 * s22 - s12 * s12)
        return at + np.clip(moved, -0.15, 0.15)


def matched(shape: str, *, freq_hz: float, q: float, gains_db: Array, sample_rate: int) -> Array:
    """Rows g, k, m0, m1, m2 (5, gains) of the filters m0 x + m1 v1 + m2 v2 of dsp.variable for each gain in dB."""
    a = 10.0 ** (np.abs(gains_db) / 40.0)
    radians = 2.0 * math.pi * min(freq_hz, 0.49 * sample_rate) / sample_rate
    damping = 1.0 / (2.0 * a * q) if shape == "bell" else np.full(a.shape, 1.0 / (2.0 * q))
    pole = np.full(a.shape, radians) if shape == "bell" else radians / np.sqrt(a)
    inverse = gains_db > 0.0 if shape == "high_shelf" else gains_db < 0.0
    direct = 1.0 / a if shape == "high_shelf" else a
    top = min(2.0 * math.pi * TOP_HZ / sample_rate, 3.0)
    own = np.stack([np.full(a.shape, radians)] * 3 + [pole, pole, radians**2 / pole], axis=1)
    grid = np.concatenate([np.broadcast_to(GRID * top, (a.size, GRID.size)), np.minimum(own, top)], axis=1)
    wanted = _prototype(shape, direct[:, None], q, grid / radians)
    fit = _Fit(np.tan(0.5 * grid), wanted, direct**2 if shape == "low_shelf" else np.ones(a.shape))

    at = np.log(np.stack([pole, damping]))
    best, error = fit.of(at)
    if shape != "bell":
        at = fit.move(at, error)
        best, error = _better(best, error, *fit.of(at))
    weight = np.ones(grid.shape)
    now = error
    for _ in range(2):
        far = np.abs(now)
        most = far.max(1, keepdims=True)
        weight = weight * np.sqrt((far + 0.1 * most + 1e-9) / (1.1 * most + 1e-9))
        made, now = fit.of(at, weight)
        best, error = _better(best, error, made, now)
    g, k, n0, n1, n2 = best
    turned = np.stack([g * np.sqrt(n0 / n2), n1 / np.sqrt(n0 * n2), 1 / n0, k / np.sqrt(n0 * n2), 1 / n2])
    g, k, n0, n1, n2 = np.where(inverse, turned, best)
    return np.stack([g, k, n2, n1 - k * n2, n0 - n2])


def _better(best: Array, error: Array, made: Array, now: Array) -> tuple[Array, Array]:
    """Of two fits, row by row, the one whose largest error is smaller."""
    wins = np.abs(now).max(1) < np.abs(error).max(1)
    return np.where(wins, made, best), np.where(wins[:, None], now, error)


@lru_cache(512)
def matched_one(shape: str, freq_hz: float, q: float, gain_db: float, sample_rate: int) -> tuple[float, ...]:
    """g, k, m0, m1, m2 for one gain."""
    rows = matched(shape, freq_hz=freq_hz, q=q, gains_db=np.array([gain_db]), sample_rate=sample_rate)
    return tuple(float(value) for value in rows[:, 0])


@lru_cache(2048)  # 7 kB each: of sixteen bands that sweep ten octaves
def matched_table(shape: str, freq_hz: float, q: float, sample_rate: int) -> Array:
    """Rows g, k, m0 - 1, m1, m2 (steps, 5) for gains from -MOST_DB to MOST_DB: what the filter adds to its input."""
    gains_db = np.arange(-MOST_DB * STEPS_PER_DB, MOST_DB * STEPS_PER_DB + 1) / STEPS_PER_DB
    rows = matched(shape, freq_hz=freq_hz, q=q, gains_db=gains_db, sample_rate=sample_rate)
    rows[M0] -= 1.0
    return np.ascontiguousarray(rows.T)
