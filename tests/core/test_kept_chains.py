"""Old chains give the samples they gave before."""

import numpy as np
import pytest

from reins.core.processors import PROCESSORS
from tests.reference.kept_chains import CHAINS, KEPT, samples_of


@pytest.mark.parametrize("number", range(len(CHAINS)))
def test_an_old_chain_gives_the_samples_it_gave_before(number):
    kept = np.load(KEPT)["arr_0"][number]
    made = samples_of(CHAINS[number])
    # Another machine may round otherwise: its vector units differ.
    np.testing.assert_allclose(made, kept, atol=1e-9, rtol=0)
    assert np.abs(kept).max() > 0.01


def test_the_kept_chains_cover_every_type_that_stood_then():
    assert {kind for chain in CHAINS for kind, _ in chain} <= PROCESSORS.keys()
    assert len({kind for chain in CHAINS for kind, _ in chain}) == 8 and len(CHAINS) == 20
