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

With `channels` "mid_side" all of it works on the middle and the sides; `apply_to` leaves one of the two as it came.
Under 100 % link_pct each channel has a gain of its own, found from its own level and so much of the louder one's, in
dB.

Decided here: a band that is off does nothing; mix_pct blends with the source before the cuts; the rest is not linked
where channels are parted.
"""

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from reins.core.dsp import variable
from reins.core.dsp.filters import ring_s, sections_response
from reins.core.dsp.gains import tie_alike
from reins.core.dsp.octaves import TWELFTHS_HZ, matching_gain
from reins.core.processors.base import Array, Block, Processor, Rows, band_of, mixed
from reins.core.processors.detecting import from_mid_side, to_mid_side
from reins.core.processors.eq_bands import (
    band_region,
    band_ring_s,
    covers,
    cut_sections,
    moves,
    region_sections,
    resting,
)
from reins.core.processors.eq_core import EqCore
from reins.core.processors.eq_in_rows import prepare_tables
from reins.core.processors.eq_settings import DynamicEqSettings
from reins.core.processors.eq_tuning import tune_bands
from reins.core.processors.release import remembers_s
from reins.core.units import db_to_lin

LEAST_TAIL_S = 0.05  # narrow shelves that follow the analogue curve ring longer near half the rate than it does


class DynamicEq(Processor):
    """The processor; see the module's docstring for its meaning."""

    type_name = "dynamic_eq"
    label = "Dynamic EQ"
    about = "Bells, shelves and cuts that may move with what they cover."
    known_as = "by frequency equalizer eq bell shelf cut resonance boom"
    overdoes = True
    views = ("spectrum", "bands")
    covers = "bells"
    timed_with = {"bands": [{"motion": "compress", "threshold_db": -50.0, "freq_hz": 60.0 * 2.2**k} for k in range(8)]}
    carried = ("_cores",)
    Settings = DynamicEqSettings
    added_with = {"match_highs": True}
    _settings: Any

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}) -> None:
        self._channels, self._sample_rate = channels, sample_rate
        self._spectrum: Array | None = None
        parted = channels == 2 and settings.link_pct < 100.0
        # One for both channels, or one for each.
        self._cores = [EqCore(1 if parted else channels, sample_rate, key_channels) for _ in range(2 if parted else 1)]
        self.gains_db = {}
        self.apply(settings)

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int) -> dict[str, Any]:
        return tune_bands(settings, channels, sample_rate)

    @classmethod
    def shape_of(cls, settings: Any) -> tuple[Any, ...]:
        """What its channels are, and whether each goes its own way."""
        return settings.channels, settings.link_pct < 100.0

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings; a band keeps the state of the place it has in the list."""
        tune = self.tuned if over_frames is None else self._tune
        tuned = tune(settings, self._channels // len(self._cores), self._sample_rate)
        for core in self._cores:
            core.apply(tuned, over_frames)
        self._settings = settings
        self._mid_side = settings.channels == "mid_side" and self._channels == 2
        self._match = self._matching() if settings.match_loudness else 1.0

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
        settings = self._settings
        sound = to_mid_side(block.sound) if self._mid_side else block.sound
        own = [sound] if len(self._cores) == 1 else [sound[:1], sound[1:]]
        heard = [core.hear(part, block) for core, part in zip(self._cores, own, strict=True)]
        if len(heard) == 2 and settings.link_pct > 0.0:
            tie_alike(*heard, settings.link_pct / 100.0)
        parts = [core.make(amplitude) for core, amplitude in zip(self._cores, heard, strict=True)]
        out = parts[0] if len(parts) == 1 else np.concatenate(parts)
        if self._match != 1.0:
            out *= self._match
        if self._channels == 2 and settings.apply_to != "both":
            untouched = 1 if settings.apply_to == "first" else 0
            out[untouched] = sound[untouched]
        self.gains_db = self._told()
        out = mixed(sound, out, settings, {} if block.moved is None else block.moved.gains)
        return from_mid_side(out) if self._mid_side else out

    def _told(self) -> dict[str, Array]:
        """The gains, where each channel has its own the one that moves further, of those that are acted on."""
        told = [core.gains_db for core in self._cores]
        if len(told) == 1:
            return told[0]
        acts = {"both": told, "first": told[:1], "second": told[1:]}[self._settings.apply_to]
        return {
            name: np.where(np.abs(row) >= np.abs(acts[-1][name]), row, acts[-1][name]) for name, row in acts[0].items()
        }

    def takes(self, rows: Rows) -> bool:
        """All of them."""
        return True

    def hears(self, band: str = "") -> tuple[Array, Array | None] | None:
        """What a band's detector heard, and the band's region; of one that does not move, the source after the cuts."""
        region = self.region_of(self._settings, band, self._sample_rate)
        if band == "rest.gain_db" and self._settings.rest.on:
            return self._both([core.source for core in self._cores]), region
        if region is None:
            return None
        place = band_of(band) or 0
        key = self._settings.bands[place].key
        heard = [core.heard(place) for core in self._cores]
        if key.source != "self" or key.also:
            return heard[0], region
        return self._both(heard), region

    def _both(self, heard: list[Array]) -> Array:
        """What each core heard of the sound as left and right."""
        joined = heard[0] if len(heard) == 1 else np.concatenate(heard)
        return from_mid_side(joined) if self._mid_side and len(joined) == 2 else joined

    @classmethod
    def measures_all(cls, settings: Any, band: str) -> bool:
        """Whether it watches the whole."""
        place = band_of(band)
        return place is not None and settings.bands[place].watch == "whole"

    @classmethod
    def prepare_moved(cls, settings: Any, spans: Mapping[str, tuple[float, float]], sample_rate: int) -> None:
        """The tables beside the ways of bands that follow the analogue curve."""
        if settings.match_highs:
            prepare_tables(settings.bands, spans, sample_rate)

    @classmethod
    def region_of(cls, settings: Any, band: str, sample_rate: int) -> Array | None:
        """What a band covers."""
        place = band_of(band)
        if place is not None:
            return region_sections(settings.bands[place], sample_rate) if place < len(settings.bands) else None
        if band == "rest.gain_db":
            notches = [region_sections(own, sample_rate, rest=True) for own in settings.bands if covers(own)]
            return np.concatenate(notches) if notches else None
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
