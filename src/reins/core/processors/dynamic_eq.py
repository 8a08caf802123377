"""Dynamic EQ: bells, shelves and cuts whose gain may move with what they cover.

At rest each band answers as the cookbook's bell or shelf (see dsp.variable), or with match_highs as their analogue
prototype up to 18 kHz (dsp.matched), and each cut as a Butterworth filter. In
parallel every band works on the source after the cuts, and what each adds to it or takes from it is summed; in series
each works on what the one before it made. A moving band adds its movement in dB to its gain at rest. Its detector
follows peaks, the louder channel for all, of what it watches: its own region (a band-pass of its frequency and Q for
a bell, a Butterworth low- or high-pass for a shelf), the same weighted up by 3 dB/oct above 100 Hz, or the whole; of
the source after the cuts or of its key. A band's movement is named bandN.gain_db, N counted from 1.

The rest is the source after the cuts less the regions of all moving and spared bands (a row of notches). It is
compressed by itself and its change added to the sound; in series this comes first. With `timing` "rest" a band takes
attack and release of the rest; automatic release stays the rest's own.

match_loudness takes back what gains at rest and cuts do to the loudness of the take, weighed by its measured spectrum
(see core.measure.spectra), or by pink noise where none is known.

Where the brief is silent: a band that is off does nothing; bands have one gain for both channels; mix_pct blends with
the source before the cuts.
"""

import itertools
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp import dynamics, variable
from reins.core.dsp.cuts import MovingCut
from reins.core.dsp.filters import sections_response
from reins.core.dsp.matched import matched_table
from reins.core.dsp.octaves import TWELFTHS_HZ, matching_gain
from reins.core.processors.base import Array, Key, Processor
from reins.core.processors.curves import compress
from reins.core.processors.eq_bands import (
    Ear,
    band_params,
    band_region,
    covers,
    cut_sections,
    moves,
    resting,
)
from reins.core.processors.eq_settings import MOST_BANDS, DynamicEqSettings, EqBand
from reins.core.units import db_to_lin

Counts = npt.NDArray[np.int64]


# Settings of a band that say what it is, not how far it does it.
STANDING = ("on", "shape", "motion", "timing", "watch", "key")


def replaced(values: Array, place: int, value: Any) -> Array:
    """A copy with another value at a place."""
    values = values.copy()
    values[place] = value
    return values


