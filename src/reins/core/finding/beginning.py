"""Where what is struck begins, to the millisecond.

The largest magnitude of each millisecond is compared with the loudest of those just before: a stroke is a jump out of
whatever rang there, so that it is found over the tail of the one before it. Of a kick that never falls silent the level
does not jump; the difference from sample to sample, in which lows hardly count, still does. Of several jumps (a clap's,
or a neighbour's just before) the first counts that reaches about as high as the highest.
"""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from reins.core.sound import Sound

Array = npt.NDArray[np.float64]
BEFORE, AFTER = 50, 60  # ms about a moment in which it is looked for
PAST, REACH = 12, 4  # ms before it that count, and those within which it is there
JUMP, AS_HIGH = 10.0 ** (4.0 / 20.0), 0.4  # times what was before; of the highest
SILENT = 1e-5  # what lies under it jumps out of nothing
GENTLE = 0.15  # of its peak: where what does not jump begins


@dataclass(frozen=True)
class Beginning:
    """When something begins, its peak in dB, and by how much it jumps out of what was before."""

    at_s: float
    peak_db: float
    rise_db: float


def beginning(sound: Sound, about_s: float) -> Beginning:
    """What begins about a moment, up to 50 ms before it or 60 after; what does not jump begins where it leads to its
    peak from.
    """
    rate = sound.facts.sample_rate
    step = max(1, rate // 1000)
    first = round(about_s * rate) - (BEFORE + PAST) * step
    heard = sound.read(first, (PAST + BEFORE + AFTER) * step)
    level = _by_ms(heard, step)
    for curve in (level, _by_ms(np.diff(heard, axis=1, prepend=heard[:, :1]), step)):
        found = _jump(curve)
        if found is not None:
            at, rise_db = found
            break
    else:
        top = PAST + int(level[PAST:].argmax())
        quiet = np.flatnonzero(level[PAST:top] < GENTLE * level[top])
        at, rise_db = PAST + (int(quiet[-1]) + 1 if quiet.size else 0), 0.0
    peak = float(level[at : at + AFTER].max())
    return Beginning(max(first + at * step, 0) / rate, float(20.0 * np.log10(max(peak, 1e-6))), rise_db)


def _by_ms(heard: Array, step: int) -> Array:
    """The largest magnitude of each millisecond."""
    return np.asarray(np.abs(heard).max(axis=0).reshape(-1, step).max(axis=1))


def _jump(curve: Array) -> tuple[int, float] | None:
    """Where a curve jumps, and by how many dB; None where it does not."""
    windows = np.lib.stride_tricks.sliding_window_view
    past = windows(curve, PAST).max(axis=1)[:-REACH]
    reached = windows(curve, REACH).max(axis=1)[PAST:]
    jumps = (curve[PAST : PAST + past.size] > JUMP * past) & (reached > SILENT)
    if not jumps.any():
        return None
    at = int(np.flatnonzero(jumps & (reached >= AS_HIGH * reached[jumps].max()))[0])
    return PAST + at, float(20.0 * np.log10(reached[at] / max(past[at], 1e-6)))
