"""What all level-driven processors share: the detector's settings, its signal, lanes, lookahead.

A lane is a channel of what the detector hears: left and right, or middle and sides. A key of two channels on a mono
signal gives two lanes, which are then always linked.
"""

from abc import abstractmethod
from collections.abc import Mapping
from types import SimpleNamespace
from typing import Any, ClassVar, Literal

import numpy as np

from reins.core.dsp import dynamics
from reins.core.dsp.gains import shares, to_lin
from reins.core.processors.base import (
    FROM_THE_START,
    NOTHING,
    Array,
    Block,
    Counts,
    Delay,
    Moved,
    Processor,
    ProcessorSettings,
    Rows,
    View,
    alone,
    driven_db,
)
from reins.core.processors.curves import overdo
from reins.core.processors.release import remembers_s
from reins.core.processors.sidechain import Key, KeyPath, gathered, lanes_of
from reins.core.remembering import BySettings
from reins.core.settings import usual
from reins.core.settings.describing import choice, number
from reins.core.settings.paths import laid_over
from reins.core.units import db_to_lin, ms_to_frames, one_pole_k

PLAIN = {"mix_pct": 100.0, "output_db": 0.0, "makeup_db": 0.0, "input_db": 0.0}  # while gains move: see _mixing
RMS_MS = 10.0  # the window where a processor has no setting for it
STILL = ("attack_ms", "hold_ms", "release_ms", "down_ms", "back_ms", "rms_pct", "lookahead_ms")


_plain: BySettings[Any] = BySettings()


def average_pct(group: str = "Detect") -> Any:
    """Of a detector that can follow the average, how far it does."""
    return usual.share_pct(
        0.0, "0 catches peaks, 100 follows the average; between them a blend.", group=group, label="Average"
    )


def average_ms(group: str = "Detect") -> Any:
    """Over how long it takes the average."""
    return number(
        10.0, 1, 300, label="Window", unit="ms", group=group, step=1, scale="log",
        help="The span over which the average is taken.",
    )  # fmt: skip


Channels = Literal["stereo", "mid_side"]
Acted = Literal["both", "first", "second"]


def channels_as(group: str = "Detect") -> Any:
    """What the two channels are."""
    return choice(
        "stereo", label="Channels", group=group, words={"stereo": "L / R", "mid_side": "M / S"},
        help="Work on left and right, or on the middle and the sides.",
    )  # fmt: skip


def linked_pct(group: str = "Detect") -> Any:
    """How far both are held alike."""
    return usual.share_pct(
        100.0, "100 holds both channels by the same amount, 0 each by its own.", group=group, label="Link",
        moves=False,
    )  # fmt: skip


def acted_on(group: str = "Detect") -> Any:
    """Which of the two are held."""
    return choice(
        "both", label="Act on", group=group, words={"both": "both", "first": "L or M", "second": "R or S"},
        help="Which channels are held; the others pass untouched.",
    )  # fmt: skip


class AveragingSettings(ProcessorSettings):
    """Settings of a detector that can follow the average."""

    rms_pct: float = average_pct()
    rms_ms: float = average_ms()


class KeyedSettings(ProcessorSettings):
    """Settings of every processor with a detector."""

    lookahead_ms: float = number(
        0.0, 0, 20, label="Lookahead", unit="ms", group="Time", step=0.1, moves=False,
        help="Sees the sound this much before it comes, so the attack can be in place in time.",
    )  # fmt: skip
    channels: Channels = channels_as()
    link_pct: float = linked_pct()
    link_by: Literal["max", "mean"] = choice(
        "max", label="Link by", group="Detect", words={"max": "louder", "mean": "average"},
        help="Whether linked channels follow the louder one or the average of both.",
    )  # fmt: skip
    apply_to: Acted = acted_on()
    mix_pct: float = usual.share_pct(
        100.0,
        "How much of the held sound; the rest is the source, untouched.",
        group="Out",
        label="Mix",
        moves="gain",
    )
    output_db: float = usual.gain_db(
        0.0, "Level of everything that leaves, held and source alike.", group="Out", label="Output"
    )
    oversampling: usual.TimesTheRate = usual.oversampling()
    key: Key = Key()


