"""What reins move of a dynamic EQ, over the rows of a block, ready for the kernels; see dynamic_eq.py."""

import math
from collections.abc import Mapping
from itertools import product
from types import SimpleNamespace
from typing import Any

import numpy as np

from reins.core.dsp import along, variable
from reins.core.dsp.cuts import prewarped
from reins.core.dsp.matched import MOST_DB, STEPS_PER_DB, matched_table
from reins.core.dsp.sweeping import straight
from reins.core.processors.base import Array, Rows
from reins.core.processors.curves import overdo
from reins.core.processors.eq_bands import MOVING, fill_params
from reins.core.processors.eq_settings import EqBand
from reins.core.processors.eq_tuning import rest_params, shared

#: Of frequency or Q: where filters that match the analogue curve are worked out; and of both, where both move.
STEPS_PER_OCTAVE, STEPS_OF_BOTH = 12, 6
LEAST_HZ, LEAST_Q = 20.0, 0.1
MOST_AHEAD = 150  # ten octaves of one of them need 121
WHERE = {"freq_hz", "q"}
TABLE = 2 * MOST_DB * STEPS_PER_DB + 1, 5


class InRows:
    """The moved settings of one block."""

    def __init__(self, settings: Any, rows: Rows, sample_rate: int) -> None:
        self.rows, self._settings, self._rate = rows, settings, sample_rate
        self._count = rows.begins.size
        self._at, self._to = self._by_part(rows.at), self._by_part(rows.to)
        #: Places of the bands whose keys move.
        self.keys = {part for part, own in self._at.items() if any(name.startswith("key.") for name in own)}

    @staticmethod
    def _by_part(moving: dict[str, Array]) -> dict[Any, dict[str, Array]]:
        parts: dict[Any, dict[str, Array]] = {}
        for path, values in moving.items():
            first, *more = path.split(".")
            if first == "bands":
                parts.setdefault(int(more[0]), {})[".".join(more[1:])] = values
            elif more:
                parts.setdefault(first, {})[more[0]] = values
        return parts

    def of(self, part: int | str) -> set[str]:
        """What moves of a band, by its place, or of the rest."""
        return set(self._at.get(part, ()))

    def cut_hz(self, name: str) -> tuple[Array, Array] | None:
        """Where a cut stands as each row begins and ends; None where it does not move."""
        return (self.rows.at[name], self.rows.to[name]) if name in self.rows.at else None

    def _ends(self, place: int, name: str) -> tuple[Array, Array]:
        standing = getattr(self._settings.bands[place], name)
        own = (moving.get(place, {}).get(name) for moving in (self._at, self._to))
        return tuple(np.full(self._count, standing) if end is None else end for end in own)  # type: ignore[return-value]

    def region(self, place: int, *, rest: bool = False) -> Array:
        """What a band covers, or all but that: (rows, 6) of dsp.variable."""
        hz, q = self._ends(place, "freq_hz")[0], self._ends(place, "q")[0]
        warped = prewarped(hz, self._rate)
        return variable.regions(self._settings.bands[place].shape, warped=warped, q=q, rest=rest)

    def watches_elsewhere(self, place: int) -> bool:
        """Whether what a band watches goes with it."""
        return bool(WHERE & self.of(place)) and self._settings.bands[place].watch != "whole"

    def params(self, places: list[int], standing: Array) -> Array | None:
        """Of dsp.dynamics (rows, bands, PARAMS), of what they are at rest (bands, PARAMS); None where none moves."""
        rest = SimpleNamespace(**vars(self._settings.rest) | self._at.get("rest", {}))
        moving = self.of("rest")
        touched = [
            (index, place)
            for index, place in enumerate(places)
            if self.of(place) - WHERE - {"gain_db"} or moving.intersection(shared(self._settings.bands[place]))
        ]
        if not touched:
            return None
        params = np.repeat(standing[None], self._count, axis=0)
        for index, place in touched:
            band = SimpleNamespace(**vars(self._settings.bands[place]) | self._at.get(place, {}))
            for name in shared(self._settings.bands[place]):
                setattr(band, name, getattr(rest, name))
            own = np.ascontiguousarray(params[:, index])
            fill_params(own, band, self._rate)
            if self._settings.is_overdone:
                overdo(own)
            params[:, index] = own
        return params

    def rest_params(self) -> Array | None:
        """Of the rest, (rows, PARAMS); None where nothing of it moves."""
        if "rest" not in self._at:
            return None
        rest = SimpleNamespace(**vars(self._settings.rest) | self._at["rest"])
        return rest_params(rest, self._rate, self._count, overdone=self._settings.is_overdone)

    def sweeps(self, place: int) -> bool:
        """Whether the filter of a band moves otherwise than by its detector, and does anything."""
        band, own = self._settings.bands[place], self.of(place)
        acts = band.gain_db or band.motion in MOVING or "gain_db" in own
        return bool(band.on and acts and (WHERE | {"gain_db"}) & own)

    def sweep(
        self, place: int, source: Array, moved_db: Array | float, scratch: Array, state: Array, out: Array
    ) -> None:
        """Add to out (channels, frames) what a band adds to source, its detector having moved it by so many dB."""
        band, rows = self._settings.bands[place], self.rows
        total_db = straight(*self._ends(place, "gain_db"), rows=rows, frames=source.shape[1]) + moved_db
        hz, q = self._ends(place, "freq_hz"), self._ends(place, "q")
        places_of, ways = (rows.begins, rows.into, rows.length), (scratch, state, out)
        if self._settings.match_highs:
            tables, places = self._tables(place, band, hz, q)
            along.filter_along_matched(
                source, total_db, tables, places, *places_of, np.empty((2, *tables.shape[2:])), *ways
            )
        else:
            turns = np.stack([*(prewarped(end, self._rate) for end in hz), *(1.0 / end for end in q)])
            along.filter_along(source, total_db, variable.SHAPES[band.shape], turns, *places_of, *ways)

    def _tables(self, place: int, band: EqBand, hz: Any, q: Any) -> tuple[Array, Array]:
        """Tables (frequencies, Qs, steps, 5) around where a band goes, and where among them each row begins and ends:
        (4, rows), frequency first. What stands still has one exact entry.
        """
        own = self.of(place)
        steps, still = STEPS_OF_BOTH if own >= WHERE else STEPS_PER_OCTAVE, np.zeros((2, self._count))
        all_hz, at_hz = _nodes(hz, LEAST_HZ, steps) if "freq_hz" in own else ([band.freq_hz], still)
        all_q, at_q = _nodes(q, LEAST_Q, steps) if "q" in own else ([band.q], still)
        # Only what lies beside the way is worked out: a table takes two milliseconds.
        tables = np.zeros((len(all_hz), len(all_q), *TABLE))
        beside = {(f, k) for f, k in zip(np.floor(at_hz).flat, np.floor(at_q).flat, strict=True)}
        for f, k in {(int(f) + df, int(k) + dk) for f, k in beside for df in (0, 1) for dk in (0, 1)}:
            if f < len(all_hz) and k < len(all_q):
                tables[f, k] = matched_table(band.shape, all_hz[f], all_q[k], self._rate)
        # The way from one end of a row to the other is between their tables: so those alone are asked for.
        return tables, np.concatenate([at_hz, at_q])


