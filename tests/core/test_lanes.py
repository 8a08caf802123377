"""Two channels as one pair of numbers: the same filters whatever stands beside them."""

import numpy as np
import pytest
import scipy.signal

from reins.core.dsp.compiled import kernel
from reins.core.dsp.filters import butterworth_cut, run_sections
from reins.core.dsp.lanes import first, pair, second
from tests.conftest import RATE


@kernel("void(f8[::1], f8[::1], f8[::1])")
def reckon(one, other, out):
    a, b = pair(one[0], one[1]), pair(other[0], other[1])
    made = 2.0 * (a + b) - a * b * 0.5
    out[0], out[1] = first(made), second(made)


def test_pairs_reckon_as_two_numbers_do():
    one, other, out = np.array([1.25, -3.0]), np.array([0.1, 7.0]), np.empty(2)

    reckon(one, other, out)

    np.testing.assert_array_equal(out, 2.0 * (one + other) - one * other * 0.5)


@pytest.mark.parametrize("order", [2, 4, 6])
@pytest.mark.parametrize("channels", [1, 2, 3, 5])
def test_sections_filter_any_number_of_channels_as_scipy_does(channels, order):
    sections = butterworth_cut("low_cut", cutoff_hz=300.0, order=order, sample_rate=RATE)
    sound = np.random.default_rng(order).standard_normal((channels, 3000))
    made, state = sound.copy(), np.zeros((len(sections), channels, 2))

    for part in np.split(made, [1, 700, 701], axis=1):
        piece = np.ascontiguousarray(part)
        run_sections(sections, state, piece)
        part[:] = piece

    wanted = scipy.signal.sosfilt(scipy.signal.butter(order, 300.0, "high", fs=RATE, output="sos"), sound)
    np.testing.assert_allclose(made, wanted, atol=1e-9)
    alone = np.ascontiguousarray(sound[-1:])
    run_sections(sections, np.zeros((len(sections), 1, 2)), alone)
    np.testing.assert_array_equal(alone[0], made[-1])
