"""What processors that work on spectra share: the way there and back, what they listen to, the gain of each bin as it
moves, and what is told of it. They differ in what they compare.
"""

from abc import abstractmethod
from collections.abc import Mapping
from typing import Any, ClassVar, Literal

import numpy as np

from reins.core.dsp.bins import bins_hz, each_for_a_hop, follow, scale
from reins.core.dsp.stft import Narrow, Spectra, Stft, read_louder, read_power
from reins.core.processors.base import Array, Block, ByBin, Delay, Processor, ProcessorSettings, Rows, View, mixed
from reins.core.processors.sidechain import Key, KeyPath, gathered, lanes_of
from reins.core.settings import usual
from reins.core.settings.describing import choice, number

NONE = np.zeros(0)
LONGEST_WAY_BACK = 7.0  # release times until what is left of a gain is nothing


class SpectralSettings(ProcessorSettings):
    """Settings of all of them."""

    from_hz: float = usual.cut_hz("From", group="Band", off_as=usual.LOWEST_HZ, help="Works above this only; 0 is off.")
    to_hz: float = usual.cut_hz("To", group="Band", off_as=usual.HIGHEST_HZ, help="Works below this only; 0 is off.")
    smoothing_oct: float = number(
        0.1, 0, 1, label="Smoothing", unit="oct", group="Band", step=0.05, moves=False,
        help="Over how much of an octave the curve of gains is averaged; 0 leaves each bin to itself.",
    )  # fmt: skip
    attack_ms: float = usual.attack_ms(10.0, "How fast each bin is moved; no faster than windows come.")
    release_ms: float = usual.release_ms(120.0, "How slowly each bin comes back.")
    focus: Literal["whole", "middle", "sides"] = choice(
        "whole", label="Acts on", group="Band", help="All of the sound, its middle or its sides alone."
    )
    mix_pct: float = usual.share_pct(
        100.0, "How much of the result; the rest is the source.", group="Out", label="Mix", moves="gain"
    )
    output_db: float = usual.gain_db(0.0, "Level of everything that leaves.", group="Out", label="Output")
    key: Key = Key()


