"""What settings of the dynamic EQ come to, ready for the kernels; see dynamic_eq.py for their meaning.

Bands that a drag leaves alone stay the same objects, so what they come to is remembered band by band.
"""

import itertools
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp import dynamics, variable
from reins.core.dsp.matched import matched_table
from reins.core.processors.base import Array
from reins.core.processors.curves import compress, overdo
from reins.core.processors.eq_bands import band_params, band_region, covers, curve_table, moves, resting
from reins.core.processors.eq_settings import EqBand
from reins.core.processors.sidechain import Key
from reins.core.remembering import BySettings
from reins.core.units import db_to_lin, one_pole_k

Counts = npt.NDArray[np.int64]
_parts: BySettings[Any] = BySettings()


def shared(band: EqBand) -> tuple[str, ...]:
    """What a band takes from the rest."""
    times = ("attack_ms", "release_ms")
    return {"own": (), "rest": times, "rest_ratio": (*times, "ratio")}[band.timing]


def _params_of(band: EqBand, rest: Any, rate: int) -> Array:
    """Of dsp.dynamics, with the times of the rest where the band takes those."""
    if band.timing != "own":
        update = {name: getattr(rest, name) for name in shared(band)}
        return band_params(band.model_copy(update=update), rate)
    return _parts.get(band, (rate, "params"), lambda: band_params(band, rate))


def _watched(band: EqBand, rate: int) -> Array:
    return variable.EVERYTHING if band.watch == "whole" else band_region(band, rate)


def tune_bands(settings: Any, channels: int, rate: int) -> dict[str, Any]:
    """The attributes of DynamicEq that depend on settings alone."""
    bands = settings.bands
    match = settings.match_highs

    def part(name: str, band: EqBand, compute: Any) -> Any:
        return _parts.get(band, (rate, name), lambda: compute(band))

    moving = [place for place, band in enumerate(bands) if moves(band)]
    still = {
        place: part(f"still {match}", band, lambda band: resting(band, 0.0, rate, match_highs=match))
        for place, band in enumerate(bands)
        if band.on and not moves(band) and band.gain_db != 0.0
    }
    names: dict[tuple[Key, float], list[int]] = {}
    for row, place in enumerate(moving):
        names.setdefault((bands[place].key, bands[place].weight_db_oct), []).append(row)
    listeners = [
        (
            name,
            np.array(rows, np.int64),
            np.stack([part("watched", bands[moving[row]], lambda band: _watched(band, rate)) for row in rows]),
        )
        for name, rows in names.items()
    ]
    notches = [
        (place, part("notch", band, lambda band: band_region(band, rate, rest=True)))
        for place, band in enumerate(bands)
        if covers(band)
    ]
    params = np.stack([_params_of(bands[place], settings.rest, rate) for place in moving] or [np.zeros(0)])
    overdone = settings.is_overdone
    if overdone and moving:
        overdo(params)
    return {
        "_settings": settings,
        "_moving": np.array(moving, np.int64),
        "_names": [f"band{place + 1}.gain_db" for place in moving],
        "_params": params if moving else np.zeros((0, 0)),
        "_curves": _curves([bands[place] for place in moving], 2.0 if overdone else 1.0),
        "_listeners": listeners,
        "_shapes": np.array([variable.SHAPES[band.shape] for band in bands], np.int64),
        "_base_db": np.array([band.gain_db for band in bands], np.float64),
        "_warped": np.array([variable.prewarped(band.freq_hz, rate) for band in bands], np.float64),
        "_inverse_q": np.array([1.0 / band.q for band in bands], np.float64),
        "_still": still,
        "_tables": _matched_tables(bands, rate) if match else None,
        "_runs": _in_runs(len(bands), moving, still),
        "_notches": notches,
        "_rest_params": _parts.get(
            settings.rest, (channels, rate, overdone), lambda: rest_params(settings.rest, rate, overdone=overdone)
        ),
    }


def _curves(moving: list[EqBand], times: float) -> Array:
    """The gains of bands moved by a curve of their own (bands, levels); (0, 0) where there is none."""
    tables = {
        row: curve_table(band.points, band.knee_db, times) for row, band in enumerate(moving) if band.motion == "curve"
    }
    if not tables:
        return np.zeros((0, 0))
    size = next(iter(tables.values())).size
    return np.stack([tables.get(row, np.full(size, np.nan)) for row in range(len(moving))])


def _matched_tables(bands: list[EqBand], rate: int) -> Array:
    def table(band: EqBand) -> Array:
        return matched_table(band.shape, band.freq_hz, band.q, rate)

    tables = {k: table(band) for k, band in enumerate(bands) if moves(band)}
    shape = next(iter(tables.values())).shape if tables else (2, 5)
    return np.stack([tables.get(place, np.zeros(shape)) for place in range(len(bands))] or [np.zeros(shape)])


def _in_runs(count: int, moving: list[int], still: dict[int, Array]) -> list[tuple[Counts, Counts]]:
    """Neighbours that move, as (rows of the moving bands, places); those that stand still, as (nothing, places)."""
    row_of = {place: row for row, place in enumerate(moving)}
    acting = [place for place in range(count) if place in row_of or place in still]
    runs = []
    for moves_now, places in itertools.groupby(acting, lambda place: place in row_of):
        run = np.array(list(places), np.int64)
        runs.append((np.array([row_of[place] for place in run] if moves_now else [], np.int64), run))
    return runs


def rest_params(rest: Any, rate: int, rows: int = 1, *, overdone: bool = False) -> Array | None:
    """Of follow_curve (rows, PARAMS), so that it gives what is added to the sound: the rest times (gain - 1); None
    while off. Settings are numbers or one value a row.
    """
    if not rest.on:
        return None
    params = np.zeros((rows, dynamics.PARAMS))
    params[:, [dynamics.KEY_FLOOR_DB, dynamics.LINK, dynamics.OUTPUT]] = -120.0, 1.0, 1.0
    compress(params, rest, sample_rate=rate)
    params[..., dynamics.BLEND], params[..., dynamics.RMS_K] = rest.rms_pct / 100.0, one_pole_k(rest.rms_ms, rate)
    if overdone:
        overdo(params)
    for dry in (dynamics.FIRST_DRY, dynamics.SECOND_DRY):
        params[..., dry], params[..., dry + 1] = -1.0, db_to_lin(rest.gain_db)
    return params
