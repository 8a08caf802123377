"""How long a sound is over each of some levels, with a hangover; see finding.phrases."""

from reins.core.dsp.compiled import kernel


@kernel("void(f8[::1], f8, i8, f8[::1], i8[::1], i8[::1], f8[::1])")
def count_active(sound, k, hangover, thresholds, active, quiet_for, state):
    """Add to `active` the frames in which an envelope is over each threshold or was within the hangover; state (3,):
    the two poles, and the sum of squares.
    """
    first, second, squares = state
    for i in range(sound.size):
        squares += sound[i] * sound[i]
        first += k * (abs(sound[i]) - first)
        second += k * (first - second)
        for j in range(thresholds.size):
            if second >= thresholds[j]:
                quiet_for[j] = 0
                active[j] += 1
            elif quiet_for[j] < hangover:
                quiet_for[j] += 1
                active[j] += 1
            else:
                break  # those above it are not reached either
    state[0], state[1], state[2] = first, second, squares
