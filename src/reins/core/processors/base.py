"""What all processors share: the contract, and the delay of a block signal."""

import re
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Literal, Self

import numpy as np
import numpy.typing as npt
from pydantic import PrivateAttr

from reins.core.dsp.compiled import plain
from reins.core.dsp.delaying import delay
from reins.core.dsp.gains import blend
from reins.core.remembering import BySettings
from reins.core.settings.models import Strict
from reins.core.time import Stream, When
from reins.core.units import db_to_lin

Array = npt.NDArray[np.float64]
Counts = npt.NDArray[np.int64]


class Delay:
    """A whole number of frames of delay for a block signal."""

    carried: ClassVar[tuple[str, ...]] = ("_ring",)

    def __init__(self, channels: int, frames: int) -> None:
        self.frames, self._at = frames, 0
        self._ring = np.zeros((channels, frames))

    def process(self, signal: Array) -> Array:
        """The signal (channels, frames), delayed."""
        if self.frames == 0:
            return signal
        out = np.empty(signal.shape)
        delay(self._ring, self._at, plain(signal), out)
        self._at = (self._at + signal.shape[1]) % self.frames
        return out

    @property
    def waiting(self) -> Array:
        """What has come and not left (channels, frames), in order."""
        return np.roll(self._ring, -self._at, axis=1)

    def put(self, waiting: Array) -> None:
        """Have something else wait."""
        self._ring, self._at = np.ascontiguousarray(waiting), 0


class ProcessorSettings(Strict):
    """Base of every processor's settings; `key` where it detects."""

    #: Whether the processor raises the rate itself, where it needs that for what it bends; see processors.shaper.
    raises_itself: ClassVar[bool] = False
    #: Whether, where it is asked to be at a multiple of the rate, all of it is: it has a gain that moves, too.
    raised_whole: ClassVar[bool] = False

    _overdone: bool = PrivateAttr(False)

    @property
    def is_overdone(self) -> bool:
        """Whether what is taken or given by these settings is doubled in dB, to hear where too much begins."""
        return bool((self.__pydantic_private__ or {}).get("_overdone"))  # a sixth of what the attribute costs

    @property
    def acts_below(self) -> bool:
        """Whether what lies below its thresholds is what it changes, so that higher is deeper."""
        return False

    def overdone(self) -> Self:
        """The same settings, overdone; of what is kept or written they are never part."""
        made = self.model_copy()
        made._overdone = True
        return made

    @classmethod
    def settled(cls, settings: dict[str, Any], changed: set[str]) -> dict[str, Any]:
        """Plain settings, after a hand has changed the named ones, with others moved that depend on them."""
        return settings

    def lying_higher(self, by_db: float) -> dict[str, Any]:
        """What else of them is a level of the sound, beside thresholds, and what it is on one so much louder."""
        return {}

    def bound(self, moved: dict[str, Any]) -> None:
        """Stop what moves, arrays by path, where a rule binds settings to each other; in place, in their order."""


#: What shows a processor: the steady level in and out; its gain while a burst comes and goes; how much it changes each
#: frequency; bands with settings of their own; open and closed along the take; what its detector hears along the take;
#: how long its dips take to come back; the harmonics it gives a test tone; who of its detectors is in charge along the
#: take, and what each hears.
View = Literal["in_out", "burst", "spectrum", "bands", "states", "heard", "returns", "harmonics", "ribbon"]


FROM_THE_START = np.zeros(1, np.int64)  # where rows begin when there is one
NOTHING = np.zeros((3, 0))  # for dsp.dynamics.follow_moving, where no gain moves


@dataclass(slots=True)
class Rows:
    """Settings that move by the grid: by path their values where each row begins, and where it ends.

    begins (rows,): the first frame of each in the block, which lies `into` (rows,) frames behind the begin of the row
    itself; length: that of a row in frames (the last one may go on in the next block).
    """

    begins: Counts
    into: Counts
    length: int
    at: dict[str, Array] = field(default_factory=dict)
    to: dict[str, Array] = field(default_factory=dict)

    def pieces(self, frames: int) -> Iterator[tuple[int, int, int]]:
        """(row, begin, end) of each in a block of so many frames."""
        for row, begin in enumerate(self.begins):
            yield row, int(begin), int(self.begins[row + 1]) if row + 1 < self.begins.size else frames


