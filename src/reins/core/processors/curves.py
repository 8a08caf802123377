"""Static curve and times from a processor's or a band's settings into the parameters of a kernel; see dsp.dynamics.

A setting that moves is an array, one value a row of the parameters (rows, PARAMS).
"""

from typing import Any

import numpy as np

from reins.core.dsp import dynamics
from reins.core.processors.base import Array
from reins.core.processors.release import SLOW_FILL_MS, VALLEY_MS, slow_drain_ms
from reins.core.units import ms_to_frames, one_pole_k

NO_LIMIT_DB = 60.0
MOST_LIFT_DB = 24.0  # silence is lifted too, and what is in it
FLAT_RATIO = 100.0
LEAST_KNEE_DB = 1e-6


def compress(params: Array, settings: Any, *, sample_rate: int) -> None:
    """Hold what passes threshold_db: ratio 100 is exactly flat, range_db 60 no limit."""
    slope = np.where(settings.ratio == FLAT_RATIO, -1.0, 1.0 / settings.ratio - 1.0)
    range_db = np.where(settings.range_db == NO_LIMIT_DB, np.inf, settings.range_db)
    _fill(params, settings, slope, range_db, sample_rate)
    params[..., dynamics.SIDE], params[..., dynamics.MIRRORED], params[..., dynamics.GAIN_SIGN] = 1.0, 0.0, 1.0


def expand(params: Array, settings: Any, *, down: bool, sample_rate: int) -> None:
    """Let what is below threshold_db sink (down), or what is above it rise."""
    _fill(params, settings, 1.0 - settings.ratio, settings.range_db, sample_rate)
    params[..., dynamics.SIDE], params[..., dynamics.MIRRORED] = (-1.0, 1.0) if down else (1.0, 0.0)
    params[..., dynamics.GAIN_SIGN] = 1.0 if down else -1.0


def lift(params: Array, settings: Any, *, sample_rate: int) -> None:
    """Bring up what is below threshold_db, by MOST_LIFT_DB at most; the attack is how quickly that ends."""
    range_db = np.minimum(settings.range_db, MOST_LIFT_DB)
    _fill(params, settings, 1.0 - 1.0 / settings.ratio, range_db, sample_rate)
    params[..., dynamics.SIDE], params[..., dynamics.MIRRORED], params[..., dynamics.GAIN_SIGN] = -1.0, 0.0, 1.0


def release_by_itself(params: Array, release_ms: Any, *, on: bool, sample_rate: int) -> None:
    """The automatic release beside this one; see processors.release."""
    params[..., dynamics.AUTO_RELEASE] = on
    params[..., dynamics.FILL_K] = one_pole_k(SLOW_FILL_MS, sample_rate)
    params[..., dynamics.DRAIN_K] = one_pole_k(slow_drain_ms(release_ms), sample_rate)
    params[..., dynamics.VALLEY_FRAMES] = ms_to_frames(VALLEY_MS, sample_rate)


def overdo(params: Array) -> None:
    """Twice the movement in dB: slope and range are what it is linear in, and times do not ask how far it goes."""
    params[..., dynamics.SLOPE] *= 2.0
    params[..., dynamics.RANGE_DB] *= 2.0


def _fill(params: Array, settings: Any, slope: Any, range_db: Any, sample_rate: int) -> None:
    params[..., dynamics.THRESHOLD_DB], params[..., dynamics.SLOPE] = settings.threshold_db, slope
    # A knee so narrow that its inverse is no number any more is none.
    params[..., dynamics.KNEE_DB] = np.where(settings.knee_db > LEAST_KNEE_DB, settings.knee_db, 0.0)
    params[..., dynamics.RANGE_DB] = range_db
    params[..., dynamics.SOFT_RANGE] = getattr(settings, "soft_range", False)
    params[..., dynamics.ATTACK_K] = one_pole_k(settings.attack_ms, sample_rate)
    params[..., dynamics.RELEASE_K] = one_pole_k(settings.release_ms, sample_rate)
    release_by_itself(params, settings.release_ms, on=settings.auto_release, sample_rate=sample_rate)
