"""Gains that move: from dB to amplitudes, for every frame."""

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
