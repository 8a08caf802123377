"""Gains that move: from dB to amplitudes, for every frame."""

import math

import numpy as np
import numpy.typing as npt

from reins.core.dsp.compiled import kernel
from reins.core.dsp.decibels import db_to_amplitude

Array = npt.NDArray[np.float64]


@kernel("void(f8[::1], f8[::1], f8[::1])")
def _to_lin(db, work, out):
    db_to_amplitude(db, out, out.view(np.int64), work, work.view(np.int64), db.size)


@kernel("void(f8[::1], f8, f8[::1], f8[::1], f8[::1])")
def _down_to_silence(db, silent_db, work, out, told):
    db_to_amplitude(db, out, out.view(np.int64), work, work.view(np.int64), db.size)
    for i in range(db.size):
        silent = db[i] <= silent_db
        out[i] = 0.0 if silent else out[i]
        told[i] = -120.0 if silent else db[i]


def down_to_silence(db: Array, silent_db: float) -> tuple[Array, Array]:
    """Amplitudes of levels in dB (frames,) of which silent_db and less is silence, and the levels, silence as -120."""
    out, told = np.empty_like(db), np.empty_like(db)
    _down_to_silence(db, silent_db, np.empty_like(db), out, told)
    return out, told


def to_lin(db: Array) -> Array:
    """Amplitudes of levels in dB (frames,)."""
    out = np.empty_like(db)
    _to_lin(db, np.empty_like(db), out)
    return out


@kernel("void(f8[::1], f8[:,::1])")
def _turn(pan_pct, out):
    # Taylor's series of sine and cosine, to the last bit within 45 degrees of the middle: passes that vectorise.
    for i in range(pan_pct.size):
        y = pan_pct[i] * (math.pi / 400.0)
        z = y * y
        sine = y * (1.0 - z / 6.0 * (1.0 - z / 20.0 * (1.0 - z / 42.0 * (1.0 - z / 72.0 * (1.0 - z / 110.0 * (
            1.0 - z / 156.0 * (1.0 - z / 210.0)))))))  # fmt: skip
        cosine = 1.0 - z / 2.0 * (1.0 - z / 12.0 * (1.0 - z / 30.0 * (1.0 - z / 56.0 * (1.0 - z / 90.0 * (
            1.0 - z / 132.0 * (1.0 - z / 182.0 * (1.0 - z / 240.0)))))))  # fmt: skip
        out[0, i], out[1, i] = math.sqrt(0.5) * (cosine - sine), math.sqrt(0.5) * (cosine + sine)


def pan_gains(pan_pct: float | Array, channels: int) -> Array:
    """Left and right gain (2,) of a pan position from -100 to 100 %, or (2, frames) of positions: a mono sound travels
    at equal power; of a stereo sound the far side goes down and the near one stays as it is.
    """
    positions = np.atleast_1d(np.asarray(pan_pct, np.float64))
    sides = np.empty((2, positions.size))
    _turn(positions, sides)
    sides = sides if channels == 1 else np.minimum(1.0, math.sqrt(2.0) * sides)
    return sides if np.ndim(pan_pct) else sides[:, 0]
