"""How far a rein by a key is drawn: from the key's level to a value from 0 to 1, with attack, hold and release."""

import numpy as np

from reins.core.dsp.compiled import kernel
from reins.core.dsp.dynamics import CHUNK, levels_db

# Carried beside the lanes' levels (dsp.dynamics): the value, and frames of hold left.
VALUE, HOLD_LEFT = 0, 1
FLOOR_DB, SPAN_DB, ATTACK_K, RELEASE_K, HOLD_FRAMES = 0, 1, 2, 3, 4


@kernel("void(f8[:,::1], f8[:,::1], f8[::1], f8[::1], f8[::1], f8[:,::1], f8[::1])")
def follow_level(heard, lanes, state, levels, params, scratch, out):
    """The value over a block into out (frames,).

    Wanted is clip((L - floor) / (ceiling - floor), 0, 1) for the level L in dB of heard (lanes, frames), the louder
    lane for both; one pole on the value, the attack's upwards, the release's downwards once hold has passed. lanes
    (lanes, LANE_STATE) and levels are state and parameters of dynamics.levels_db; state (2,) and params (5,) as
    numbered above.
    """
    bits = scratch.view(np.int64)
    value, left = state[VALUE], state[HOLD_LEFT]
    floor_db, per_db = params[FLOOR_DB], 1.0 / params[SPAN_DB]
    attack, release, hold = params[ATTACK_K], params[RELEASE_K], params[HOLD_FRAMES]
    for start in range(0, out.size, CHUNK):
        count = min(CHUNK, out.size - start)
        levels_db(heard, start, count, scratch, bits, lanes, levels)
        for i in range(count):
            wanted = min(1.0, max(0.0, (scratch[0, i] - floor_db) * per_db))
            if wanted >= value:
                value += attack * (wanted - value)
                left = hold
            elif left > 0.0:
                left -= 1.0
            else:
                value += release * (wanted - value)
            out[start + i] = value
    state[VALUE], state[HOLD_LEFT] = value if value > 1e-30 else 0.0, left
