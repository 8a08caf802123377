"""Logarithm and power for levels and gains, as passes that vectorise: polynomials on the bits of the float.

Helpers of the kernels in other files, compiled into them; see dsp.compiled for what that asks of the cache.
"""

import numpy as np

from reins.core.dsp.compiled import fused, inlined

FLOOR_AMPLITUDE = 1e-6  # -120 dB
DB_PER_LOG2 = 6.020599913279624  # 20 log10(2)
LOG2_PER_DB = 1.0 / DB_PER_LOG2
TWO_OVER_LN2 = 2.8853900817779268
SQRT_HALF_BITS = 0x3FE6A09E667F3BCD
BIAS_BITS = 1023 << 52
ROUND = 6755399441055744.0  # 1.5 * 2**52: adding it rounds to an integer left in the low bits
EXPONENT_AS_FLOAT = 0x4330000000000000  # the bits of 2**52
TWO_52 = 4503599627370496.0


@inlined
def largest_bits(bits, count):
    """The bits of the largest of positive numbers: they sort alike, and only an integer maximum vectorises."""
    top = np.int64(0)
    for i in range(count):
        top = bits[i] if bits[i] > top else top
    return top


@inlined
def _part_exponents(bits, work_bits, count):
    """Leave mantissas near 1 in bits, and the exponents, as floats, in work."""
    for i in range(count):
        shifted = bits[i] - SQRT_HALF_BITS + BIAS_BITS
        exponent = shifted >> 52
        bits[i] = bits[i] - ((exponent - 1023) << 52)
        work_bits[i] = exponent | EXPONENT_AS_FLOAT


@inlined
def _raise_by(work_bits, out_bits, count):
    """Multiply by 2 to the whole numbers in the low bits of work."""
    for i in range(count):
        out_bits[i] = out_bits[i] + (work_bits[i] << 52)


@inlined
def amplitude_to_db(values, bits, work, work_bits, count):
    """Replace amplitudes (at least the floor) by dB; log2 of the mantissa as an atanh series, error below 1e-8 dB."""
    _part_exponents(bits, work_bits, count)
    for i in range(count):
        m = values[i]
        s = (m - 1.0) / (m + 1.0)
        q = s * s
        series = 1.0 + q * (1 / 3 + q * (1 / 5 + q * (1 / 7 + q * (1 / 9 + q * (1 / 11)))))
        values[i] = DB_PER_LOG2 * ((work[i] - (TWO_52 + 1023.0)) + TWO_OVER_LN2 * s * series)


@inlined
def db_to_amplitude(db, out, out_bits, work, work_bits, count):
    """out = 10^(db/20) by 2^n times a polynomial of degree 9; exactly 1 at 0 dB, error below 1e-9 dB."""
    for i in range(count):
        t = db[i] * LOG2_PER_DB
        rounded = t + ROUND
        f = (t - (rounded - ROUND)) * 0.6931471805599453
        work[i] = rounded
        p = 1 / 5040 + f * (1 / 40320 + f * (1 / 362880))
        out[i] = 1.0 + f * (1.0 + f * (1 / 2 + f * (1 / 6 + f * (1 / 24 + f * (1 / 120 + f * (1 / 720 + f * p))))))
    _raise_by(work_bits, out_bits, count)


# For many bands at once: polynomials by E. Estrin's scheme, products and sums rounded once. Half the time of those
# above, as exact, with other last bits. A vector rounds as its remainder does (tests/core/test_decibels.py).


@fused
def amplitudes_to_db(values, bits, work, work_bits, count):
    """As amplitude_to_db."""
    _part_exponents(bits, work_bits, count)
    for i in range(count):
        m = values[i]
        s = (m - 1.0) / (m + 1.0)
        q = s * s
        series = (1.0 + q * (1 / 3)) + q * q * ((1 / 5 + q * (1 / 7)) + q * q * (1 / 9 + q * (1 / 11)))
        values[i] = DB_PER_LOG2 * ((work[i] - (TWO_52 + 1023.0)) + TWO_OVER_LN2 * s * series)


@fused
def dbs_to_amplitude(db, out, out_bits, work, work_bits, count):
    """As db_to_amplitude."""
    for i in range(count):
        t = db[i] * LOG2_PER_DB
        rounded = t + ROUND
        f = (t - (rounded - ROUND)) * 0.6931471805599453
        work[i] = rounded
        f2 = f * f
        high = (1 / 24 + f * (1 / 120)) + f2 * ((1 / 720 + f * (1 / 5040)) + f2 * (1 / 40320 + f * (1 / 362880)))
        out[i] = ((1.0 + f) + f2 * (1 / 2 + f * (1 / 6))) + f2 * f2 * high
    _raise_by(work_bits, out_bits, count)
