"""Dynamic EQ: bells, shelves and cuts whose gain may move with what they cover.

At rest each band answers as the cookbook's bell or shelf (see dsp.variable), or with match_highs as their analogue
prototype up to 18 kHz (dsp.matched), and each cut as a Butterworth filter. In
parallel every band works on the source after the cuts, and what each adds to it or takes from it is summed; in series
each works on what the one before it made. A moving band adds its movement in dB to its gain at rest. Its detector
follows peaks, the louder channel for all, of what it watches: its own region (a band-pass of its frequency and Q for
a bell, a Butterworth low- or high-pass for a shelf) or the whole, of the source after the cuts or of its key, weighted
up above 100 Hz by weight_db_oct; with rms_pct it follows the average. A band with motion "curve" is moved by points of
level in and out (dsp.curving), rounded over its knee, within its range. A band's movement is named bandN.gain_db, N
counted from 1.

The rest is the source after the cuts less the regions of all moving and spared bands (a row of notches). It is
compressed by itself and its change added to the sound; in series this comes first. With `timing` "rest" a band takes
attack and release of the rest, with "rest_ratio" its ratio too; automatic release stays the rest's own.

match_loudness takes back what gains at rest and cuts do to the loudness of the take, weighed by its measured spectrum
(see core.measure.spectra), or by pink noise where none is known.

Decided here: a band that is off does nothing; bands have one gain for both channels; mix_pct blends with
the source before the cuts.
"""

import math
from collections.abc import Mapping
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp import along, dynamics, variable
from reins.core.dsp.cuts import MovingCut
from reins.core.dsp.filters import ring_s, sections_response
from reins.core.dsp.octaves import TWELFTHS_HZ, matching_gain
from reins.core.processors.base import NOTHING, Array, Block, Processor, Rows, mixed
from reins.core.processors.eq_bands import (
    Ear,
    band_region,
    band_ring_s,
    covers,
    cut_sections,
    moves,
    resting,
)
from reins.core.processors.eq_in_rows import WHERE, InRows, prepare_tables
from reins.core.processors.eq_settings import MOST_BANDS, DynamicEqSettings
from reins.core.processors.eq_tuning import tune_bands
from reins.core.processors.release import remembers_s
from reins.core.processors.sidechain import Key, lanes_of
from reins.core.units import db_to_lin

Counts = npt.NDArray[np.int64]


LEAST_TAIL_S = 0.05  # narrow shelves that follow the analogue curve ring longer near half the rate than it does


