"""Room: what a room would add, from a feedback network (dsp.reverberating) or a recorded response (dsp.convolving).

decay_s is the time in which what is heard at 1 kHz falls by 60 dB, at 8 kHz it is highs_pct of that. size_pct sets how
far apart the walls are; short decays have smaller rooms, or their echoes could be counted. What comes out has two
channels, whatever comes in; width_pct 0 makes both alike. The room's own lows are cut at low_cut_hz. It falls silent,
to the bit, 180 dB down.

With a response of the person's own, decay, highs and size are the recording's. It is made as loud as a noise of its
energy: what comes through it is as loud as what came, as in the network.
"""

from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np
import soxr

from reins.core.dsp import convolving, reverberating
from reins.core.dsp.convolving import Convolver, Partitions
from reins.core.dsp.cuts import MovingCut
from reins.core.dsp.reverberating import Memory
from reins.core.impulses import impulse
from reins.core.processors.base import Array, Block, Delay, Processor, ProcessorSettings, Rows, mixed
from reins.core.settings import usual
from reins.core.settings.describing import number, recording
from reins.core.units import ms_to_frames
from reins.errors import StorageError

MOST_PREDELAY_MS = 250.0
LEAST_LINE_MS, SMALLEST_MS, LARGEST_MS = 2.0, 14.0, 90.0  # of the longest line
OF_DECAY, OF_HIGHS = 0.06, 0.06  # how long a line may be, of the decay, and where highs die sooner
CUT_ORDER = 2
SILENT_DB = 180.0


class RoomSettings(ProcessorSettings):
    """Settings of the room."""

    impulse: str = recording(
        label="Response", group="Room", none="made here",
        help="A recorded response of a room or plate instead of one that is made: a WAV or FLAC of up to 20 s.",
    )  # fmt: skip
    decay_s: float = number(
        1.2, 0.1, 12, label="Decay", unit="s", group="Room", step=0.05, scale="log", moves=False, unless="impulse",
        help="How long what is heard at 1 kHz takes to fall by 60 dB.",
    )  # fmt: skip
    highs_pct: float = number(
        50.0, 10, 100, label="Highs", unit="%", group="Room", step=1, moves=False, unless="impulse",
        help="The decay at 8 kHz, as a share of that at 1 kHz; less is softer.",
    )  # fmt: skip
    size_pct: float = usual.share_pct(
        40.0, "How far apart the walls are.", group="Room", label="Size", moves=False, unless="impulse"
    )
    predelay_ms: float = number(
        10.0, 0, MOST_PREDELAY_MS, label="Predelay", unit="ms", group="Room", step=1, moves=False,
        help="How much later the room answers; more keeps words and hits in front of it.",
    )  # fmt: skip
    low_cut_hz: float = usual.cut_hz(
        "Low cut", group="Out", off_as=usual.LOWEST_HZ, help="Keeps lows out of what the room adds; 0 is off."
    )
    width_pct: float = usual.share_pct(
        100.0, "From the same on both sides to all around.", group="Out", label="Width", moves="gain"
    )
    mix_pct: float = usual.share_pct(
        30.0, "How much of the room; the rest is the source. 100 for one that is sent to.", group="Out", label="Mix",
        moves="gain",
    )  # fmt: skip
    output_db: float = usual.gain_db(0.0, "Level of everything that leaves.", group="Out", label="Output")


def response_of(settings: Any, sample_rate: int) -> Partitions | None:
    """The response that settings name, ready for sound at a rate; None where it is not there, or none is named."""
    found = impulse(settings.impulse) if settings.impulse else None
    if found is None:
        return None
    place = sample_rate, settings.predelay_ms
    if (made := found.known.get(place)) is None:
        samples = found.samples
        if found.sample_rate != sample_rate:
            samples = soxr.resample(samples.T, found.sample_rate, sample_rate, quality="VHQ").T
        loudest = np.sqrt(max((samples**2).sum(axis=1).max(), 1e-12))
        before = ms_to_frames(settings.predelay_ms, sample_rate)
        both = np.zeros((2, before + samples.shape[1]))
        both[:, before:] = samples / loudest
        found.known.clear()  # a predelay that is dragged would fill the memory
        found.known[place] = made = convolving.partitions(both)
    return made