class DetectorSettings(KeyedSettings, AveragingSettings):
    """Settings of a processor whose detector can follow peaks or the average."""


def has_key(rows: Rows) -> bool:
    """Whether settings of the processor's own key are among what moves."""
    return any(path.startswith("key.") for path in rows.at)


def part_lanes(state: Array) -> None:
    """Two lanes (2, LANE_STATE) that were tied go on from the same gain; each keeps its own level."""
    own = state[1, dynamics.MEAN_SQUARE]
    state[1] = state[0]
    state[1, dynamics.MEAN_SQUARE] = own


def to_mid_side(signal: Array) -> Array:
    """Left and right as M = (L+R)/2 and S = (L-R)/2."""
    return np.stack([0.5 * (signal[0] + signal[1]), 0.5 * (signal[0] - signal[1])])


def from_mid_side(signal: Array) -> Array:
    """Middle and sides as L = M + S and R = M - S."""
    return np.stack([signal[0] + signal[1], signal[0] - signal[1]])


class Detecting(Processor):
    """Base of the level-driven processors: hears, delays, links; what moves is theirs."""

    views: ClassVar[tuple[View, ...]] = ("in_out", "burst")
    line: ClassVar[str | None] = "threshold_db"
    carried: ClassVar[tuple[str, ...]] = ("_state", "_key_path", "_delay")
    #: How paths of settings begin that are no parameters of its kernel.
    beside_kernel: ClassVar[tuple[str, ...]] = ("key.",)
    params_size: ClassVar[int] = dynamics.PARAMS  # of its kernel
    _settings: Any
    _input: float
    _mid_side: bool
    _link: float

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}) -> None:
        self._channels, self._sample_rate = channels, sample_rate
        self._key_channels = key_channels
        self._lanes = lanes_of(settings.key, channels, key_channels)
        self._key_path = KeyPath(settings.key, channels=self._lanes, sample_rate=sample_rate)
        self._delay = Delay(channels, self.latency_of(settings, sample_rate=sample_rate))
        self._scratch = np.zeros((dynamics.SCRATCH_ROWS, dynamics.CHUNK))
        self.gains_db = {}

    @classmethod
    def latency_of(cls, settings: Any, *, sample_rate: int) -> int:
        """The lookahead in frames."""
        return ms_to_frames(settings.lookahead_ms, sample_rate)

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as its gain remembers."""
        return remembers_s(settings)

    @property
    def latency_frames(self) -> int:
        """The lookahead."""
        return self._delay.frames

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int, rows: int = 1) -> dict[str, Any]:
        return {
            "_settings": settings,
            "_input": db_to_lin(driven_db(settings)),
            "_mid_side": settings.channels == "mid_side" and channels == 2,
            "_link": 1.0 if channels == 1 else settings.link_pct / 100.0,
        }

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings of equal latency; all state is kept. Fully linked lanes share one gain."""
        tune = self.tuned if over_frames is None else self._tune
        vars(self).update(tune(settings, self._channels, self._sample_rate))
        self._key_path.apply(settings.key)
        self._hears_itself = settings.key.source == "self" and not settings.key.also
        gain_lanes = 1 if self._link == 1.0 else self._lanes
        if gain_lanes > getattr(self, "_gain_lanes", gain_lanes):
            self._part_lanes()
        self._gain_lanes = gain_lanes

    def _part_lanes(self) -> None:
        """Lanes that were tied go on from the same gain."""

    @classmethod
    def _detector_params(cls, settings: Any, channels: int, sample_rate: int, rows: int = 1) -> Array:
        """Parameters (rows, PARAMS) with level, link and the way back to channels filled in; see dsp.dynamics."""
        base = Detecting._tune(settings, channels, sample_rate)
        params = np.zeros((rows, cls.params_size))
        params[..., dynamics.BLEND] = vars(settings).get("rms_pct", 0.0) / 100.0
        params[..., dynamics.RMS_K] = one_pole_k(vars(settings).get("rms_ms", RMS_MS), sample_rate)
        params[..., dynamics.LINK] = base["_link"]
        params[..., dynamics.LINK_BY_MEAN] = settings.link_by == "mean"
        mix = settings.mix_pct / 100.0
        given = vars(settings)
        acting = (1.0 - mix, mix * db_to_lin(given.get("input_db", 0.0) + given.get("makeup_db", 0.0)))
        apply_to = "both" if channels == 1 else settings.apply_to
        untouched = (1.0, 0.0)
        params[..., dynamics.OUTPUT] = db_to_lin(settings.output_db)
        params[..., dynamics.MID_SIDE] = base["_mid_side"]
        params[..., dynamics.FIRST_DRY : dynamics.FIRST_WET + 1] = untouched if apply_to == "second" else acting
        params[..., dynamics.SECOND_DRY : dynamics.SECOND_WET + 1] = untouched if apply_to == "first" else acting
        params[..., dynamics.KEY_FLOOR_DB] = -120.0
        return params

    def takes(self, rows: Rows) -> bool:
        """All of them."""
        return True

    def _moving(self, moved: Moved) -> tuple[Array, Counts]:
        """(rows, PARAMS) of the kernel over a block, and the frames at which the rows begin."""
        settings, rows = self._settings, moved.rows
        if self._mixes_aside(moved):
            settings = _plain.get(settings, tuple(moved.gains), lambda: self._plain(moved.gains))
        at = (
            {} if rows is None else {k: values for k, values in rows.at.items() if not k.startswith(self.beside_kernel)}
        )
        if rows is None or not at:
            return self.tuned(settings, self._channels, self._sample_rate)["_params"], FROM_THE_START
        return self._params_in_rows(settings, at, rows.begins.size), rows.begins

    def _mixes_aside(self, moved: Moved) -> bool:
        """Whether what the kernel makes is mixed and levelled beside its parameters."""
        return bool(moved.gains)

    def _plain(self, gains: dict[str, Array]) -> Any:
        """Settings without what is mixed by _mixing while gains move."""
        settings = self._settings
        return laid_over(settings, {name: value for name, value in PLAIN.items() if hasattr(settings, name)})

    def _params_in_rows(self, settings: Any, at: dict[str, Array], rows: int) -> Any:
        """The kernel's parameters for settings of which some move."""
        return self._tune(laid_over(settings, at), self._channels, self._sample_rate, rows)["_params"]

    _params: Array

    def _mixing(self, moved: Moved) -> Array:
        """Output, dry and wet over a block (3, frames), where one of them moves; see dynamics.follow_moving."""
        if not moved.gains:
            return NOTHING
        gains, settings = moved.gains, self._settings

        def of(name: str) -> Any:
            return gains[name] if name in gains else vars(settings).get(name, 0.0)

        wet_db = of("input_db") + of("makeup_db")
        return shares(self._frames, mix_pct=of("mix_pct"), output_db=of("output_db"), wet_db=wet_db)

    def _heard(self, block: Block) -> Array:
        """What the detector hears, in lanes."""
        moved = block.moved
        if moved is None and self._hears_itself and not self._mid_side:  # what is asked for most, on the short way
            self.key_heard = self._key_path.process(block.sound if self._input == 1.0 else block.sound * self._input)
            return self.key_heard
        key, self._frames = self._settings.key, block.sound.shape[1]
        if moved is not None and "input_db" in moved.drives:
            own = block.sound * to_lin(moved.drives["input_db"] + vars(self._settings).get("operating_db", 0.0))
        else:
            own = block.sound if self._input == 1.0 else block.sound * self._input
        signal = own if self._hears_itself else gathered(key, own, block.keys, self._lanes)
        if self._mid_side:
            signal = to_mid_side(signal)
        rows = None if moved is None else moved.rows
        if rows is not None and has_key(rows):
            self.key_heard = self._key_path.process_moved(signal, rows, self._settings.key)
        else:
            self.key_heard = self._key_path.process(signal)
        return self.key_heard

    def hears(self, band: str = "") -> tuple[Array, Array | None] | None:
        """What the detector heard; middle and sides put back to left and right."""
        heard = super().hears(band)
        return (from_mid_side(heard[0]), heard[1]) if heard and self._mid_side else heard

    def _furthest(self, gain_db: Array, *, rising: bool = False) -> Array:
        """The gain that moves most, of the lanes that are acted on."""
        if gain_db.shape[0] == 1:
            return gain_db[0]
        acting = {"both": gain_db, "first": gain_db[:1], "second": gain_db[1:]}[self._settings.apply_to]
        return np.asarray(acting.max(axis=0) if rising else acting.min(axis=0))

    @classmethod
    def curve_db(cls, settings: Any, level_db: Array) -> Array:
        """Steady level out for each of the rising steady levels in: the processor itself, its times at none."""
        still = {name: 0.0 for name in STILL if hasattr(settings, name)}
        update = {**still, "key": Key(gain_db=settings.key.gain_db)}
        if hasattr(settings, "auto_release"):
            update["auto_release"] = False
        twin = cls(settings.model_copy(update=update), channels=1, sample_rate=48000)
        amplitude = 10.0 ** (np.atleast_2d(level_db) / 20.0)
        return np.asarray(20.0 * np.log10(np.maximum(twin.process(alone(amplitude, 48000))[0], 1e-6)))


