"""Shared fixtures: a rate, seeded noise, sines and a folder for takes."""

import numpy as np
import pytest

from reins.core.sound import TakeFacts
from reins.core.takes import Take, write_take

RATE = 48000


@pytest.fixture
def noise():
    """Stereo noise in bursts, 0.5 s."""
    rng = np.random.default_rng(11)
    shape = np.repeat(rng.random(24) ** 2, 1000)
    return np.ascontiguousarray(rng.standard_normal((2, 24000)).clip(-3.3, 3.3) * 0.3 * shape)


@pytest.fixture
def make_take(tmp_path):
    """Writes samples (channels, frames) as a take and opens it."""

    def make(samples, name="take"):
        folder = tmp_path / name
        write_take(folder, [samples], channels=samples.shape[0], sample_rate=RATE)
        return Take(folder)

    return make


class sound_of:  # noqa: N801 - reads as a function
    """A sound whose samples (channels, frames) are at hand."""

    def __init__(self, samples):
        self._samples = samples
        self.facts = TakeFacts(samples.shape[0], RATE, samples.shape[1])

    def read(self, start, frames):
        first, last = max(start, 0), min(start + frames, self.facts.frames)
        inside = self._samples[:, first : max(last, first)]
        return np.pad(
            inside, ((0, 0), (min(first - start, frames), max(frames - (first - start) - inside.shape[1], 0)))
        )


def kept(samples):
    """What a take keeps of samples below full scale: 24 bits."""
    return np.rint(samples.astype(np.float32).astype(float) * 2**23) / 2**23