class Room(Processor):
    """The processor; see the module's docstring for its meaning."""

    type_name = "room"
    label = "Room"
    about = "What a room would add; gate it, or push it back by a key."
    known_as = "colour and place reverb reverberation hall plate ambience convolution space"
    timed_with: ClassVar[dict[str, Any]] = {"decay_s": 2.0}
    carried = ("_memory", "_low_cut", "_convolver", "_late")
    Settings = RoomSettings
    _settings: Any

    def __init__(
        self, settings: RoomSettings, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}
    ) -> None:
        self._rate = sample_rate
        self._memory: Memory | None = None
        self._convolver: Convolver | None = None
        self._late = Delay(channels, self.latency_of(settings, sample_rate=sample_rate))
        if settings.impulse:
            response = response_of(settings, sample_rate)
            self._convolver = None if response is None else Convolver(channels, response)
        else:
            most = ms_to_frames(MOST_PREDELAY_MS, sample_rate), ms_to_frames(1.1 * LARGEST_MS, sample_rate)
            self._memory = Memory.of(*most, sample_rate)
        self._low_cut = MovingCut("low_cut", channels=2, sample_rate=sample_rate)
        self.gains_db = {}
        self.apply(settings)

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int) -> dict[str, Any]:
        response_of(settings, sample_rate)  # so that the thread that plays finds it worked out
        highs, size = settings.highs_pct / 100.0, settings.size_pct / 100.0
        longest_s = (SMALLEST_MS + size * (LARGEST_MS - SMALLEST_MS)) / 1000.0
        longest_s = min(
            longest_s, OF_DECAY * settings.decay_s, OF_HIGHS * settings.decay_s * highs / max(1 - highs, 1e-9)
        )
        frames = reverberating.lengths(round(max(longest_s, LEAST_LINE_MS / 1000.0) * sample_rate))
        absorbs = reverberating.absorption(frames, settings.decay_s, highs, sample_rate)
        return {
            "_settings": settings, "_frames": frames, "_absorbs": absorbs, "_level": reverberating.level(absorbs),
            "_predelay": ms_to_frames(settings.predelay_ms, sample_rate),
            "_all_passes": reverberating.all_passes(settings.decay_s, sample_rate),
            "_silent": round(cls.tail_s(settings) * sample_rate),
        }  # fmt: skip

    @classmethod
    def shape_of(cls, settings: Any) -> tuple[Any, ...]:
        """What decides how the network stands: what goes round in one does not fit another."""
        if settings.impulse:
            return settings.impulse, settings.predelay_ms
        return settings.decay_s, settings.highs_pct, settings.size_pct, settings.predelay_ms

    @classmethod
    def latency_of(cls, settings: Any, *, sample_rate: int) -> int:
        """None, or what a response in partitions takes."""
        return convolving.LATENCY_FRAMES if settings.impulse else 0

    @property
    def latency_frames(self) -> int:
        """None, or what a response in partitions takes."""
        return self._late.frames

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings of the same shape; what sounds in the room sounds on."""
        more: dict[str, Any] = {"at_once": not hasattr(self, "_settings"), "frames": over_frames}
        vars(self).update(self.tuned(settings, 2, self._rate))
        self._low_cut.place(settings.low_cut_hz, CUT_ORDER, **more)

    _frames: Any
    _all_passes: Any
    _absorbs: Array
    _level: float
    _predelay: int
    _silent: int

    def takes(self, rows: Rows) -> bool:
        """All there is: the cut."""
        return True

    def process(self, block: Block) -> Array:
        """The result (2, frames) for the next block."""
        gains = {} if block.moved is None else block.moved.gains
        rows = None if block.moved is None else block.moved.rows
        room, level = self._answer(block.sound), 1.0 if self._memory is None else self._level
        source = self._late.process(block.sound)
        if rows is not None and "low_cut_hz" in rows.at:
            self._low_cut.sweep(room, (rows.at["low_cut_hz"], rows.to["low_cut_hz"]), (0.0, 0.0), CUT_ORDER, rows)
        elif self._low_cut.acting:
            self._low_cut.process(room)
        width: Any = gains.get("width_pct", self._settings.width_pct) / 100.0
        middle, sides = 0.5 * level * (room[0] + room[1]), 0.5 * level * width * (room[0] - room[1])
        both = source if source.shape[0] == 2 else np.repeat(source, 2, axis=0)
        return mixed(both, np.stack([middle + sides, middle - sides]), self._settings, gains)

    def _answer(self, sound: Array) -> Array:
        """What the room makes of the next block of sound."""
        memory = self._memory
        if memory is None:
            if self._convolver is None:
                raise StorageError("its response is not there any more; choose another, or none.")
            return self._convolver.process(sound)
        room = np.empty((2, sound.shape[1]))
        reverberating.run_room(
            sound, self._predelay, self._all_passes, self._frames, self._absorbs, self._silent, memory.before,
            memory.thick, memory.lines, memory.filters, memory.places, room,
        )  # fmt: skip
        return room

    @classmethod
    def channels_out(cls, settings: Any, channels: int) -> int:
        """Two, whatever comes in."""
        return 2

    @classmethod
    def tail_s(cls, settings: Any) -> float:
        """Until it is 180 dB down; of a response, to its end."""
        if settings.impulse:
            found = impulse(settings.impulse)
            length = 0.0 if found is None else found.seconds + convolving.RINGS_ON / found.sample_rate
            return length + float(settings.predelay_ms) / 1000.0
        return float(SILENT_DB / 60.0 * settings.decay_s + settings.predelay_ms / 1000.0 + 0.2)

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as what came still sounds, 60 dB down; of a response, all of it."""
        if settings.impulse:
            return cls.tail_s(settings)
        return float(settings.decay_s + settings.predelay_ms / 1000.0)