class Spectral(Processor):
    """Base: a key's spectra beside the sound's, a gain in dB for each bin of each window."""

    carried: ClassVar[tuple[str, ...]] = ("_stft", "_key_path", "_delay", "_gain_db")
    overdoes: ClassVar[bool] = True
    views: ClassVar[tuple[View, ...]] = ("spectrum",)
    covers = "drawn"
    _settings: Any

    def __init__(self, settings: Any, *, channels: int, sample_rate: int, key_channels: Mapping[str, int] = {}) -> None:
        self._channels, self._rate = channels, sample_rate
        self._length, self._overlap = self.cut_of(settings)
        self._hop = self._length // self._overlap
        self._lanes = lanes_of(settings.key, channels, key_channels)
        self._key_path = KeyPath(settings.key, channels=self._lanes, sample_rate=sample_rate)
        self._stft = Stft(channels, self._length, self._overlap, read=self._lanes if self.listens(settings) else 0)
        self._delay = Delay(channels, self._length)
        self._gain_db = np.zeros((channels, self._length // 2 + 1), np.float32)
        self._told = np.zeros(self._overlap // 2 + 1)  # of the windows that lie about what leaves next
        self._hz = bins_hz(self._length, sample_rate)
        self.gains_db = {}
        self.apply(settings)

    @classmethod
    @abstractmethod
    def cut_of(cls, settings: Any) -> tuple[int, int]:
        """Frames of a window, and how many of them lie over each other."""

    @abstractmethod
    def _wanted_db(self, power: Narrow, key_power: Narrow | None) -> Narrow:
        """The gain wanted (lanes, windows, bins), averaged over frequency, of the power read in each bin, and of its
        key where it hears one: that of the loudest channel there.
        """

    def _goes_by_louder(self) -> bool:
        """Whether the louder side is all it goes by, so that both get one gain."""
        return True

    @classmethod
    def listens(cls, settings: Any) -> bool:
        """Whether it compares with a key."""
        return True

    @classmethod
    def latency_of(cls, settings: Any, *, sample_rate: int) -> int:
        """One window."""
        return cls.cut_of(settings)[0]

    @classmethod
    def shape_of(cls, settings: Any) -> tuple[Any, ...]:
        """How it is cut into windows, and whether a key is."""
        return *cls.cut_of(settings), cls.listens(settings)

    @property
    def latency_frames(self) -> int:
        """One window."""
        return self._length

    @classmethod
    def settling_s(cls, settings: Any) -> float:
        """As long as its gains remember."""
        return 0.4 + LONGEST_WAY_BACK * max(settings.release_ms, settings.attack_ms) / 1000.0

    @classmethod
    def tail_s(cls, settings: Any) -> float:
        """A window: what is changed in the spectrum spreads within it."""
        return cls.cut_of(settings)[0] / 8000.0

    def apply(self, settings: Any, *, over_frames: int | None = None) -> None:
        """Take over new settings of the same windows; all state is kept."""
        self._settings = settings
        self._key_path.apply(settings.key)
        self._listening = self.listens(settings)
        hop_ms = 1000.0 * self._hop / self._rate
        times_ms = np.maximum([settings.attack_ms, settings.release_ms], 1e-3)
        self._attack_release = (1.0 - np.exp(-hop_ms / times_ms)).astype(np.float32)
        low, high = settings.from_hz, settings.to_hz or np.inf
        acts = ((self._hz >= low) & (self._hz <= high)).astype(np.float32)
        if settings.is_overdone:
            acts *= np.float32(2.0)
        self._acts = np.tile(acts, (self._channels, 1))  # by lane
        if settings.focus != "whole" and self._channels == 2:
            self._acts[1 if settings.focus == "middle" else 0] = 0.0

    def takes(self, rows: Rows) -> bool:
        """None of them by itself; see processors.moving."""
        return False

    def process(self, block: Block) -> Array:
        """The result for the next block."""
        settings, sound = self._settings, block.sound
        aside = settings.focus != "whole" and self._channels == 2
        late = self._delay.process(sound)
        read: tuple[Array, ...] = ()
        if self._listening:
            self.key_heard = self._key_path.process(gathered(settings.key, sound, block.keys, self._lanes))
            read = (self.key_heard,)
        gains: list[Array] = []
        moved: list[Narrow] = []

        def change(spectra: Spectra, key_spectra: Spectra) -> Spectra:
            if aside:  # within the spectra, so that what is on its way stays left and right
                spectra = _turned(spectra)
            parted = aside or not self._goes_by_louder() or not self._moves_alike()
            heard, power = (read_power(spectra, self._length),) * 2 if parted else read_louder(spectra, self._length)
            key_power = read_louder(key_spectra, self._length)[0] if self._listening else None
            gain_db, factor = self._settled(self._wanted_db(heard, key_power), self._channels if parted else 1)
            moved.append(gain_db)
            left_db = np.empty(power.shape[1])
            scale(spectra.view(np.float32).reshape(*spectra.shape, 2), power, factor, left_db)
            gains.append(left_db)
            return np.float32(2.0) * _turned(spectra) if aside else spectra

        made = self._stft.process(sound, change, *read)
        first = self._hop - self._phase - self._length // 2
        self.by_bin = ByBin(moved[0], self._hz, first, self._hop) if moved else None
        self.gains_db = {"gain_db": self._along(block.sound.shape[1], gains)}
        return mixed(late, made, settings, {} if block.moved is None else block.moved.gains)

    _alike = True  # whether one gain for both sides would have brought them where they stand

    def _moves_alike(self) -> bool:
        self._alike = self._alike or bool((self._gain_db[0] == self._gain_db[-1]).all())
        return self._alike

    def _settled(self, wanted_db: Narrow, lanes: int) -> tuple[Narrow, Narrow]:
        """Gains as they may move, and as factors, of so many lanes (or 1 for both, windows, bins)."""
        self._alike = lanes == 1
        gain_db, factor = np.empty((2, lanes, *wanted_db.shape[1:]), np.float32)
        follow(wanted_db, self._acts[:lanes], self._attack_release, self._gain_db[:lanes], gain_db, factor)
        if self._alike:
            self._gain_db[1:] = self._gain_db[:1]
        return gain_db, np.exp(factor, out=factor)

    def now_db(self, frequencies_hz: Array) -> Array:
        """The gain of each bin as it stands, of the side that is moved furthest."""
        far = np.abs(self._gain_db).argmax(axis=0)
        return np.interp(frequencies_hz, self._hz, np.take_along_axis(self._gain_db, far[None], axis=0)[0])

    @classmethod
    def response_db(cls, settings: Any, frequencies_hz: Array, gains_db: dict[str, float], sample_rate: int) -> Array:
        """All of what it works on alike."""
        acts = (frequencies_hz >= settings.from_hz) & (frequencies_hz <= (settings.to_hz or np.inf))
        return np.where(acts, sum(gains_db.values()), 0.0)

    _phase = 0  # frames since a window ended

    def _along(self, frames: int, gains: list[Array]) -> Array:
        """The overall gain for each frame that leaves: of the window whose middle is nearest before it."""
        # A window ends every hop; what leaves now stands half a window before the middle of the one that ends.
        row, later = np.empty(frames), np.empty_like(self._told)
        each_for_a_hop(self._told, gains[0] if gains else NONE, self._phase, self._hop, row, later)
        self._phase, self._told = (self._phase + frames) % self._hop, later
        return row


def _turned(spectra: Spectra) -> Spectra:
    """Left and right as middle and sides; twice that is the way back."""
    turned = np.stack([spectra[0] + spectra[1], spectra[0] - spectra[1]])
    turned *= np.float32(0.5)
    return turned
