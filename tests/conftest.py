"""Shared fixtures: a rate, seeded noise, sines and a folder for takes."""

import numpy as np
import pytest

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