class DynamicEq(Processor):
    """The processor; see the module's docstring for its meaning."""

    type_name = "dynamic_eq"
    label = "Dynamic EQ"
    about = "Bells, shelves and cuts that may move with what they cover."
    overdoes = True
    views = ("spectrum", "bands")
    covers = "bells"
    timed_with = {"bands": [{"motion": "compress", "threshold_db": -50.0, "freq_hz": 60.0 * 2.2**k} for k in range(8)]}
    carried = (
        "_region_state", "_filter_state", "_notch_state", "_follow_state", "_rest_state", "_low_cut", "_high_cut",
        "_ears", "_own_ears",
    )  # fmt: skip
    Settings = DynamicEqSettings
    added_with = {"match_highs": True}
    _settings: Any
    _moving: Counts
    _params: Array
    _listeners: list[tuple[tuple[Key, float], Counts, Array]]
    _curves: Array
    _shapes: Counts
    _base_db: Array
    _warped: Array
    _inverse_q: Array
    _still: dict[int, Array]
    _tables: Array | None
    _runs: list[tuple[Counts, Counts]]
    _notches: list[tuple[int, Array]]
    _rest_params: Array | None

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}) -> None:
        self._channels, self._sample_rate = channels, sample_rate
        self._key_channels = key_channels
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
        self._heeded: list[tuple[Key, float]] = []  # what bands listen to, and their ears for it
        self._ears: list[Ear] = []
        self._own_ears: dict[int, Ear] = {}  # by place, of bands whose key moves
        self.gains_db = {}
        self.apply(settings)

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int) -> dict[str, Any]:
        return tune_bands(settings, channels, sample_rate)

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings; a band keeps the state of the place it has in the list."""
        first = not hasattr(self, "_settings")
        tune = self.tuned if over_frames is None else self._tune
        vars(self).update(tune(settings, self._channels, self._sample_rate))
        glide: dict[str, Any] = {"at_once": first, "frames": over_frames}
        self._low_cut.place(settings.low_cut_hz, settings.low_cut_slope // 6, **glide)
        self._high_cut.place(settings.high_cut_hz, settings.high_cut_slope // 6, **glide)
        names = [name for name, _, _ in self._listeners]
        if names != self._heeded:
            known = dict(zip(self._heeded, self._ears, strict=True))
            self._ears = [known.get(name) or self._ear(*name) for name in names]
            self._heeded, self._own_ears = names, {}
        self._match = self._matching() if settings.match_loudness else 1.0

    def _ear(self, key: Key, weight_db_oct: float) -> Ear:
        own = self._channels if "self" in (key.source, *(one.source for one in key.also)) else 1
        lanes = lanes_of(key, own, self._key_channels)
        return Ear(key, weight_db_oct=weight_db_oct, lanes=lanes, sample_rate=self._sample_rate)

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

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        rows = None if block.moved is None else block.moved.rows
        now = None if rows is None else InRows(self._settings, rows, self._sample_rate)
        self._source = source = self._cut(block.sound, now)
        moved = self._watch(source, block.keys, now)
        self.gains_db = {f"band{place + 1}.gain_db": moved[row] for row, place in enumerate(self._moving)}
        out = source.copy()
        if self._rest_params is not None:
            out += self._hold_rest(source, now)
        if now is None or not any(map(now.sweeps, range(len(self._settings.bands)))):
            self._filter(source, moved, out)
        else:
            self._filter_in_rows(source, moved, out, now)
        settings = self._settings
        gains = {} if block.moved is None else block.moved.gains
        if self._match != 1.0:
            out *= self._match
        return mixed(block.sound, out, settings, gains)

    def takes(self, rows: Rows) -> bool:
        """All of them."""
        return True

    def _cut(self, source: Array, now: InRows | None) -> Array:
        cuts = (("low_cut", self._low_cut), ("high_cut", self._high_cut))
        moving = {name: hz for name, _ in cuts if now is not None and (hz := now.cut_hz(f"{name}_hz")) is not None}
        if not moving and not any(cut.acting for _, cut in cuts):
            return source
        source = source.copy()
        for name, cut in cuts:
            if now is not None and name in moving:
                order = vars(self._settings)[f"{name}_slope"] // 6
                cut.sweep(source, moving[name], (0.0, 0.0), order, now.rows)
            else:
                cut.process(source)
        return source

    def _watch(self, source: Array, keys: Mapping[str, Array], now: InRows | None) -> Array:
        """How far each moving band has moved, in dB: (moving bands, frames)."""
        shape = (self._moving.size, source.shape[1])
        amplitude, moved = np.empty(shape), np.empty(shape)
        for ear, (name, rows, regions) in zip(self._ears, self._listeners, strict=True):
            own = [] if now is None or not now.keys else [k for k, p in enumerate(self._moving[rows]) if p in now.keys]
            for k in own:  # a key that moves is heard by an ear of its own
                place = int(self._moving[rows[k]])
                if place not in self._own_ears:
                    self._own_ears[place] = self._ear(*name)
                listener = self._own_ears[place]
                heard = listener.process_moved(source, keys, now.rows, f"bands.{place}.key.")  # type: ignore[union-attr]
                self._regions(heard, rows[[k]], regions[[k]], amplitude, now)
            rest = np.delete(np.arange(rows.size), own) if own else slice(None)
            if len(own) < rows.size:
                self._regions(ear.process(source, keys), rows[rest], regions[rest], amplitude, now)
        if self._moving.size:
            params = None if now is None else now.params(self._moving.tolist(), self._params)
            if now is None or params is None:
                dynamics.follow_bands(
                    amplitude, self._moving, self._follow_state, self._params, self._curves, self._scratch, moved
                )
            else:
                dynamics.follow_bands_in_rows(
                    amplitude,
                    self._moving,
                    self._follow_state,
                    params,
                    self._curves,
                    now.rows.begins,
                    self._scratch,
                    moved,
                )
        return moved

    def _regions(self, heard: Array, rows: Counts, regions: Array, amplitude: Array, now: InRows | None) -> None:
        """The magnitude of what some moving bands cover of what they listen to, into their rows of amplitude."""
        region, state = np.empty_like(heard), self._region_state
        swept = [] if now is None else [k for k, p in enumerate(self._moving[rows]) if now.watches_elsewhere(int(p))]
        if now is not None and swept:
            own, places = rows[swept], self._moving[rows[swept]]
            watched = np.stack([now.region(int(place)) for place in places])
            along.watch_in_rows(heard, own, places, watched, now.rows.begins, state, region, amplitude)
            rows, regions = np.delete(rows, swept), np.delete(regions, swept, axis=0)
        variable.watch_regions(heard, rows, self._moving[rows], regions, state, region, amplitude)

    def _hold_rest(self, source: Array, now: InRows | None) -> Array:
        rest, changed = source.copy(), np.empty_like(source)
        for place, notch in self._notches:
            if now is not None and WHERE & now.of(place):
                notches, state = now.region(place, rest=True), self._notch_state[place]
                along.filter_in_rows(rest, notches, now.rows.begins, state, False, rest)
            else:
                variable.filter_still(rest, notch, self._notch_state[place], False, rest)
        gain_db = np.empty((1, source.shape[1]))
        params = None if now is None else now.rest_params()
        if now is None or params is None:
            dynamics.follow_curve(rest, rest, self._rest_state, self._rest_params, self._scratch, gain_db, changed)
        else:
            dynamics.follow_moving(
                rest, rest, self._rest_state, params, now.rows.begins, NOTHING, self._scratch, gain_db, changed
            )
        self.gains_db["rest.gain_db"] = gain_db[0]
        return changed

    def _filter(self, source: Array, moved: Array, out: Array) -> None:
        into = out if self._settings.topology == "serial" else source
        for rows, places in self._runs:
            self._run(rows, places, into, moved, out)

    def _run(self, rows: Counts, places: Counts, into: Array, moved: Array, out: Array) -> None:
        """Add to out what neighbours add that move, by row of `moved`, or that stand still: then there are no rows."""
        if rows.size and self._tables is not None:
            variable.filter_moving_matched(
                into, rows, places, moved, self._base_db, self._tables, self._filter_scratch, self._filter_state, out
            )
        elif rows.size:
            variable.filter_moving(
                into, rows, places, moved, self._base_db, self._shapes, self._warped, self._inverse_q,
                self._filter_scratch, self._filter_state, out,
            )  # fmt: skip
        for place in places if not rows.size else ():
            variable.filter_still(into, self._still[place], self._filter_state[place], True, out)

    def _filter_in_rows(self, source: Array, moved: Array, out: Array, now: InRows) -> None:
        """As _filter, band by band, because some are swept."""
        into = out if self._settings.topology == "serial" else source
        row_of = {int(place): row for row, place in enumerate(self._moving)}
        for place in range(len(self._settings.bands)):
            row = row_of.get(place)
            if now.sweeps(place):
                by = 0.0 if row is None else moved[row]
                now.sweep(place, into, by, self._filter_scratch, self._filter_state[place], out)
            elif row is not None or place in self._still:
                rows, places = (np.array([] if one is None else [one], np.int64) for one in (row, place))
                self._run(rows, places, into, moved, out)

    def hears(self, band: str = "") -> tuple[Array, Array | None] | None:
        """What a band's detector heard, and the band's region; of one that does not move, the source after the cuts."""
        if band == "rest.gain_db" and self._rest_params is not None:
            notches = [variable.as_sections(notch) for _, notch in self._notches]
            return self._source, np.concatenate(notches) if notches else None
        region = self.region_of(self._settings, band, self._sample_rate)
        if region is None:
            return None
        place = int(band.removeprefix("band").removesuffix(".gain_db")) - 1
        listening = zip(self._ears, self._listeners, strict=True)
        ear = next((ear for ear, (_, rows, _) in listening if place in self._moving[rows]), None)
        return self._source if ear is None else ear.heard, region

    @classmethod
    def measures_all(cls, settings: Any, band: str) -> bool:
        """Whether it watches the whole."""
        part = band.removeprefix("band").removesuffix(".gain_db")
        return part.isdigit() and settings.bands[int(part) - 1].watch == "whole"

    @classmethod
    def prepare_moved(cls, settings: Any, spans: Mapping[str, tuple[float, float]], sample_rate: int) -> None:
        """The tables beside the ways of bands that follow the analogue curve."""
        if settings.match_highs:
            prepare_tables(settings.bands, spans, sample_rate)

    @classmethod
    def region_of(cls, settings: Any, band: str, sample_rate: int) -> Array | None:
        """What a band covers."""
        for place, own in enumerate(settings.bands):
            if band == f"band{place + 1}.gain_db":
                return variable.as_sections(band_region(own, sample_rate))
        return None

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as the slowest of what moves remembers."""
        parts = [*filter(moves, settings.bands), *([settings.rest] if settings.rest.on else [])]
        return max(map(remembers_s, parts), default=0.0)

    @classmethod
    def tail_s(cls, settings: Any) -> float:
        """As long as the cut or band rings that rings longest."""
        cuts = ((settings.low_cut_hz, settings.low_cut_slope), (settings.high_cut_hz, settings.high_cut_slope))
        rings = [ring_s(hz, 0.5 / math.sin(math.pi / (slope // 3))) for hz, slope in cuts if hz > 0.0]
        bands = (band_ring_s(band, match_highs=settings.match_highs) for band in settings.bands)
        longest = max([*rings, *bands], default=0.0)
        return max(longest, LEAST_TAIL_S) if longest else 0.0

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
        reach = {f"band{n}.gain_db": band.range_db * (1.0 if _rises(band) else -1.0) for n, band in moving}
        return reach | ({"rest.gain_db": -settings.rest.range_db} if settings.rest.on else {})


def _rises(band: Any) -> bool:
    """Whether a band moves up furthest."""
    if band.motion != "curve":
        return bool(band.motion == "expand")
    gains = [point.value - point.at for point in band.points]
    return max(gains) > -min(gains)
