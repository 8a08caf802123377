"""Room: what a room would add, from a feedback network (dsp.reverberating).

decay_s is the time in which what is heard at 1 kHz falls by 60 dB, at 8 kHz it is highs_pct of that. size_pct sets how
far apart the walls are; short decays have smaller rooms, or their echoes could be counted. What comes out has two
channels, whatever comes in; width_pct 0 makes both alike. The room's own lows are cut at low_cut_hz. It falls silent,
to the bit, 180 dB down.
"""

from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np

from reins.core.dsp import reverberating
from reins.core.dsp.cuts import MovingCut
from reins.core.dsp.reverberating import Memory
from reins.core.processors.base import Array, Block, Processor, ProcessorSettings, Rows, mixed
from reins.core.settings import usual
from reins.core.settings.describing import number
from reins.core.units import ms_to_frames

MOST_PREDELAY_MS = 250.0
LEAST_LINE_MS, SMALLEST_MS, LARGEST_MS = 2.0, 14.0, 90.0  # of the longest line
OF_DECAY, OF_HIGHS = 0.06, 0.06  # how long a line may be, of the decay, and where highs die sooner
CUT_ORDER = 2
SILENT_DB = 180.0


class RoomSettings(ProcessorSettings):
    """Settings of the room."""

    decay_s: float = number(
        1.2, 0.1, 12, label="Decay", unit="s", group="Room", step=0.05, scale="log", moves=False,
        help="How long what is heard at 1 kHz takes to fall by 60 dB.",
    )  # fmt: skip
    highs_pct: float = number(
        50.0, 10, 100, label="Highs", unit="%", group="Room", step=1, moves=False,
        help="The decay at 8 kHz, as a share of that at 1 kHz; less is softer.",
    )  # fmt: skip
    size_pct: float = usual.share_pct(40.0, "How far apart the walls are.", group="Room", label="Size", moves=False)
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


class Room(Processor):
    """The processor; see the module's docstring for its meaning."""

    type_name = "room"
    label = "Room"
    about = "What a room would add; gate it, or push it back by a key."
    timed_with: ClassVar[dict[str, Any]] = {"decay_s": 2.0}
    carried = ("_memory", "_low_cut")
    Settings = RoomSettings
    _settings: Any

    def __init__(
        self, settings: RoomSettings, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}
    ) -> None:
        self._rate = sample_rate
        most = ms_to_frames(MOST_PREDELAY_MS, sample_rate), ms_to_frames(1.1 * LARGEST_MS, sample_rate)
        self._memory = Memory.of(*most, sample_rate)
        self._low_cut = MovingCut("low_cut", channels=2, sample_rate=sample_rate)
        self.gains_db = {}
        self.apply(settings)

    @classmethod
    def _tune(cls, settings: Any, channels: int, sample_rate: int) -> dict[str, Any]:
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
        return settings.decay_s, settings.highs_pct, settings.size_pct, settings.predelay_ms

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
        source, memory = block.sound, self._memory
        room = np.empty((2, source.shape[1]))
        reverberating.run_room(
            source, self._predelay, self._all_passes, self._frames, self._absorbs, self._silent, memory.before,
            memory.thick, memory.lines, memory.filters, memory.places, room,
        )  # fmt: skip
        if rows is not None and "low_cut_hz" in rows.at:
            self._low_cut.sweep(room, (rows.at["low_cut_hz"], rows.to["low_cut_hz"]), (0.0, 0.0), CUT_ORDER, rows)
        elif self._low_cut.acting:
            self._low_cut.process(room)
        width: Any = gains.get("width_pct", self._settings.width_pct) / 100.0
        middle, sides = 0.5 * self._level * (room[0] + room[1]), 0.5 * self._level * width * (room[0] - room[1])
        both = source if source.shape[0] == 2 else np.repeat(source, 2, axis=0)
        return mixed(both, np.stack([middle + sides, middle - sides]), self._settings, gains)

    @classmethod
    def channels_out(cls, settings: Any, channels: int) -> int:
        """Two, whatever comes in."""
        return 2

    @classmethod
    def tail_s(cls, settings: Any) -> float:
        """Until it is 180 dB down."""
        return float(SILENT_DB / 60.0 * settings.decay_s + settings.predelay_ms / 1000.0 + 0.2)

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as what came still sounds, 60 dB down."""
        return float(settings.decay_s + settings.predelay_ms / 1000.0)