@dataclass(slots=True)
class Moved:
    """What reins move in a processor over a block, by path, in each setting's own unit: gains for each frame of the
    sound that leaves, drives also for each that comes in, all else in rows.
    """

    gains: dict[str, Array] = field(default_factory=dict)
    drives: dict[str, Array] = field(default_factory=dict)
    rows: Rows | None = None


@dataclass(slots=True)
class Block:
    """What a processor is given: the sound (channels, frames), its outside keys by name, all aligned, the place in time
    where that sound stands, and what moves meanwhile.
    """

    sound: Array
    when: When
    keys: Mapping[str, Array] = field(default_factory=dict)
    moved: Moved | None = None

    def part(self, begin: int, end: int) -> "Block":
        """Some of its frames, without what moves."""
        keys = {name: np.ascontiguousarray(key[:, begin:end]) for name, key in self.keys.items()}
        when = replace(self.when, first=self.when.first + begin, frames=end - begin)
        return Block(np.ascontiguousarray(self.sound[:, begin:end]), when, keys)


def mixed(source: Array, made: Array, settings: Any, gains: Mapping[str, Array]) -> Array:
    """made blended with source by mix_pct, at output_db: as settings have them, or as they move."""
    if "mix_pct" in gains or "output_db" in gains:
        return blend(source, made, gains.get("mix_pct", settings.mix_pct), gains.get("output_db", settings.output_db))
    if settings.mix_pct < 100.0:
        mix = settings.mix_pct / 100.0
        made = (1.0 - mix) * source + mix * made
    return made if settings.output_db == 0.0 else made * db_to_lin(settings.output_db)


def band_of(gain: str) -> int | None:
    """The place of a band in its list, by the name of its gain ("band2.gain_db" is place 1); None of any other gain."""
    found = re.fullmatch(r"band([1-9]\d?)\.gain_db", gain)
    return int(found[1]) - 1 if found else None


def driven_db(settings: Any) -> float:
    """By how much a processor hears its own sound louder than it comes."""
    return float(getattr(settings, "input_db", 0.0)) + float(getattr(settings, "operating_db", 0.0))


def alone(sound: Array, sample_rate: int) -> Block:
    """A block of a sound by itself, at the beginning of time."""
    return Block(sound, When(Stream(0), 0, sound.shape[1], sample_rate))


@dataclass(slots=True)
class ByBin:
    """How windows of a spectrum were moved: gains_db (lanes, windows, bins), the frequency of each bin, where in the
    block of the source the middle of the first window lies, in frames, and how far they are apart.
    """

    gains_db: npt.NDArray[np.float32]
    hz: Array
    first: int
    hop: int

    @property
    def middles(self) -> Counts:
        """Where the middle of each window lies."""
        return self.first + self.hop * np.arange(self.gains_db.shape[1])


_tuned: BySettings[dict[str, Any]] = BySettings(512)  # a seek asks for all of a session; eight bands take 54 kB


