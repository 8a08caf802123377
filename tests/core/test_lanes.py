"""Two channels as one pair of numbers: the same filters whatever stands beside them."""

import numpy as np
import pytest
import scipy.signal

from reins.core.dsp.compiled import kernel
from reins.core.dsp.filters import butterworth_cut, run_sections
from reins.core.dsp.lanes import first, fourth, louder, pair, quad, second, third
from reins.core.dsp.watching import watch_regions
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


@kernel("void(f8[::1], f8[::1], f8[::1], f8[::1])")
def reckon_four(one, other, out, most):
    a, b = quad(one[0], one[1], one[2], one[3]), quad(other[0], other[1], other[2], other[3])
    made = a - 3.0 * b
    out[0], out[1], out[2], out[3] = first(made), second(made), third(made), fourth(made)
    made = louder(made)
    most[0], most[1] = first(made), third(made)


def test_four_reckon_as_four_numbers_do_and_the_louder_of_neighbours_is_told():
    one, other, out, most = np.array([1.25, -3.0, 2.0, -8.0]), np.array([0.1, 7.0, 0.5, 0.25]), np.empty(4), np.empty(2)

    reckon_four(one, other, out, most)

    np.testing.assert_array_equal(out, one - 3.0 * other)
    np.testing.assert_array_equal(most, np.abs(out).reshape(2, 2).max(axis=1))


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("bands", [3, 4, 7, 8])
def test_regions_watched_together_are_those_watched_alone_to_the_bit(channels, bands):
    rng = np.random.default_rng(bands)
    sound = rng.standard_normal((channels, 400))
    coefficients = np.column_stack([rng.uniform(0.1, 0.9, (bands, 3)), rng.uniform(-1.0, 1.0, (bands, 3))])
    coefficients[: bands // 2, [3, 5]] = 0.0  # bells, the others shelves
    rows, places = rng.permutation(bands), rng.permutation(bands)
    state, made = np.zeros((bands, 2, 2)), np.empty((bands, 400))

    watch_regions(sound, rows, places, coefficients, state, made)

    for band in range(bands):
        alone, one = np.zeros((1, 2, 2)), np.empty((1, 400))
        zero = np.zeros(1, np.int64)
        watch_regions(sound, zero, zero, coefficients[[band]], alone, one)
        np.testing.assert_array_equal(made[rows[band]], one[0])
        np.testing.assert_array_equal(state[places[band], :channels], alone[0, :channels])


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
