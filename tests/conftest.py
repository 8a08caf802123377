"""Shared fixtures: a rate, seeded noise, sines and a folder for takes."""

import fcntl
from functools import cache
from pathlib import Path

import hypothesis
import numpy as np
import pytest

from reins.core.finding.excerpt import Excerpt
from reins.core.measure.spectra import spectrum_in_twelfths
from reins.core.processors.base import alone
from reins.core.sound import TakeFacts
from reins.core.takes import Take, write_take
from reins.core.twins import twin_of
from reins.demo import build
from reins.services.bringing_in import ensure_demo
from reins.services.house import House
from tests.kept_parts import keep_parts
from tests.shorter import shorter_parts

RATE = 48000
keep_parts()
# The same examples in every run: what is random is attacked by `make soak`.
hypothesis.settings.register_profile("fixed", derandomize=True)
hypothesis.settings.load_profile("fixed")


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


@pytest.fixture(scope="session")
def demo_data(tmp_path_factory, worker_id):
    """A data folder with the demo session, shorter (tests.shorter), made by the first worker to ask; to be copied."""
    base = tmp_path_factory.getbasetemp()
    made = (base if worker_id == "master" else base.parent) / "demo"
    with Path(f"{made}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not made.exists():
            part = made.with_suffix(".part")
            house = House(part)
            with pytest.MonkeyPatch.context() as patch:
                patch.setattr(build, "make_parts", shorter_parts)
                ensure_demo(house, lambda *_: None)
            house.close()
            part.rename(made)
    return made


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

    def peak_columns(self, start, frames, columns):
        return Excerpt(self, [(start, start + frames)]).peak_columns(0, frames, columns)

    @cache  # noqa: B019 - as long as the test
    def spectrum(self):
        return spectrum_in_twelfths(self)


def kept(samples):
    """What a take keeps of samples below full scale: 24 bits."""
    return np.rint(samples.astype(np.float32).astype(float) * 2**23) / 2**23


class Played:
    """A processor that is handed plain sound, and its key: tests of one processor read so."""

    def __init__(self, processor):
        self.processor = processor

    def process(self, sound, key=None):
        block = alone(sound, RATE)
        block.keys = {} if key is None else {"kick": key}
        return self.processor.process(block)

    def __getattr__(self, name):
        return getattr(self.__dict__["processor"], name)

    def __deepcopy__(self, memo):
        return Played(twin_of(self.processor))