class DynamicEq(Processor):
    """The processor; see the module's docstring for its meaning."""

    type_name = "dynamic_eq"
    label = "Dynamic EQ"
    about = "Bells, shelves and cuts that may move with what they cover."
    line = ""
    never_changed = frozenset({
        "_bands", "_moving", "_params", "_shapes", "_base_db", "_warped", "_inverse_q", "_still", "_tables", "_runs",
        "_notches", "_rest_params", "_scratch", "_filter_scratch", "gains_db", "_source", "_settings",
    })  # fmt: skip
    Settings = DynamicEqSettings
    added_with = {"match_highs": True}

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, key_channels: Any) -> None:
        self._channels, self._sample_rate = channels, sample_rate
        self._key_channels = key_channels if isinstance(key_channels, dict) else {}
        self._spectrum: Array | None = None
        self._region_state = np.zeros((MOST_BANDS, 2, 2))
        self._filter_state = np.zeros((MOST_BANDS, channels, 2))
        self._notch_state = np.zeros((MOST_BANDS, channels, 2))
        self._follow_state = np.zeros((MOST_BANDS, dynamics.LANE_STATE))
        self._rest_state = np.zeros((channels, dynamics.LANE_STATE))
        self._scratch = np.zeros((dynamics.SCRATCH_ROWS, dynamics.CHUNK))
        self._filter_scratch = np.zeros((variable.SCRATCH_ROWS, variable.CHUNK))
        self._low_cut, self._high_cut = (
            MovingCut(kind, channels=channels, sample_rate=sample_rate) for kind in ("low_cut", "high_cut")
        )
        self._settings: Any = None
        self._ears: dict[tuple[Key, bool], Ear] = {}
        self.gains_db = {}
        self.apply(settings)

    @classmethod
    def latency_of(cls, settings: Any, *, sample_rate: int) -> int:
        """None."""
        return 0

    @property
    def latency_frames(self) -> int:
        """None."""
        return 0

    def apply(self, settings: Any) -> None:
        """Take over new settings; a band keeps the state of the place it has in the list."""
        rate, first = self._sample_rate, self._settings is None
        if not first and (place := self._only_band_turned(settings)) is not None:
            self._turn(settings, place)
            return
        self._settings = settings
        self._bands = list(enumerate(settings.bands))
        self._low_cut.place(settings.low_cut_hz, settings.low_cut_slope // 6, at_once=first)
        self._high_cut.place(settings.high_cut_hz, settings.high_cut_slope // 6, at_once=first)
        moving = [(place, band) for place, band in self._bands if moves(band)]
        self._moving = np.array([place for place, _ in moving], np.int64)
        self._params = np.stack([self._band_params(band) for _, band in moving]) if moving else np.zeros((0, 0))
        self._listeners = self._arrange_ears(moving)
        self._shapes = np.array([variable.SHAPES[band.shape] for _, band in self._bands], np.int64)
        self._base_db = np.array([band.gain_db for _, band in self._bands], np.float64)
        self._warped = np.array([variable.prewarped(band.freq_hz, rate) for _, band in self._bands], np.float64)
        self._inverse_q = np.array([1.0 / band.q for _, band in self._bands], np.float64)
        self._still = {
            place: resting(band, 0.0, rate, match_highs=settings.match_highs)
            for place, band in self._bands
            if band.on and not moves(band) and band.gain_db != 0.0
        }
        self._tables = self._matched_tables() if settings.match_highs else None
        self._runs = self._in_runs()
        self._notches = [(place, band_region(band, rate, rest=True)) for place, band in self._bands if covers(band)]
        self._rest_params = self._params_of_rest() if settings.rest.on else None
        self._match = self._matching() if settings.match_loudness else 1.0

    def _only_band_turned(self, settings: Any) -> int | None:
        """The place of the one band of which numbers have changed, as in a drag; None where it is more than that."""
        old, new = vars(self._settings), vars(settings)
        if any(old[name] is not new[name] and old[name] != new[name] for name in new if name != "bands"):
            return None
        if len(old["bands"]) != len(new["bands"]) or settings.match_loudness:
            return None
        turned = [k for k, band in enumerate(new["bands"]) if band is not old["bands"][k]]
        if len(turned) != 1:
            return None
        before, now = vars(old["bands"][turned[0]]), vars(new["bands"][turned[0]])
        stays = all(before[name] == now[name] for name in STANDING)
        if not moves(new["bands"][turned[0]]):  # one that stands still comes and goes with its gain
            stays = stays and (before["gain_db"] == 0.0) == (now["gain_db"] == 0.0)
        return turned[0] if stays else None

    def _turn(self, settings: Any, place: int) -> None:
        """Take over the numbers of one band; what twins share is replaced, not written into."""
        band, rate, before = settings.bands[place], self._sample_rate, vars(self._settings.bands[place])
        turned = {name for name, value in vars(band).items() if value != before[name]}
        self._settings, self._bands = settings, list(enumerate(settings.bands))
        self._base_db = replaced(self._base_db, place, band.gain_db)
        if place in self._still:
            self._still = self._still | {place: resting(band, 0.0, rate, match_highs=settings.match_highs)}
        row = int(np.flatnonzero(self._moving == place)[0]) if moves(band) else None
        if turned & {"freq_hz", "q"}:
            self._place(band, place, row)
        if row is not None and turned - {"freq_hz", "q", "gain_db"}:
            self._params = replaced(self._params, row, self._band_params(band))

    def _place(self, band: EqBand, place: int, row: int | None) -> None:
        """Move a band to another frequency, or make it wider or narrower; row among those that move."""
        self._warped = replaced(self._warped, place, variable.prewarped(band.freq_hz, self._sample_rate))
        self._inverse_q = replaced(self._inverse_q, place, 1.0 / band.q)
        if self._tables is not None:
            self._tables = self._matched_tables()
        self._notches = [(k, band_region(b, self._sample_rate, rest=True)) for k, b in self._bands if covers(b)]
        if row is not None:
            self._listeners = [
                (ear, rows, replaced(regions, list(rows).index(row), self._watched(band)))
                if row in rows
                else (ear, rows, regions)
                for ear, rows, regions in self._listeners
            ]

    def know(self, spectrum: Array | None) -> None:
        """Hear of the spectrum of the take it works on."""
        if spectrum is not self._spectrum:
            self._spectrum = spectrum
            self._match = self._matching() if self._settings.match_loudness else 1.0

    def _matching(self) -> float:
        rate = self._sample_rate
        plain = self._settings.model_copy(update={"output_db": 0.0})
        answer = self.response_db(plain, TWELFTHS_HZ, {}, rate)
        return matching_gain(answer, self._spectrum, rate)

    def _matched_tables(self) -> Array:
        tables = {
            place: matched_table(band.shape, band.freq_hz, band.q, self._sample_rate)
            for place, band in self._bands
            if moves(band)
        }
        shape = next(iter(tables.values())).shape if tables else (2, 5)
        return np.stack([tables.get(place, np.zeros(shape)) for place, _ in self._bands] or [np.zeros(shape)])

    def _in_runs(self) -> list[tuple[Counts, Counts]]:
        """Neighbours that move, as (rows of the moving bands, places); those that stand still, as (nothing, places)."""
        row_of = {int(place): row for row, place in enumerate(self._moving)}
        acting = [place for place, _ in self._bands if place in row_of or place in self._still]
        runs = []
        for moving, places in itertools.groupby(acting, lambda place: place in row_of):
            run = np.array(list(places), np.int64)
            runs.append((np.array([row_of[place] for place in run] if moving else [], np.int64), run))
        return runs

    def _band_params(self, band: EqBand) -> Array:
        if band.timing == "rest":
            rest = self._settings.rest
            band = band.model_copy(update={"attack_ms": rest.attack_ms, "release_ms": rest.release_ms})
        return band_params(band, self._sample_rate)

    def _arrange_ears(self, moving: list[tuple[int, EqBand]]) -> list[tuple[Ear, Counts, Array]]:
        """(ear, rows among the moving bands, their regions) for each group that listens alike."""
        groups: dict[tuple[Key, bool], list[int]] = {}
        for row, (_, band) in enumerate(moving):
            groups.setdefault((band.key, band.watch == "band_weighted"), []).append(row)
        listeners, ears = [], {}
        for name, rows in groups.items():
            key = moving[rows[0]][1].key
            lanes = self._channels if key.source == "self" else self._key_channels.get(key.source, self._channels)
            ears[name] = self._ears.get(name) or Ear(key, weighted=name[1], lanes=lanes, sample_rate=self._sample_rate)
            regions = np.stack([self._watched(moving[row][1]) for row in rows])
            listeners.append((ears[name], np.array(rows, np.int64), regions))
        self._ears = ears
        return listeners

    def _watched(self, band: EqBand) -> Array:
        return variable.EVERYTHING if band.watch == "whole" else band_region(band, self._sample_rate)

    def _params_of_rest(self) -> Array:
        """Of follow_curve, so that it gives what is added to the sound: the rest times (gain - 1)."""
        rest, rate = self._settings.rest, self._sample_rate
        params = np.zeros(dynamics.PARAMS)
        params[dynamics.KEY_FLOOR_DB], params[dynamics.LINK], params[dynamics.OUTPUT] = -120.0, 1.0, 1.0
        compress(params, rest, sample_rate=rate)
        for dry in (dynamics.FIRST_DRY, dynamics.SECOND_DRY):
            params[dry : dry + 2] = (-1.0, db_to_lin(rest.gain_db))
        return params

    def process(self, block: Array, key: Any = None) -> Array:
        """The result for the next block; `key` the outside keys by name."""
        source = block
        if self._low_cut.acting or self._high_cut.acting:
            source = block.copy()
            self._low_cut.process(source)
            self._high_cut.process(source)
        self._source = source
        moved = self._watch(source, key or {})
        self.gains_db = {f"band{place + 1}.gain_db": moved[row] for row, place in enumerate(self._moving)}
        out = source.copy()
        if self._rest_params is not None:
            out += self._hold_rest(source)
        self._filter(source, moved, out)
        settings = self._settings
        wet = settings.mix_pct / 100.0
        if wet < 1.0:
            out = (1.0 - wet) * block + (wet * self._match) * out
        elif self._match != 1.0:
            out *= self._match
        return out if settings.output_db == 0.0 else out * db_to_lin(settings.output_db)

    def _watch(self, source: Array, keys: dict[str, Array]) -> Array:
        """How far each moving band has moved, in dB: (moving bands, frames)."""
        shape = (self._moving.size, source.shape[1])
        amplitude, moved = np.empty(shape), np.empty(shape)
        for ear, rows, regions in self._listeners:
            heard = ear.process(source if ear.source == "self" else keys[ear.source])
            places, region = self._moving[rows], np.empty_like(heard)
            variable.watch_regions(heard, rows, places, regions, self._region_state, region, amplitude)
        if self._moving.size:
            dynamics.follow_bands(amplitude, self._moving, self._follow_state, self._params, self._scratch, moved)
        return moved

    def _hold_rest(self, source: Array) -> Array:
        rest, changed = source.copy(), np.empty_like(source)
        for place, notch in self._notches:
            variable.filter_still(rest, notch, self._notch_state[place], False, rest)
        gain_db = np.empty((1, source.shape[1]))
        dynamics.follow_curve(rest, rest, self._rest_state, self._rest_params, self._scratch, gain_db, changed)
        self.gains_db["rest.gain_db"] = gain_db[0]
        return changed

    def _filter(self, source: Array, moved: Array, out: Array) -> None:
        into = out if self._settings.topology == "serial" else source
        for rows, places in self._runs:
            if rows.size and self._tables is not None:
                variable.filter_moving_matched(
                    into, rows, places, moved, self._base_db, self._tables, self._filter_scratch, self._filter_state,
                    out,
                )  # fmt: skip
            elif rows.size:
                variable.filter_moving(
                    into, rows, places, moved, self._base_db, self._shapes, self._warped, self._inverse_q,
                    self._filter_scratch, self._filter_state, out,
                )  # fmt: skip
            for place in places if not rows.size else ():
                variable.filter_still(into, self._still[place], self._filter_state[place], True, out)

    def hears(self, band: str = "") -> tuple[Array, Array | None] | None:
        """What a band's detector heard, and the band's region; of one that does not move, the source after the cuts."""
        region = self.region_of(self._settings, band, self._sample_rate)
        if region is None:
            return None
        place = int(band.removeprefix("band").removesuffix(".gain_db")) - 1
        ear = next((ear for ear, rows, _ in self._listeners if place in self._moving[rows]), None)
        return self._source if ear is None else ear.heard, region

    @classmethod
    def prepare(cls, settings: Any, sample_rate: int) -> None:
        """The tables of bands that move after the analogue curve."""
        for band in settings.bands if settings.match_highs else ():
            if moves(band):
                matched_table(band.shape, band.freq_hz, band.q, sample_rate)

    @classmethod
    def region_of(cls, settings: Any, band: str, sample_rate: int) -> Array | None:
        """What a band covers."""
        for place, own in enumerate(settings.bands):
            if band == f"band{place + 1}.gain_db":
                return variable.as_sections(band_region(own, sample_rate))
        return None

    @classmethod
    def stand_in(cls, settings: Any) -> "tuple[type[Processor], Any] | None":
        """None: each band has a level of its own."""
        return None

    @classmethod
    def response_db(cls, settings: Any, frequencies_hz: Array, gains_db: dict[str, float], sample_rate: int) -> Array:
        """How much it changes each frequency while its movements, by name, stand so; mix and match are left out."""

        def answer(filter_: Array) -> Array:
            return variable.response(filter_, frequencies_hz, sample_rate)  # type: ignore[return-value]

        bands = [(place, band) for place, band in enumerate(settings.bands) if band.on]
        match = settings.match_highs
        moved = [(band, gains_db.get(f"band{place + 1}.gain_db", 0.0)) for place, band in bands]
        added = [answer(resting(band, db, sample_rate, match_highs=match)) for band, db in moved]
        rest = np.ones(frequencies_hz.shape, complex)
        for _, band in bands:
            if covers(band):
                rest = rest * answer(band_region(band, sample_rate, rest=True))
        held = db_to_lin(settings.rest.gain_db + gains_db.get("rest.gain_db", 0.0)) if settings.rest.on else 1.0
        base = 1.0 + (held - 1.0) * rest
        shaped = (
            base + sum(added) if settings.topology == "parallel" else base * np.prod([1.0 + a for a in added], axis=0)
        )
        shaped = shaped * sections_response(cut_sections(settings, sample_rate), frequencies_hz, sample_rate)
        return np.asarray(20.0 * np.log10(np.maximum(np.abs(shaped), 1e-6)) + settings.output_db)

    @classmethod
    def reach_db(cls, settings: Any) -> dict[str, float]:
        """By name how far each band, and the rest, may move."""
        moving = [(place + 1, band) for place, band in enumerate(settings.bands) if moves(band)]
        reach = {f"band{n}.gain_db": band.range_db * (1.0 if band.motion == "expand" else -1.0) for n, band in moving}
        return reach | ({"rest.gain_db": -settings.rest.range_db} if settings.rest.on else {})
