"""A delay as a ring: what comes takes the place of what leaves, so that nothing else is moved."""

from reins.core.dsp.compiled import brief


@brief("void(f8[:,::1], i8, f8[:,::1], f8[:,::1])")
def delay(ring, at, signal, out):
    """out: what signal (channels, frames) was ring.shape[1] frames ago. ring (channels, delay) is carried, what leaves
    next stands at `at`.
    """
    size, frames = ring.shape[1], signal.shape[1]
    for channel in range(ring.shape[0]):
        row, comes, leaves = ring[channel], signal[channel], out[channel]
        i, j = 0, at
        while i < frames:
            count = min(frames - i, size - j)
            place, new, old = row[j : j + count], comes[i : i + count], leaves[i : i + count]
            for k in range(count):
                old[k] = place[k]
                place[k] = new[k]
            i, j = i + count, (j + count) % size
