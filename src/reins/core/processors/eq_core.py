"""What works in a dynamic EQ: cuts, ears, bands and the rest, with one gain for all of its channels."""

from collections.abc import Mapping
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.dsp import along, dynamic_bands, dynamics, variable, watching
from reins.core.dsp.cuts import MovingCut
from reins.core.processors.base import NOTHING, Array, Block
from reins.core.processors.eq_bands import Ear
from reins.core.processors.eq_in_rows import WHERE, InRows
from reins.core.processors.eq_settings import MOST_BANDS
from reins.core.processors.sidechain import Key, lanes_of

Counts = npt.NDArray[np.int64]


class EqCore:
    """Bands, cuts and the rest at work on one or two channels alike."""

    carried = (
        "_region_state", "_filter_state", "_notch_state", "_follow_state", "_rest_state", "_low_cut", "_high_cut",
        "_ears", "_own_ears",
    )  # fmt: skip
    _settings: Any
    _source: Array
    _moving: Counts
    _names: list[str]  # of the gains of those
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

    def __init__(self, channels: int, sample_rate: int, key_channels: Mapping[str, int]) -> None:
        self._channels, self._sample_rate = channels, sample_rate
        self._key_channels = key_channels
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
        self._now: InRows | None = None
        self.gains_db: dict[str, Array] = {}
        self._begun = False

    def apply(self, tuned: Mapping[str, Any], over_frames: int | None) -> None:
        """Take over what settings come to (eq_tuning); a band keeps the state of the place it has in the list."""
        vars(self).update(tuned)
        settings = self._settings
        glide: dict[str, Any] = {"at_once": not self._begun, "frames": over_frames}
        self._begun = True
        self._low_cut.place(settings.low_cut_hz, settings.low_cut_slope // 6, **glide)
        self._high_cut.place(settings.high_cut_hz, settings.high_cut_slope // 6, **glide)
        names = [name for name, _, _ in self._listeners]
        if names != self._heeded:
            known = dict(zip(self._heeded, self._ears, strict=True))
            self._ears = [known.get(name) or self._ear(*name) for name in names]
            self._heeded, self._own_ears = names, {}

    def heard(self, place: int) -> Array:
        """What a band listens to; of one that does not move, the source after the cuts."""
        listening = zip(self._ears, self._listeners, strict=True)
        ear = next((ear for ear, (_, rows, _) in listening if place in self._moving[rows]), None)
        return self._source if ear is None else ear.heard

    @property
    def source(self) -> Array:
        """The block just heard, after the cuts."""
        return self._source

    def _ear(self, key: Key, weight_db_oct: float) -> Ear:
        own = self._channels if "self" in (key.source, *(one.source for one in key.also)) else 1
        lanes = lanes_of(key, own, self._key_channels)
        return Ear(key, weight_db_oct=weight_db_oct, lanes=lanes, sample_rate=self._sample_rate)

    def _cut(self, source: Array, now: InRows | None) -> Array:
        if now is None and not self._low_cut.acting and not self._high_cut.acting:
            return source
        cuts = (("low_cut", self._low_cut), ("high_cut", self._high_cut))
        moving = {name: hz for name, _ in cuts if now is not None and (hz := now.cut_hz(f"{name}_hz")) is not None}
        source = source.copy()
        for name, cut in cuts:
            if now is not None and name in moving:
                order = vars(self._settings)[f"{name}_slope"] // 6
                cut.sweep(source, moving[name], (0.0, 0.0), order, now.rows)
            else:
                cut.process(source)
        return source

    def hear(self, sound: Array, block: Block) -> Array:
        """The magnitude of what each moving band hears of the next block (moving bands, frames), the louder channel.
        sound: what of the block it works on.
        """
        moving = None if block.moved is None else block.moved.rows
        self._now = now = None if moving is None else InRows(self._settings, moving, self._sample_rate)
        self._source = source = self._cut(sound, now)
        keys, amplitude = block.keys, np.empty((self._moving.size, source.shape[1]))
        for ear, (name, rows, regions) in zip(self._ears, self._listeners, strict=True):
            if now is None:
                self._watch(ear.process(source, keys), rows, regions, amplitude)
                continue
            own = [] if not now.keys else [k for k, p in enumerate(self._moving[rows]) if p in now.keys]
            for k in own:  # a key that moves is heard by an ear of its own
                place = int(self._moving[rows[k]])
                if place not in self._own_ears:
                    self._own_ears[place] = self._ear(*name)
                listener = self._own_ears[place]
                heard = listener.process_moved(source, keys, now.rows, f"bands.{place}.key.")
                self._regions(heard, rows[[k]], regions[[k]], amplitude, now)
            rest = np.delete(np.arange(rows.size), own) if own else slice(None)
            if len(own) < rows.size:
                self._regions(ear.process(source, keys), rows[rest], regions[rest], amplitude, now)
        return amplitude

    def make(self, amplitude: Array) -> Array:
        """The result for the block just heard, before mix and output, by magnitudes that may have been tied to others';
        they are used up.
        """
        source, now, moved = self._source, self._now, np.empty_like(amplitude)
        if self._moving.size:
            params = None if now is None else now.params(self._moving.tolist(), self._params)
            if now is None or params is None:
                dynamic_bands.follow_bands(
                    amplitude, self._moving, self._follow_state, self._params, self._curves, self._scratch, moved
                )
            else:
                dynamic_bands.follow_bands_in_rows(
                    amplitude,
                    self._moving,
                    self._follow_state,
                    params,
                    self._curves,
                    now.rows.begins,
                    self._scratch,
                    moved,
                )
        self.gains_db = dict(zip(self._names, moved, strict=True))
        out = source.copy()
        if self._rest_params is not None:
            out += self._hold_rest(source, now)
        if now is None or not any(map(now.sweeps, range(len(self._settings.bands)))):
            self._filter(source, moved, out)
        else:
            self._filter_in_rows(source, moved, out, now)
        return out

    def _regions(self, heard: Array, rows: Counts, regions: Array, amplitude: Array, now: InRows) -> None:
        """As _watch, while regions move."""
        state = self._region_state
        swept = [k for k, p in enumerate(self._moving[rows]) if now.watches_elsewhere(int(p))]
        if swept:
            own, places = rows[swept], self._moving[rows[swept]]
            watched = np.stack([now.region(int(place)) for place in places])
            along.watch_in_rows(heard, own, places, watched, now.rows.begins, state, np.empty_like(heard), amplitude)
            rows, regions = np.delete(rows, swept), np.delete(regions, swept, axis=0)
        self._watch(heard, rows, regions, amplitude)

    def _watch(self, heard: Array, rows: Counts, regions: Array, amplitude: Array) -> None:
        """The magnitude of what some moving bands cover of what they listen to, into their rows of amplitude."""
        watching.watch_regions(heard, rows, self._moving[rows], regions, self._region_state, amplitude)

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
                into is out, self._filter_scratch, self._filter_state, out,
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