def prepare_tables(bands: list[EqBand], spans: Mapping[str, tuple[float, float]], sample_rate: int) -> None:
    """Work out the tables of bands whose frequency or Q may go from here to there, by path. Where both go far, most of
    so many tables would never be asked for: they are left until they are.
    """
    for place, band in enumerate(bands):
        own = {name: spans[f"bands.{place}.{name}"] for name in WHERE if f"bands.{place}.{name}" in spans}
        if not (own and band.on):
            continue
        steps = STEPS_OF_BOTH if own.keys() >= WHERE else STEPS_PER_OCTAVE
        all_hz = _nodes(own["freq_hz"], LEAST_HZ, steps)[0] if "freq_hz" in own else [band.freq_hz]
        all_q = _nodes(own["q"], LEAST_Q, steps)[0] if "q" in own else [band.q]
        if len(all_hz) * len(all_q) <= MOST_AHEAD:
            for hz, q in product(all_hz, all_q):
                matched_table(band.shape, hz, q, sample_rate)


def _nodes(ends: tuple[Any, Any], least: float, steps: int) -> tuple[list[float], Array]:
    """The steps of a ladder that hold values between them, and where among them the values lie, (2, rows)."""
    places = steps * np.log2(np.stack(ends) / least)
    low, high = math.floor(places.min()), math.floor(places.max()) + 1
    return [least * 2.0 ** (step / steps) for step in range(low, high + 1)], places - low