class Processor(ABC):
    """A stateful processor working block by block.

    Its result does not depend on how a stream is cut into blocks. core.twins gives an independent twin with the same
    state: that is how a changed setting glides (see engine.chain).
    """

    #: State that twins do not share (core.twins): arrays it writes into, and what holds them.
    carried: ClassVar[tuple[str, ...]] = ()

    type_name: ClassVar[str]
    label: ClassVar[str]
    about: ClassVar[str]
    #: Words by which people may look for it, besides those of its name and its sentence.
    known_as: ClassVar[str] = ""
    Settings: ClassVar[type[ProcessorSettings]]
    #: What shows it; measuring and pictures ask for these and for nothing else.
    views: ClassVar[tuple[View, ...]] = ()
    #: The setting whose level is drawn as a line across the take, where there is one.
    line: ClassVar[str | None] = None
    #: Whether that line stands still and the setting drives the sound towards it: drawn down, it is turned up.
    line_drives: ClassVar[bool] = False
    #: How its settings lie on the frequencies, for the view spectrum: from low_hz to high_hz; bells, shelves and cuts
    #: of its bands; bands that crossovers part; the corners of one filter; between two edges, by a drawn threshold.
    covers: ClassVar[Literal["span", "bells", "splits", "corners", "drawn"] | None] = None
    #: Whether a tie drawn to a strip that has none makes one of these.
    made_by_tie: ClassVar[bool] = False
    #: Whether it is nothing, or a mistake, without the sound of another to follow: whom is asked for first.
    wants_key: ClassVar[bool] = False
    #: Whether its makeup may go with all else, so that it comes out as loud: not what is meant to make quieter.
    may_be_as_loud: ClassVar[bool] = True
    #: Whether it doubles by itself what it does with overdone settings; else its gain is laid over its result again.
    overdoes: ClassVar[bool] = False
    #: Ready bands: lowest and highest frequency in Hz, and what they are called.
    ready: ClassVar[tuple[tuple[float, float, str], ...]] = ()

    #: Whether there are settings with which its gain hangs on each sample alone (see processors.bending).
    bends_at_once: ClassVar[bool] = False

    #: Settings that the desk gives it when it is added there, where they are not the default.
    added_with: ClassVar[dict[str, Any]] = {}
    #: Settings it is timed with, where it does little at its defaults.
    timed_with: ClassVar[dict[str, Any]] = {}
    #: What it is timed with besides, by how that is called.
    timed_also: ClassVar[dict[str, dict[str, Any]]] = {}

    #: After `process`: each moving gain by name, in dB per frame of the block put out, the deepest lane.
    gains_db: dict[str, Array]

    #: After `process`: what it is doing beside its gain, by name and frame; a gate's "state" is that of dsp.gating.
    marks: dict[str, Array] = {}

    #: After `process`: what the detector heard of the block, its filters included; None for one without a detector.
    key_heard: Array | None = None

    #: After `process`: of one that works on spectra, what each window that ended in the block was moved by.
    by_bin: ByBin | None = None

    @abstractmethod
    def __init__(self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}) -> None:
        """Make it, at rest, for a signal of 1 or 2 channels and outside keys of 1 or 2, by name."""

    @classmethod
    def latency_of(cls, settings: Any, *, sample_rate: int) -> int:
        """Frames by which the result comes later than the source with these settings."""
        return 0

    @classmethod
    def shape_of(cls, settings: Any) -> tuple[Any, ...]:
        """Settings that one at work cannot take over: where they differ it is made anew, and has heard what lies before
        when it comes in.
        """
        return ()

    @property
    def latency_frames(self) -> int:
        """Frames by which the result comes later than the source."""
        return 0

    @abstractmethod
    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings of equal latency; all state is kept. over_frames: of settings that move, in how many
        frames what glides gets there; such settings are seen once and not remembered.
        """

    def know(self, spectrum: Array | None) -> None:  # noqa: B027 - most have no use for it
        """Hear of the spectrum of the take it works on, by twelfths of an octave; None where it is not known."""

    @abstractmethod
    def process(self, block: Block) -> Array:
        """The result (channels out, frames) for the next block; what it is given is not written into.

        block.moved has gains and drives that move, and rows where it takes them.
        """

    def takes(self, rows: Rows) -> bool:
        """Whether `process` hears of these settings that move by rows itself; if not, see processors.moving."""
        return False

    def leaves_late(self, path: str) -> int:
        """How much later than the source the sound is that a gain, by the path of its setting, acts on."""
        return self.latency_frames

    @classmethod
    def on_take(cls) -> "type[Processor]":
        """The class that works on a take, which can be heard ahead of time."""
        return cls

    @classmethod
    def tuned(cls, settings: Any, channels: int, sample_rate: int) -> dict[str, Any]:
        """What settings come to, by attribute: all that `apply` takes over as it is. It is remembered, so that another
        thread can compute it before the one that plays needs it.
        """
        return _tuned.get(settings, (channels, sample_rate), lambda: cls._tune(settings, channels, sample_rate))

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int) -> dict[str, Any]:
        return {}

    @classmethod  # noqa: B027 - most have nothing that is dear
    def prepare_moved(cls, settings: Any, spans: Mapping[str, tuple[float, float]], sample_rate: int) -> None:
        """Work out ahead what is dear of settings that move, by path from a least value to a greatest, so that the
        thread that plays finds it.
        """

    @classmethod
    def region_of(cls, settings: Any, band: str, sample_rate: int) -> Array | None:
        """Second-order sections that make what a band, by the name of its gain, covers of what its detector hears."""
        return None

    @classmethod
    def stand_in(cls, settings: Any) -> "tuple[type[Processor], Any]":
        """The processor of one level that shows, in the views in_out and burst, what this one does."""
        return cls, settings

    @classmethod
    def channels_out(cls, settings: Any, channels: int) -> int:
        """How many channels come out where so many go in."""
        return channels

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """How long it remembers what it has heard: after so much sound it stands as if it had always run."""
        return 0.0

    @classmethod
    def tail_s(cls, settings: Any) -> float:
        """How long it sounds on after its sound has ended, its latency left out."""
        return 0.0

    @classmethod
    def response_db(cls, settings: Any, frequencies_hz: Array, gains_db: dict[str, float], sample_rate: int) -> Array:
        """How much it changes each frequency, in dB, while its gains, by name, stand so; most change all alike."""
        return np.full(frequencies_hz.shape, sum(gains_db.values()))

    @classmethod
    def harmonics_db(cls, settings: Any) -> dict[str, Any]:
        """For the view harmonics: `tone_db` and `tone_hz` of a test tone, and `db` of its harmonics in full scale, the
        tone first.
        """
        return {}

    @classmethod
    def bends(cls, settings: Any, values: Array) -> Array:
        """What a curve without memory makes of values (n,)."""
        return values

    @classmethod
    def acts_from_db(cls, settings: Any) -> float:
        """The level of the source, of a processor with a level, from which it acts."""
        return float(getattr(settings, cls.line or "")) - driven_db(settings)

    def now_db(self, frequencies_hz: Array) -> Array | None:
        """After `process`: how much it changes each frequency now, in dB, where its gains by name do not say so."""
        return None

    @classmethod
    def lies_on_db(cls, settings: Any, frequencies_hz: Array, spectrum: Array | None, sample_rate: int) -> Array | None:
        """What a threshold drawn across frequency lies on at each, in dB; None without one. spectrum as in `know`."""
        return None

    @classmethod
    def reach_db(cls, settings: Any) -> dict[str, float]:
        """By name how far each gain may move, for the view spectrum."""
        return {}

    def hears(self, band: str = "") -> tuple[Array, Array | None] | None:
        """After `process`: what its detector heard of the block, in left and right, its key's gain and cuts included;
        of a band, by the name of its gain, with the second-order sections that make what it covers of that, unless
        they are in it. None where there is no such detector.
        """
        return None if self.key_heard is None or band not in ("", "gain_db") else (self.key_heard, None)

    @classmethod
    def part_of(cls, settings: Any, band: str) -> Any:
        """The settings of a band, by the name of its gain, as they act: its own, or those of all."""
        place = band_of(band)
        if place is not None:
            return settings.bands[place]
        part = band.removesuffix("gain_db").removesuffix(".")
        return getattr(settings, part) if part else settings

    @classmethod
    def measures_all(cls, settings: Any, band: str) -> bool:
        """Whether a band, by the name of its gain, is measured by all its detector hears, not by what it covers."""
        return False

    @classmethod
    def curves_apart_db(cls, settings: Any, level_db: Array) -> dict[str, Array]:
        """As curve_db, of each of several detectors by itself, by name, in the order of the marks of a ribbon."""
        return {}

    @classmethod
    def curve_db(cls, settings: Any, level_db: Array) -> Array:
        """Steady level that comes out for each steady level that goes in; unchanged where bands have levels."""
        return np.asarray(level_db)
