"""What follows a key: its level through gain and cuts, as a value from 0 to 1 for each frame."""

from collections.abc import Mapping
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from reins.core.dsp import dynamics, following
from reins.core.moves.models import ByKey
from reins.core.processors.base import Delay
from reins.core.processors.sidechain import KeyPath, gathered, lanes_of
from reins.core.twins import twin_of
from reins.core.units import ms_to_frames, one_pole_k

Array = npt.NDArray[np.float64]


class Follower:
    """Follows the level of a key, block by block, and remembers the block's values for those that come later."""

    carried: ClassVar[tuple[str, ...]] = ("_path", "_lanes", "_state", "_late")

    def __init__(self, by: ByKey, *, channels: int, sample_rate: int, key_channels: Mapping[str, int]) -> None:
        self.names, self._rate = (by.key.source, *(one.source for one in by.key.also)), sample_rate
        self._wide = lanes_of(by.key, channels if "self" in self.names else 1, key_channels)
        self._path = KeyPath(by.key, channels=self._wide, sample_rate=sample_rate)
        self._lanes = np.zeros((self._wide, dynamics.LANE_STATE))
        self._state = np.zeros(2)
        self._scratch = np.zeros((dynamics.SCRATCH_ROWS, dynamics.CHUNK))
        self._late: dict[int, Delay] = {}
        self._given: dict[int, Array] = {}
        self.apply(by)

    def apply(self, by: ByKey) -> None:
        """Take over other settings; its value stays."""
        self._key, rate = by.key, self._rate
        self._path.apply(by.key)
        self._levels = np.zeros(dynamics.PARAMS)
        self._levels[dynamics.BLEND], self._levels[dynamics.RMS_K] = by.rms_pct / 100.0, one_pole_k(by.rms_ms, rate)
        self._levels[dynamics.LINK] = 1.0
        attack, release = (one_pole_k(time_ms, rate) for time_ms in (by.attack_ms, by.release_ms))
        span_db, hold = by.ceiling_db - by.floor_db, ms_to_frames(by.hold_ms, rate)
        self._params = np.array([by.floor_db, span_db, attack, release, hold], np.float64)

    def twin(self, by: ByKey) -> "Follower":
        """One that goes on from the same state with other settings of the same key."""
        twin: Follower = twin_of(self)
        twin._given = {}
        twin.apply(by)
        return twin

    def hear(self, own: Array, keys: Mapping[str, Array]) -> Array:
        """The values over the next block of the chain's own sound and of its keys (channels, frames)."""
        signal = gathered(self._key, own, keys, self._wide)
        heard, value = self._path.process(signal), np.empty(signal.shape[1])
        self.heard = heard
        following.follow_level(heard, self._lanes, self._state, self._levels, self._params, self._scratch, value)
        self._given = {0: value}
        return value

    def late(self, frames: int) -> Array:
        """The values over the block heard last, so many frames later."""
        if frames not in self._given:
            late = self._late.setdefault(frames, Delay(1, frames))
            self._given[frames] = late.process(self._given[0][None])[0]
        return self._given[frames]