class FollowingCurve(Detecting):
    """Base of those whose gain follows a static curve with attack, hold and release (see dsp.dynamics)."""

    overdoes: ClassVar[bool] = True

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}) -> None:
        super().__init__(settings, channels=channels, sample_rate=sample_rate, key_channels=key_channels)
        self._state = np.zeros((self._lanes, dynamics.LANE_STATE))
        self.apply(settings)

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int, rows: int = 1) -> dict[str, Any]:
        params = cls._detector_params(settings, channels, sample_rate, rows)
        params[..., dynamics.SIDE], params[..., dynamics.GAIN_SIGN] = 1.0, 1.0
        cls._set_curve(settings, params, sample_rate)
        if getattr(settings, "is_overdone", False):
            overdo(params)
        rising = bool(params[0, dynamics.GAIN_SIGN] < 0.0)
        return super()._tune(settings, channels, sample_rate, rows) | {"_params": params, "_rising": rising}

    _rising: bool  # whether its gain goes up

    @classmethod
    @abstractmethod
    def _set_curve(cls, settings: Any, params: Array, sample_rate: int) -> None:
        """Fill in threshold, slope, knee, range, times and kind of curve."""

    def _params_in_rows(self, settings: Any, at: dict[str, Array], rows: int) -> Array:
        if "rms_pct" in at or "rms_ms" in at:
            return super()._params_in_rows(settings, at, rows)
        params = np.repeat(self.tuned(settings, self._channels, self._sample_rate)["_params"], rows, axis=0)
        self._set_curve(SimpleNamespace(**vars(settings) | at), params, self._sample_rate)
        if settings.is_overdone:
            overdo(params)
        return params

    def _follow(self, heard: Array, source: Array, moved: Moved | None, gain_db: Array, out: Array) -> None:
        """Run the kernel."""
        if moved is None:
            dynamics.follow_curve(heard, source, self._state, self._params, self._scratch, gain_db, out)
            return
        params, begins = self._moving(moved)
        mixing = self._mixing(moved)
        dynamics.follow_moving(heard, source, self._state, params, begins, mixing, self._scratch, gain_db, out)

    def _part_lanes(self) -> None:
        part_lanes(self._state)

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        gain_db = np.empty((self._gain_lanes, block.sound.shape[1]))
        out = np.empty_like(block.sound)
        heard, source = self._heard(block), self._delay.process(block.sound)
        self._follow(heard, source, block.moved, gain_db, out)
        told = gain_db[0] if self._gain_lanes == 1 else self._furthest(gain_db, rising=self._rising)
        self.gains_db = {"gain_db": told}
        return out
