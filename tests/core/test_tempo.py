"""Another tempo while it plays: what reins by the beat move goes over to it, like every other change."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry, parse_reins
from reins.core.engine.mixer import Mixer
from reins.core.sessions import Document, Track
from reins.core.time import Stream
from tests.conftest import RATE, sound_of

BLOCK = 1200
TONE = 0.5 * np.cos(2 * np.pi * 107.0 * np.arange(4 * RATE) / RATE) * np.ones((2, 1))  # no block begins at a zero
LINE = [[0, 0], [0.5, 1], [1, 0]]


def playing(**more):
    """A tone under a level that a rein turns up and down by the beat."""
    entry = parse_entry({"id": "p", "type": "level", "settings": {"gain_db": -12.0}}, "x")
    rein = {"id": "r", "moves": [{"what": "p.gain_db", "to": 0.0}], "by": {"kind": "beat", "beats": 1, "points": LINE}}
    track = Track(name="T", take_id="a", chain=[entry], reins=parse_reins([rein]))
    document = Document(name="x", sample_rate=RATE, tracks={"t": track}, order=["t"], **more)
    mixer = Mixer(document, {"a": sound_of(TONE)})
    mixer.start(Stream(0))
    return mixer, document


def steepest(sound):
    return np.abs(np.diff(sound[0])).max()


@pytest.mark.parametrize("change", [{"tempo_bpm": 77.0}, {"tempo_bpm": 200.0}, {"beats_per_bar": 7}])
def test_another_tempo_makes_no_step(change):
    alone = steepest(TONE)
    for blocks in range(20, 44, 3):  # wherever the line is
        mixer, document = playing()
        before = [mixer.process(BLOCK) for _ in range(blocks)]
        mixer.change(document.model_copy(update=change))
        sound = np.concatenate([*before, *(mixer.process(BLOCK) for _ in range(40))], axis=1)

        around = sound[:, blocks * BLOCK - 100 : blocks * BLOCK + 1200]
        assert steepest(around) <= 1.5 * alone, (change, blocks)

    other, _ = playing(**change)
    whole = np.concatenate([other.process(BLOCK) for _ in range(blocks + 40)], axis=1)
    np.testing.assert_allclose(
        sound[:, -10 * BLOCK :], whole[:, -10 * BLOCK :], atol=1e-9
    )  # and then it is the other's
