"""Logarithm and power by polynomials against numpy, and that a part of a sound gets the bits of the whole."""

import numpy as np
import pytest

from reins.core.dsp.compiled import kernel
from reins.core.dsp.decibels import amplitude_to_db, amplitudes_to_db, db_to_amplitude, dbs_to_amplitude

SIZE = 517  # a vector leaves a remainder
LEVELS = "void(f8[::1], i8[::1], f8[::1], i8[::1], i8)"
GAINS = "void(f8[::1], f8[::1], i8[::1], f8[::1], i8[::1], i8)"


@kernel(LEVELS)
def one_to_db(level, level_bits, work, work_bits, count):
    amplitude_to_db(level, level_bits, work, work_bits, count)


@kernel(LEVELS)
def all_to_db(level, level_bits, work, work_bits, count):
    amplitudes_to_db(level, level_bits, work, work_bits, count)


@kernel(GAINS)
def one_to_amplitude(db, out, out_bits, work, work_bits, count):
    db_to_amplitude(db, out, out_bits, work, work_bits, count)


@kernel(GAINS)
def all_to_amplitude(db, out, out_bits, work, work_bits, count):
    dbs_to_amplitude(db, out, out_bits, work, work_bits, count)


PASSES = {
    "amplitude_to_db": one_to_db, "amplitudes_to_db": all_to_db,
    "db_to_amplitude": one_to_amplitude, "dbs_to_amplitude": all_to_amplitude,
}  # fmt: skip


def to_db(passes, amplitudes):
    out, work = amplitudes.copy(), np.empty(amplitudes.size)
    PASSES[passes](out, out.view(np.int64), work, work.view(np.int64), out.size)
    return out


def to_amplitude(passes, db):
    out, work = np.empty(db.size), np.empty(db.size)
    PASSES[passes](db, out, out.view(np.int64), work, work.view(np.int64), db.size)
    return out


@pytest.mark.parametrize("passes", ["amplitude_to_db", "amplitudes_to_db"])
def test_levels_are_those_of_the_logarithm(passes):
    amplitudes = np.geomspace(1e-6, 30.0, SIZE)

    np.testing.assert_allclose(to_db(passes, amplitudes), 20.0 * np.log10(amplitudes), atol=1e-8)


@pytest.mark.parametrize("passes", ["db_to_amplitude", "dbs_to_amplitude"])
def test_gains_are_those_of_the_power(passes):
    db = np.linspace(-130.0, 40.0, SIZE)

    np.testing.assert_allclose(20.0 * np.log10(to_amplitude(passes, db)), db, atol=1e-9)
    assert to_amplitude(passes, np.zeros(1))[0] == 1.0


@pytest.mark.parametrize(
    ("convert", "passes"),
    [
        (to_db, "amplitude_to_db"), (to_db, "amplitudes_to_db"), (to_amplitude, "db_to_amplitude"),
        (to_amplitude, "dbs_to_amplitude"),
    ],
)  # fmt: skip
def test_a_part_gets_the_bits_of_the_whole(convert, passes):
    values = np.random.default_rng(2).uniform(1e-3, 4.0, SIZE)
    whole = convert(passes, values)

    for start in range(0, SIZE, 3):
        np.testing.assert_array_equal(convert(passes, values[start : start + 7].copy()), whole[start : start + 7])
