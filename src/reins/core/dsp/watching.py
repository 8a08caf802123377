"""The magnitude of the regions of the spectrum that bands cover, four filters at a time (see dsp.variable)."""

from reins.core.dsp.compiled import fused, inlined, kernel
from reins.core.dsp.lanes import begun, first, fourth, keep, louder, pair, quad, second, third
from reins.core.dsp.variable import M0, M2, next_states, step_still, taken


@inlined
def _step_bell(x, p, q, coefficients):
    """As step_still for a region of a bell, which is its band-pass alone."""
    c1, c2, c3, _, m1, _ = coefficients
    r, s = next_states(x, p, q, c1, c2, c3)
    return r, s, m1 * (p + r)


@inlined
def _beside(a, b):
    return quad(a, a, b, b)


@inlined
def _both(numbers, others):
    """The coefficients of two filters, each for both channels."""
    a0, a1, a2, a3, a4, a5 = numbers
    b0, b1, b2, b3, b4, b5 = others
    return _beside(a0, b0), _beside(a1, b1), _beside(a2, b2), _beside(a3, b3), _beside(a4, b4), _beside(a5, b5)


@inlined
def _is_bell(coefficients):
    return coefficients[M0] == 0.0 and coefficients[M2] == 0.0


@inlined
def _begun_both(one, other):
    """Both memories of two filters, each (lanes, 2)."""
    return (
        quad(one[0, 0], one[-1, 0], other[0, 0], other[-1, 0]), quad(one[0, 1], one[-1, 1], other[0, 1], other[-1, 1])
    )  # fmt: skip


@inlined
def _keep_both(one, other, p, q):
    keep(one, pair(first(p), second(p)), pair(first(q), second(q)))
    keep(other, pair(third(p), fourth(p)), pair(third(q), fourth(q)))


@fused
def _watch_four(source, coefficients, places, state, rows, out):
    """The magnitudes of what four regions hold, as in watch_regions: none of the filters waits for another."""
    left, right = source[0], source[-1]
    numbers = _both(taken(coefficients[0]), taken(coefficients[1]))
    others = _both(taken(coefficients[2]), taken(coefficients[3]))
    channels = source.shape[0]
    a, b = state[places[0], :channels], state[places[1], :channels]
    c, d = state[places[2], :channels], state[places[3], :channels]
    p, q = _begun_both(a, b)
    r, s = _begun_both(c, d)
    one, two, three, four = out[rows[0]], out[rows[1]], out[rows[2]], out[rows[3]]
    bells = _is_bell(coefficients[0]) and _is_bell(coefficients[1])
    if bells and _is_bell(coefficients[2]) and _is_bell(coefficients[3]):
        for i in range(left.size):
            x = quad(left[i], right[i], left[i], right[i])
            p, q, y = _step_bell(x, p, q, numbers)
            r, s, z = _step_bell(x, r, s, others)
            y, z = louder(y), louder(z)
            one[i], two[i], three[i], four[i] = first(y), third(y), first(z), third(z)
    else:
        for i in range(left.size):
            x = quad(left[i], right[i], left[i], right[i])
            p, q, y = step_still(x, p, q, numbers)
            r, s, z = step_still(x, r, s, others)
            y, z = louder(y), louder(z)
            one[i], two[i], three[i], four[i] = first(y), third(y), first(z), third(z)
    _keep_both(a, b, p, q)
    _keep_both(c, d, r, s)


@fused
def _watch_one(source, coefficients, state, out):
    left, right = source[0], source[-1]
    p, q = begun(state)
    numbers = taken(coefficients)
    for i in range(left.size):
        p, q, y = step_still(pair(left[i], right[i]), p, q, numbers)
        out[i] = first(louder(y))
    keep(state, p, q)


@kernel("void(f8[:,::1], i8[::1], i8[::1], f8[:,::1], f8[:,:,::1], f8[:,::1])")
def watch_regions(source, rows, places, coefficients, state, out):
    """The magnitude of what each band covers of source (channels, frames), the louder channel.

    Band k of coefficients (bands, 6) fills row rows[k] of out (rows, frames) and has its state, carried, at places[k]
    of state (places, channels or more, 2).
    """
    channels, count = source.shape[0], rows.size
    four = count - count % 4
    for band in range(0, four, 4):
        _watch_four(source, coefficients[band:], places[band:], state, rows[band:], out)
    for band in range(four, count):
        _watch_one(source, coefficients[band], state[places[band], :channels], out[rows[band]])
