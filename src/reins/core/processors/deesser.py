"""De-esser: holds a band, or all, while that band is loud.

The detector hears what lies between low_hz and high_hz (Butterworth cuts, 24 dB/oct) and follows its peaks, or its
average; with
`relative` its level counts from that of the whole around it, pauses and esses left out (dsp.reference), so that quiet
and loud lines, and an ess after silence and after a vowel, are treated alike. On a take the level is measured from both
sides of each moment, which makes the result later; on a sum, or from a key, from what came before. Curve and ballistics
are the compressor's.

What is held is a band-pass around the middle of the band, 1 dB down at low_hz and high_hz, taken from the source in
proportion: result = source - (1 - gain) band. So at rest the result is the source, to the last bit, and the
difference is the band alone. act_on "whole" holds all alike.

Decided here: threshold_db goes up to 0 dB of full scale, or from -40 to 20 dB when relative.
"""

import math
from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
from pydantic import model_validator

from reins.core.dsp import dynamics, variable
from reins.core.dsp.cuts import prewarped
from reins.core.dsp.filters import butterworth_cut, butterworth_cuts, ring_s, run_sections, run_sections_in_rows
from reins.core.dsp.gains import join, to_lin
from reins.core.dsp.held_bands import hold_watched
from reins.core.dsp.reference import Reference, ahead_frames
from reins.core.dsp.sweeping import columns, filter_swept
from reins.core.processors.base import NOTHING, Array, Block, Delay, Moved, Processor, Rows
from reins.core.processors.compressor import Compressor, CompressorSettings
from reins.core.processors.curves import compress
from reins.core.processors.detecting import DetectorSettings, FollowingCurve
from reins.core.processors.shaper import LATENCY_FRAMES, Bend, Grit, grit
from reins.core.processors.sidechain import lanes_of
from reins.core.settings import usual
from reins.core.settings.describing import choice, number
from reins.core.settings.models import MisfitError
from reins.core.units import db_to_lin, ms_to_frames

DETECTOR_ORDER = 4
EDGES = ("low_hz", "high_hz")
EDGE_DB = 1.0
EDGE_DEPTH = math.sqrt(10.0 ** (EDGE_DB / 10.0) - 1.0)  # Q times the spread of the edges
LEAST_WIDTH = 1.05  # of its band, upper edge over lower


class DeesserSettings(DetectorSettings):
    """Settings of the de-esser."""

    low_hz: float = number(
        5000.0, 100, 16000, label="From", unit="Hz", group="Level", step=10, scale="log",
        help="Lower edge of the band that is watched.",
    )  # fmt: skip
    high_hz: float = number(
        9000.0, 200, 20000, label="To", unit="Hz", group="Level", step=10, scale="log",
        help="Upper edge of the band that is watched; ready bands stand above the spectrum.",
    )  # fmt: skip
    act_on: Literal["band", "whole"] = choice(
        "band", label="Act on", group="Level", words={"band": "the band", "whole": "all"},
        help="Whether only the band is turned down while it is loud, or everything.",
    )  # fmt: skip
    relative: bool = choice(
        False, label="Relative", group="Level",
        help="Measures the band against the whole signal, so that quiet and loud lines are treated alike.",
    )  # fmt: skip
    threshold_db: float = usual.threshold_db(
        -30.0,
        "What is louder than this in the band is held; relative, it counts from the level of the whole.",
        low=-60,
        high=20,
    )
    ratio: float = usual.ratio(
        4.0, "How many dB in make one dB out above the threshold; 100 lets nothing more through."
    )
    knee_db: float = usual.knee_db(3.0, "How gently the hold sets in around the threshold.")
    range_db: float = usual.range_db(
        12.0, "The most it may ever take away; more than 10 dB takes esses away. 60 means no limit."
    )
    soft_range: bool = usual.soft_range()
    attack_ms: float = usual.attack_ms(1.0, "How long until it acts; esses are short.")
    release_ms: float = usual.release_ms(
        60.0, "How long it takes to go back; too long takes highs from the vowel after the ess."
    )
    auto_release: bool = usual.auto_release("Lets go quickly after a lone ess, slowly after many.")
    grit_pct: float = usual.share_pct(
        0.0, "Bends what is being held, and nothing else: harmonics in place of the edge.", label="Grit", group="Out",
        moves=False,
    )  # fmt: skip

    def bound(self, moved: dict[str, Any]) -> None:
        """The upper edge stays above the lower one; the threshold where `relative` has it."""
        low, high = moved.get("low_hz"), moved.get("high_hz")
        if low is not None and high is None:
            moved["low_hz"] = np.minimum(low, self.high_hz / LEAST_WIDTH)
        if high is not None:
            moved["high_hz"] = np.maximum(high, LEAST_WIDTH * (self.low_hz if low is None else low))
        if "threshold_db" in moved:
            moved["threshold_db"] = np.clip(moved["threshold_db"], *self.threshold_limits_db)

    @property
    def threshold_limits_db(self) -> tuple[float, float]:
        """Between what the threshold lies, against the voice or as a level."""
        return (-40.0, 20.0) if self.relative else (-60.0, 0.0)

    @model_validator(mode="after")
    def _go_together(self) -> "DeesserSettings":
        if self.high_hz < self.low_hz * LEAST_WIDTH:
            raise MisfitError("high_hz", self.high_hz, f"at least 5 % above low_hz, which is {self.low_hz:g} Hz")
        low, high = self.threshold_limits_db
        if not low <= self.threshold_db <= high:
            allowed = f"a number from {low:g} to {high:g} dB {'while' if self.relative else 'unless'} relative is on"
            raise MisfitError("threshold_db", self.threshold_db, allowed)
        return self

    @classmethod
    def settled(cls, settings: dict[str, Any], changed: set[str]) -> dict[str, Any]:
        """Settings with the threshold moved into the limits that switching `relative` has just given it."""
        if "relative" in changed and "threshold_db" not in changed:
            low, high = (-40.0, 20.0) if settings["relative"] else (-60.0, 0.0)
            settings["threshold_db"] = min(high, max(low, settings["threshold_db"]))
        return settings


