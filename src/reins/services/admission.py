"""Who may play: as many desks as the machine can feed. The newest waits, and is told; the others keep their sound.

A desk tells what it costs (processor seconds a second of sound) and when it is late: when its listener has nothing
ahead. One that comes when there is no room for another like those that play waits at once; when a desk is late while
the machine is busy, the newest of all waits. Who has waited longest goes on as soon as another stops.
"""

import os
import threading
import time
from typing import Protocol

# What all desks together may take. Kernels run on all cores, but two thirds of a block is work of Python, which runs on
# one at a time, and so does sending: measured (benchmarks.desks), desks begin to stutter at 1.1 cores in all.
MOST_CORES, MOST_OF_ONE = 0.75, 0.6
BUSY = 0.6  # of that; a desk that is late while there is less to do has a slow line, not a busy machine
LONG = 0.35  # of that; from here on desks are asked for blocks twice as long, which cost a third less
SETTLING_S = 0.4  # after one was made to wait, how long others are given to catch up
# After one was made to wait, how long it is before room is believed in again that there seems to be.
DOUBT_S = 3.0


class Player(Protocol):
    """A desk, as it is seen from here; all are called from any thread."""

    def hold(self) -> None:
        """Stop giving sound and say so."""

    def go_on(self) -> None:
        """Give sound again."""


class Admission:
    """Keeps count of the desks that play."""

    def __init__(self, cores: int | None = None) -> None:
        self._lock = threading.Lock()
        self._cores = cores or len(os.sched_getaffinity(0))
        self._room = MOST_CORES if self._cores > 1 else MOST_OF_ONE
        self._playing: dict[Player, float] = {}  # the oldest first, with what each costs
        self._waiting: list[Player] = []
        self._held_at = -DOUBT_S

    def begin(self, player: Player) -> bool:
        """A desk wants to play; whether it may."""
        with self._lock:
            if player in self._playing or player in self._waiting:
                return player in self._playing
            if self._full():
                self._waiting.append(player)
                return False
            self._playing[player] = 0.0
            return True

    def _full(self) -> bool:
        """Whether there is no room for another desk like those that play."""
        loads = [load for load in self._playing.values() if load > 0.0]
        # A desk that costs much works in kernels for the most part, which run on cores of their own: as many desks as
        # there are cores are always let in.
        return len(loads) >= self._cores and sum(loads) + sum(loads) / len(loads) > self._room

    def costs(self, player: Player, load: float) -> None:
        """What a playing desk costs, in processor seconds a second; where that leaves room, who has waited longest goes
        on, one at a time: what it costs is known only then.
        """
        with self._lock:
            if player not in self._playing:
                return
            self._playing[player] = load
            known = all(load > 0.0 for load in self._playing.values())
            doubtful = time.monotonic() - self._held_at < DOUBT_S
            following = self._next() if known and not doubtful and not self._full() else None
        if following is not None:
            following.go_on()

    def _next(self) -> Player | None:
        """Let in who has waited longest, if anybody has."""
        if not self._waiting:
            return None
        following = self._waiting.pop(0)
        self._playing[following] = 0.0
        return following

    def late(self) -> None:
        """A desk could not be fed in time: the newest waits, unless it is the only one."""
        with self._lock:
            now = time.monotonic()
            busy = sum(self._playing.values()) > BUSY * self._room
            if not busy or len(self._playing) < 2 or now - self._held_at < SETTLING_S:
                return
            self._held_at = now
            newest = next(reversed(self._playing))
            del self._playing[newest]
            self._waiting.append(newest)
        newest.hold()

    @property
    def busy(self) -> bool:
        """Whether there is so much to do that fewer and longer blocks are better than quick ones."""
        return len(self._playing) > 1 and sum(self._playing.copy().values()) > LONG * self._room

    def end(self, player: Player) -> None:
        """A desk has stopped, or is gone; who has waited longest goes on."""
        with self._lock:
            played = self._playing.pop(player, None) is not None
            if player in self._waiting:
                self._waiting.remove(player)
            following = self._next() if played else None
        if following is not None:
            following.go_on()

    @property
    def playing(self) -> int:
        """How many desks play."""
        return len(self._playing)
