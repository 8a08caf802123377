"""Kick, snare with its neighbours bleeding in, hats and a stereo room; with the faults planted in them."""

from functools import cache

import numpy as np
import scipy.signal

from reins.demo.score import BARS, CHORUS, RATE, Array, decay, lin, peak_at, place, silence, time_of

KICK_HZ = 46.0
# Fault: kick hits of uneven strength. dB below the strongest, in turn over the hits.
KICK_STRENGTHS_DB = (0.0, -5.0, -1.0, -9.0, -2.5, -7.0, -0.5, -11.0, -3.0, -6.0)
KICK_STEPS = (0, 6, 8, 10)
KICK_CHORUS_STEPS = (0, 3, 8, 10, 14)

SNARE_ACCENT_STEPS = (4, 12)
SNARE_GHOST_STEPS = (7, 9, 15)
SNARE_GHOST_DB = -18.0
# Fault: the snare rings. A partial this far below the hit's own peak that takes this long to fall 60 dB.
SNARE_RING_HZ = 417.0
SNARE_RING_DB = -14.0
SNARE_RING_S = 1.6
# The snare's microphone hears its neighbours: level of their peaks below that of a full hit.
SNARE_BLEED_KICK_DB = -30.0
SNARE_BLEED_HATS_DB = -34.0


def kick_steps(bar: int) -> tuple[int, ...]:
    """Sixteenths on which the kick falls."""
    return () if bar == 0 else KICK_CHORUS_STEPS if bar in CHORUS else KICK_STEPS


def kick_hits() -> list[tuple[float, float]]:
    """(seconds, dB below the strongest) of every hit."""
    times = [time_of(bar, step) for bar in range(BARS) for step in kick_steps(bar)]
    return [(at, KICK_STRENGTHS_DB[i % len(KICK_STRENGTHS_DB)]) for i, at in enumerate(times)]


def snare_hits() -> list[tuple[float, float]]:
    """(seconds, dB below a full hit) of every hit, ghosts included."""
    hits = []
    for bar in range(1, BARS):
        hits += [(time_of(bar, step), 0.0 if bar in CHORUS else -3.0) for step in SNARE_ACCENT_STEPS]
        hits += [(time_of(bar, step) + 0.004, SNARE_GHOST_DB) for step in SNARE_GHOST_STEPS]
    return sorted(hits)


def _kick_sound() -> Array:
    t = np.arange(round(0.45 * RATE)) / RATE
    sweep = KICK_HZ * t + 130.0 * 0.018 * (1.0 - np.exp(-t / 0.018))
    body = np.sin(2 * np.pi * sweep) * decay(0.45, 0.5)
    rng = np.random.default_rng(101)
    beater = scipy.signal.sosfilt(
        scipy.signal.butter(2, [1800, 5000], "bandpass", fs=RATE, output="sos"), rng.standard_normal(t.size)
    ) * decay(0.45, 0.02)
    sound = body + 0.5 * beater
    return np.asarray(sound / np.abs(sound).max())


def make_kick() -> Array:
    """Mono take; strongest hit at -3 dB."""
    take, sound = silence(), _kick_sound()
    for at, strength_db in kick_hits():
        place(take, sound, at, lin(strength_db))
    return peak_at(take, -3.0)


@cache
def _snare_sound(seed: int) -> Array:
    rng = np.random.default_rng(seed)
    n = round(SNARE_RING_S * RATE)
    t = np.arange(n) / RATE
    wires = scipy.signal.sosfilt(
        scipy.signal.butter(2, [800, 6500], "bandpass", fs=RATE, output="sos"), rng.standard_normal(n)
    ) * decay(SNARE_RING_S, 0.26)
    shell = np.sin(2 * np.pi * 186 * t) * decay(SNARE_RING_S, 0.18) + 0.5 * np.sin(2 * np.pi * 331 * t) * decay(
        SNARE_RING_S, 0.12
    )
    hit = 3.4 * wires + shell
    hit /= np.abs(hit).max()
    ring = np.sin(2 * np.pi * SNARE_RING_HZ * t) * decay(SNARE_RING_S, SNARE_RING_S)
    return np.asarray(hit + lin(SNARE_RING_DB) * ring)


def make_snare(kick: Array, hats: Array) -> Array:
    """Mono take of the close microphone; strongest hit near -3 dB, kick and hats bleeding in."""
    take = silence()
    for index, (at, strength_db) in enumerate(snare_hits()):
        place(take, _snare_sound(200 + index % 7), at, lin(strength_db))
    take /= np.abs(take).max()
    take += peak_at(kick, SNARE_BLEED_KICK_DB) + peak_at(hats, SNARE_BLEED_HATS_DB)
    return peak_at(take, -3.0)


def make_hats() -> Array:
    """Mono take: eighths with accents, an open one into every fourth bar."""
    take = silence()
    rng = np.random.default_rng(303)
    band = scipy.signal.butter(2, [5500, 11000], "bandpass", fs=RATE, output="sos")
    for bar in range(BARS):
        for step in range(0, 16, 2):
            opened = bar % 4 == 3 and step == 14
            length = 0.5 if opened else 0.12
            noise = scipy.signal.sosfilt(band, rng.standard_normal(round(length * RATE)))
            gain_db = (0.0 if step % 4 == 0 else -7.0) + rng.uniform(-2, 1) - (4.0 if bar < 2 else 0.0)
            place(
                take,
                noise * decay(length, 0.6 if opened else 0.09),
                time_of(bar, step) + rng.normal(0, 0.002),
                lin(gain_db),
            )
    return peak_at(take, -6.0)


def make_room(kick: Array, snare: Array, hats: Array) -> Array:
    """Stereo take: the drums in a tiled hall, half a second long, the kit off centre a little."""
    rng = np.random.default_rng(404)
    kit = peak_at(kick, -6.0) + peak_at(snare, -4.0) + peak_at(hats, -14.0)
    low = scipy.signal.butter(2, 7000, fs=RATE, output="sos")
    sides = []
    for first_ms in (7.0, 9.5):
        tail = scipy.signal.sosfilt(low, rng.standard_normal(round(0.9 * RATE))) * decay(0.9, 0.85)
        response = np.concatenate([np.zeros(round(first_ms * RATE / 1000)), [4.0], 0.25 * tail])
        sides.append(scipy.signal.fftconvolve(kit[0], response)[: kit.shape[1]])
    return peak_at(np.stack(sides), -6.0)
