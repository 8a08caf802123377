"""The magnitude of the regions of the spectrum that bands cover, two filters at a time (see dsp.variable)."""

from reins.core.dsp.compiled import fused, inlined, kernel
from reins.core.dsp.lanes import begun, first, keep, pair, second
from reins.core.dsp.variable import M0, M2, next_states, step_still, taken


@inlined
def _louder(both):
    a, b = abs(first(both)), abs(second(both))
    return a if a > b else b


@inlined
def _step_bell(x, p, q, coefficients):
    """As step_still for a region of a bell, which is its band-pass alone."""
    c1, c2, c3, _, m1, _ = coefficients
    r, s = next_states(x, p, q, c1, c2, c3)
    return r, s, m1 * (p + r)


@fused
def _watch_two(source, coefficients, other, state, other_state, out, other_out):
    """The magnitudes of what two regions hold: neither filter waits for the other."""
    left, right = source[0], source[-1]
    p, q = begun(state)
    r, s = begun(other_state)
    bells = coefficients[M0] == 0.0 and coefficients[M2] == 0.0 and other[M0] == 0.0 and other[M2] == 0.0
    numbers, others = taken(coefficients), taken(other)
    if bells:
        for i in range(left.size):
            x = pair(left[i], right[i])
            p, q, y = _step_bell(x, p, q, numbers)
            r, s, z = _step_bell(x, r, s, others)
            out[i], other_out[i] = _louder(y), _louder(z)
    else:
        for i in range(left.size):
            x = pair(left[i], right[i])
            p, q, y = step_still(x, p, q, numbers)
            r, s, z = step_still(x, r, s, others)
            out[i], other_out[i] = _louder(y), _louder(z)
    keep(state, p, q)
    keep(other_state, r, s)


@fused
def _watch_one(source, coefficients, state, out):
    left, right = source[0], source[-1]
    p, q = begun(state)
    numbers = taken(coefficients)
    for i in range(left.size):
        p, q, y = step_still(pair(left[i], right[i]), p, q, numbers)
        out[i] = _louder(y)
    keep(state, p, q)


@kernel("void(f8[:,::1], i8[::1], i8[::1], f8[:,::1], f8[:,:,::1], f8[:,::1])")
def watch_regions(source, rows, places, coefficients, state, out):
    """The magnitude of what each band covers of source (channels, frames), the louder channel.

    Band k of coefficients (bands, 6) fills row rows[k] of out (rows, frames) and has its state, carried, at places[k]
    of state (places, channels or more, 2).
    """
    channels, count = source.shape[0], rows.size
    for band in range(0, count - 1, 2):
        one, other = state[places[band], :channels], state[places[band + 1], :channels]
        made, other_made = out[rows[band]], out[rows[band + 1]]
        _watch_two(source, coefficients[band], coefficients[band + 1], one, other, made, other_made)
    if count % 2:
        last = count - 1
        _watch_one(source, coefficients[last], state[places[last], :channels], out[rows[last]])
