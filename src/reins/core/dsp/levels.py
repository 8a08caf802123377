"""Peak and energy of a block, in one pass: meters ask for hundreds of them with every block that is heard."""

import numpy as np

from reins.core.dsp.compiled import brief


@brief("f8(f8[:,::1])")
def peak(block):
    """Largest magnitude in a block (channels, frames); 0 when it is empty."""
    top = 0.0
    for channel in range(block.shape[0]):
        for i in range(block.shape[1]):
            top = max(top, abs(block[channel, i]))
    return top


EXPONENT_BITS = np.int64(0x7FF0000000000000)  # all set where a float is infinite or not a number


@brief("b1(f8[:,::1])")
def is_finite(block):
    """Whether every sample of a block (channels, frames) is finite; on the bits, so that it vectorises."""
    found = np.int64(0)
    for channel in range(block.shape[0]):
        bits = block[channel].view(np.int64)
        for i in range(bits.size):
            found += np.int64((bits[i] & EXPONENT_BITS) == EXPONENT_BITS)
    return found == 0


@brief("void(f8[:,::1], f8[::1])")
def peak_and_energy(block, out):
    """Largest magnitude and sum of squares of a block (channels, frames), into out (2,)."""
    top = 0.0
    energy = 0.0
    for channel in range(block.shape[0]):
        for i in range(block.shape[1]):
            value = block[channel, i]
            top = max(top, abs(value))
            energy += value * value
    out[0], out[1] = top, np.float64(energy)


@brief("f8(f8[::1])")
def furthest(values):
    """The one of values (frames,) that lies furthest from 0; 0 when there is none."""
    low = 0.0
    high = 0.0
    for i in range(values.size):
        low = min(low, values[i])
        high = max(high, values[i])
    return high if high > -low else low


@brief("void(f8[:,::1], f8[::1])")
def stereo_sums(block, out):
    """Of a block (2, frames), into out (5,): peak left, peak right, energy left, energy right, sum of products."""
    left, right = block[0], block[1]
    top_left = top_right = energy_left = energy_right = product = 0.0
    for i in range(left.size):
        x, y = left[i], right[i]
        top_left = max(top_left, abs(x))
        top_right = max(top_right, abs(y))
        energy_left += x * x
        energy_right += y * y
        product += x * y
    out[0], out[1], out[2], out[3], out[4] = top_left, top_right, energy_left, energy_right, product