def edges(settings: DeesserSettings, sample_rate: int) -> Array:
    """Sections of what the detector hears."""
    low = butterworth_cut("low_cut", cutoff_hz=settings.low_hz, order=DETECTOR_ORDER, sample_rate=sample_rate)
    high = butterworth_cut("high_cut", cutoff_hz=settings.high_hz, order=DETECTOR_ORDER, sample_rate=sample_rate)
    return np.concatenate([low, high])


def edges_in_rows(low_hz: Array, high_hz: Array, sample_rate: int) -> Array:
    """As edges, (rows, sections, 5), for edges (rows,)."""
    more: dict[str, Any] = {"order": DETECTOR_ORDER, "sample_rate": sample_rate}
    low = butterworth_cuts("low_cut", cutoff_hz=low_hz, **more)
    return np.concatenate([low, butterworth_cuts("high_cut", cutoff_hz=high_hz, **more)], axis=1)


def _over(moving: Mapping[str, Array], name: str, settings: Any, rows: Rows) -> Array:
    """A setting over the rows, moving or standing."""
    return moving[name] if name in moving else np.full(rows.begins.size, getattr(settings, name))


def _held(low: Any, high: Any) -> tuple[Any, Any]:
    """g and k of the band-pass that is held, of its edges as tan(pi f / rate): numbers or arrays."""
    spread = np.maximum(np.sqrt(high / low) - np.sqrt(low / high), 1e-9)  # both edges may lie at the Nyquist rate
    return np.sqrt(low * high), spread / EDGE_DEPTH


def held_band(settings: DeesserSettings, sample_rate: int) -> Array:
    """The band-pass that is held (see dsp.variable): EDGE_DB down at both edges."""
    g, k = _held(*(variable.prewarped(f, sample_rate) for f in (settings.low_hz, settings.high_hz)))
    return variable.fixed(g, k, 0.0, k, 0.0)


