"""What tests of processors that work by frequency share: running, measuring, the formulas of the cookbook."""

import functools

import numpy as np

from reins.core.chainfile import parse_entry
from reins.core.engine.chain import Chain
from tests.conftest import RATE

FRAMES = 1 << 16
BINS = np.unique(np.rint(np.geomspace(20, 20000, 200) * FRAMES / RATE).astype(int))
FREQUENCIES = BINS * RATE / FRAMES  # lines of the discrete Fourier transform, so that an answer is read quickly


def chain_of(kind, values, *, channels=1, keys=None):
    entry = parse_entry({"type": kind, "settings": values}, "test")
    return Chain([entry], channels=channels, sample_rate=RATE, key_channels=keys or {})


def run(kind, signal, *, hears=None, **values):
    """(result, gains by name), lined up with signal (channels, frames)."""
    chain = chain_of(kind, values, channels=signal.shape[0], keys={"k": hears.shape[0]} if hears is not None else None)
    late = chain.latency_frames
    pad = functools.partial(np.pad, pad_width=((0, 0), (0, late)))
    out = chain.process(pad(signal), {} if hears is None else {"k": pad(hears)})
    return out[:, late:], {name: row[late:] for name, row in chain.gains()[0][1].items()}


def measured(kind, **values):
    """Complex response at FREQUENCIES of a processor at rest, from its impulse response."""
    out, _ = run(kind, 1e-3 * np.eye(1, FRAMES), **values)
    return np.fft.rfft(1e3 * out[0])[BINS]


def db(x):
    return 20 * np.log10(np.maximum(np.abs(x), 1e-9))


def level_db(x):
    return db(np.sqrt(np.mean(np.square(x))))


def sine(hz, level, seconds=1.0):
    """It fades in, so that its beginning is not heard at every frequency."""
    t = np.arange(round(seconds * RATE)) / RATE
    rise = np.sin(0.5 * np.pi * np.minimum(t / 0.1, 1.0)) ** 2
    return (10 ** (level / 20) * rise * np.sin(2 * np.pi * hz * t))[None]


def cookbook(shape, hz, q, gain_db):
    """R. Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter coefficients", as printed."""
    a, w = 10 ** (gain_db / 40), 2 * np.pi * hz / RATE
    cos, alpha = np.cos(w), np.sin(w) / (2 * q)
    if shape == "bell":
        return [1 + alpha * a, -2 * cos, 1 - alpha * a], [1 + alpha / a, -2 * cos, 1 - alpha / a]
    s = 1 if shape == "low_shelf" else -1
    root = 2 * np.sqrt(a) * alpha
    b = [
        a * (a + 1 - s * (a - 1) * cos + root),
        s * 2 * a * (a - 1 - s * (a + 1) * cos),
        a * (a + 1 - s * (a - 1) * cos - root),
    ]
    return b, [a + 1 + s * (a - 1) * cos + root, -s * 2 * (a - 1 + s * (a + 1) * cos), a + 1 + s * (a - 1) * cos - root]