class Deesser(FollowingCurve):
    """The processor; see the module's docstring for its meaning."""

    type_name = "deesser"
    label = "De-esser"
    about = "Holds esses and harshness: a band, while it is loud."
    known_as = "hold esses sibilance harsh s ess by frequency"
    views = ("spectrum", "in_out", "burst", "heard")
    covers = "span"
    ready = ((1000, 3000, "nasal"), (3000, 6000, "presence"), (5000, 9000, "esses"), (8000, 16000, "air"))
    Settings = DeesserSettings

    @classmethod
    def on_take(cls) -> type[Processor]:
        """The one that measures from both sides."""
        return TakeDeesser

    @classmethod
    def _looks_ahead(cls, settings: Any) -> bool:
        """Whether the level of the whole is measured from both sides of each moment."""
        return False

    @classmethod
    def latency_of(cls, settings: Any, *, sample_rate: int) -> int:
        """The lookahead in frames, and how far a level measured from both sides reaches."""
        own = super().latency_of(settings, sample_rate=sample_rate)
        return own + cls._seen_ahead(settings, sample_rate) + (LATENCY_FRAMES if settings.grit_pct else 0)

    @classmethod
    def _seen_ahead(cls, settings: Any, sample_rate: int) -> int:
        return ahead_frames(sample_rate) if cls._looks_ahead(settings) else 0

    @property
    def latency_frames(self) -> int:
        """What it sees ahead, and with grit the way to the raised rate and back."""
        return self._delay.frames + (0 if self._grit is None else LATENCY_FRAMES)

    def leaves_late(self, path: str) -> int:
        """What it sees ahead: grit comes after its gains."""
        return self._delay.frames

    @classmethod
    def tail_s(cls, settings: Any) -> float:
        """As long as the band rings."""
        low, high = settings.low_hz, settings.high_hz
        q = EDGE_DEPTH / (math.sqrt(high / low) - math.sqrt(low / high))
        return ring_s(math.sqrt(low * high), q) if settings.act_on == "band" else 0.0

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as its gain remembers, and the reference it measures against."""
        return super().settling_s(settings) + (1.0 if settings.relative else 0.0)

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}) -> None:
        lanes = lanes_of(settings.key, channels, key_channels)
        self._edge_state = np.zeros((DETECTOR_ORDER, lanes, 2))
        ahead = self._looks_ahead(settings)
        self._reference = Reference(lanes, sample_rate, ahead=ahead)
        self._band_late = Delay(lanes, ahead_frames(sample_rate) if ahead else 0)
        self._band_state = np.zeros((channels, 2))
        self._grit = Grit(channels, sample_rate) if settings.grit_pct else None
        super().__init__(settings, channels=channels, sample_rate=sample_rate, key_channels=key_channels)
        seen = ms_to_frames(settings.lookahead_ms, sample_rate) + self._seen_ahead(settings, sample_rate)
        self._delay = Delay(channels, seen)

    beside_kernel = ("key.", *EDGES)
    carried = (*FollowingCurve.carried, "_edge_state", "_reference", "_band_late", "_band_state", "_grit")
    _edges: Array
    _band: Array
    _output: float
    _bent: Bend

    @classmethod
    def _set_curve(cls, settings: Any, params: Array, sample_rate: int) -> None:
        compress(params, settings, sample_rate=sample_rate)

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int, rows: int = 1) -> dict[str, Any]:
        tuned = super()._tune(settings, channels, sample_rate, rows)
        params = tuned["_params"]
        if settings.act_on == "band":  # what is added to the source: mix (gain - 1) band
            mix = settings.mix_pct / 100.0
            for dry, acts in ((dynamics.FIRST_DRY, "second"), (dynamics.SECOND_DRY, "first")):
                untouched = channels == 2 and settings.apply_to == acts
                params[..., dry : dry + 2] = (0.0, 0.0) if untouched else (-mix, mix)
        return tuned | {
            "_edges": edges(settings, sample_rate), "_band": held_band(settings, sample_rate),
            "_output": db_to_lin(settings.output_db), "_bent": grit(settings.grit_pct),
        }  # fmt: skip

    def _heard(self, block: Block) -> Array:
        whole = super()._heard(block)
        band = whole.copy()
        rows = None if block.moved is None else block.moved.rows
        if rows is not None and not rows.to.keys().isdisjoint(EDGES):
            low, high = (_over(rows.to, name, self._settings, rows) for name in EDGES)
            sections = edges_in_rows(low, high, self._sample_rate)
            run_sections_in_rows(sections, rows.begins, self._edge_state, band)
        else:
            run_sections(self._edges, self._edge_state, band)
        self.key_heard = band
        if not self._settings.relative:
            return band
        return self._reference.over(self._band_late.process(band), band, whole)

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        gain_db, out = np.empty((self._gain_lanes, block.sound.shape[1])), np.empty_like(block.sound)
        settings, gains = self._settings, {} if block.moved is None else block.moved.gains
        if block.moved is None and settings.act_on == "band" and not settings.relative:
            source = self._hold_still(block, gain_db, out)
        elif settings.act_on == "whole":
            source = self._delay.process(block.sound)
            self._follow(self._heard(block), source, block.moved, gain_db, out)
        else:
            source, band = self._delay.process(block.sound), np.empty_like(block.sound)
            self._take_band(source, block.moved, band)
            self._follow(self._heard(block), band, block.moved, gain_db, out)
            if gains:
                mix_pct, output_db = (gains.get(k, getattr(settings, k)) for k in ("mix_pct", "output_db"))
                out = join(source, out, mix_pct, output_db)
            else:
                out += source if self._output == 1.0 else source * self._output
        self.gains_db = {"gain_db": self._furthest(gain_db)}
        if self._grit is not None:
            output = to_lin(gains["output_db"]) if "output_db" in gains else self._output
            out = self._grit.process(out, [output * source - out], [output], [self._bent])
            self.gains_db = self._grit.told(self.gains_db)
        return out

    def _hold_still(self, block: Block, gain_db: Array, out: Array) -> Array:
        """What is asked for most, all in one: a band that stands, held by its own level. Returns the source."""
        whole, source = super()._heard(block), self._delay.process(block.sound)
        self.key_heard = watched = np.empty_like(whole)
        hold_watched(
            whole, source, self._edges, self._edge_state, self._band, self._band_state, self._state,
            self._params, self._output, self._scratch, watched, gain_db, out,
        )  # fmt: skip
        return source

    def _take_band(self, source: Array, moved: Moved | None, band: Array) -> None:
        """The band that is held, into band; a band that moves does so as it stands where what leaves came in."""
        rows = None if moved is None else moved.rows
        if rows is None or rows.at.keys().isdisjoint(EDGES):
            variable.filter_still(source, self._band, self._band_state, False, band)
            return
        band[:] = source
        ends = []
        for end in (rows.at, rows.to):
            warped = (prewarped(_over(end, name, self._settings, rows), self._sample_rate) for name in EDGES)
            g, k = _held(*warped)
            ends.append(columns(g, k, 0.0, k, 0.0, rows.begins.size))
        filter_swept(band, *ends, rows.begins, rows.into, rows.length, self._band_state)

    def _mixing(self, moved: Moved) -> Array:
        """Of a band, what is added to the source is mixed and levelled in process."""
        return NOTHING if self._settings.act_on == "band" else super()._mixing(moved)

    @classmethod
    def region_of(cls, settings: Any, band: str, sample_rate: int) -> Array | None:
        """What its detector hears."""
        return edges(settings, sample_rate) if band == "gain_db" else None

    @classmethod
    def stand_in(cls, settings: Any) -> tuple[type[Compressor], Any]:
        """A compressor with the same curve and times: what happens to the band's level."""
        curve, times = ("threshold_db", "ratio", "knee_db", "range_db"), ("attack_ms", "release_ms", "auto_release")
        names = (*curve, *times, "lookahead_ms", "key")
        alike = {name: getattr(settings, name) for name in names}
        return Compressor, CompressorSettings.model_construct(**CompressorSettings().model_dump() | alike)

    @classmethod
    def response_db(cls, settings: Any, frequencies_hz: Array, gains_db: dict[str, float], sample_rate: int) -> Array:
        """How much it changes each frequency while its gain stands so."""
        gain = db_to_lin(gains_db.get("gain_db", 0.0))
        share = settings.mix_pct / 100.0 * (gain - 1.0)
        held: Any = np.ones(frequencies_hz.shape)
        if settings.act_on == "band":
            held = variable.response(held_band(settings, sample_rate), frequencies_hz, sample_rate)
        changed = np.abs(1.0 + share * held)
        return np.asarray(20.0 * np.log10(np.maximum(changed, 1e-6)) + settings.output_db)

    @classmethod
    def reach_db(cls, settings: Any) -> dict[str, float]:
        """How far its gain may move."""
        return {"gain_db": -settings.range_db}


class TakeDeesser(Deesser):
    """The de-esser on a take: relative to its own sound, it measures the level of the whole from both sides."""

    @classmethod
    def _looks_ahead(cls, settings: Any) -> bool:
        return bool(settings.relative) and settings.key.source == "self" and not settings.key.also
