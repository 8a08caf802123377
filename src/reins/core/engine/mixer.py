"""Tracks through their chains into a stereo mix: the one graph that both clocks drive.

Latency: a track's source is read ahead by its chain's latency, so all tracks leave their chains lined up to the
frame, and the mix itself has none. Every track hears a virtual stream that starts at a frame and, looping, jumps
back from the loop's end; chains never notice the jump.

Pan law: mono tracks use the equal-power law with -3 dB in the middle (gains cos and sin of a quarter turn), so a
voice keeps its loudness while it travels in a room; stereo tracks use a balance that leaves both sides at full level
in the middle and turns down the far one by the same quarter-turn sine, so that a stereo take at rest is not changed.
"""

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

from reins.core.engine.chain import Chain, GlidingChain
from reins.core.sessions import FADER_OFF_DB, Document, Track
from reins.core.takes import Take
from reins.core.units import FLOOR_DB, db_to_lin, lin_to_db

Array = npt.NDArray[np.float64]
Listen = Literal["result", "source", "difference"]
LISTENS: tuple[Listen, ...] = ("result", "source", "difference")
PRE_ROLL_S = 2.0  # what a chain hears before the first frame asked for, so its levels have settled
BLOCK_FRAMES = 1024
PRE_ROLL_BLOCK = 8192


@dataclass(frozen=True)
class Stream:
    """Maps the frames of a stream, counted from its start, to frames of the session."""

    start_frame: int
    loop: tuple[int, int] | None = None

    def spans(self, first: int, frames: int) -> list[tuple[int, int]]:
        """(session frame, length) pieces that make up frames first .. first + frames of the stream."""
        position = self.start_frame + first
        if self.loop is None or self.start_frame >= self.loop[1]:
            return [(position, frames)]
        loop_start, loop_end = self.loop
        pieces = []
        while frames > 0:
            if position >= loop_end:
                position = loop_start + (position - loop_start) % (loop_end - loop_start)
            length = min(frames, loop_end - position)
            pieces.append((position, length))
            position += length
            frames -= length
        return pieces


def pan_gains(pan_pct: float, channels: int) -> tuple[float, float]:
    """Left and right gain of a pan position; see the module's docstring for the law."""
    turn = (pan_pct / 100.0 + 1.0) * math.pi / 4.0
    left, right = math.cos(turn), math.sin(turn)
    if channels == 1:
        return left, right
    return min(1.0, left * math.sqrt(2.0)), min(1.0, right * math.sqrt(2.0))


class TrackPlayer:
    """One track: its take read along a stream, its chain, its fader and pan."""

    def __init__(self, track: Track, take: Take, *, sample_rate: int) -> None:
        self.track, self.take = track, take
        self._sample_rate = sample_rate
        self._wanted: Track | None = None
        self._gains = np.zeros(2)
        self.meter_db = (FLOOR_DB, FLOOR_DB)  # peak and RMS of the last block in the mix
        self.start(Stream(0))

    def start(self, stream: Stream) -> None:
        """Begin a stream; the chain first hears what lies before it."""
        if self._wanted is not None:
            self.track, self._wanted = self._wanted, None
        self._stream, self._position = stream, 0
        self._chain = GlidingChain(self._primed(self._fresh(self.track)), sample_rate=self._sample_rate)
        self._delayed_by = self._chain.chain.latency_frames

    def _fresh(self, track: Track) -> Chain:
        return Chain(track.chain, channels=self.take.facts.channels, sample_rate=self._sample_rate)

    def _primed(self, chain: Chain) -> Chain:
        """A fresh chain, after it has heard the session up to the stream's position, latency included."""
        latency = chain.latency_frames
        if chain.entries:
            here = self._stream.spans(self._position, 1)[0][0]
            begin = max(0, here - round(PRE_ROLL_S * self._sample_rate))
            for first in range(begin, here, PRE_ROLL_BLOCK):
                chain.process(self.take.read(first, min(PRE_ROLL_BLOCK, here - first)))
            if latency:
                chain.process(self._read(self._position, latency))
        return chain

    def _read(self, first: int, frames: int) -> Array:
        spans = self._stream.spans(first, frames)
        if len(spans) == 1:
            return self.take.read(*spans[0])
        return np.concatenate([self.take.read(*span) for span in spans], axis=1)

    def change(self, track: Track) -> None:
        """Take over a track's new settings at the next block."""
        self._wanted = track

    def _take_over(self) -> int:
        """Bring in what was asked for; returns the latency of the chain that is on its way out."""
        old_latency = self._delayed_by
        if self._wanted is not None and not self._chain.gliding:
            track, self._wanted = self._wanted, None
            if track.chain != self.track.chain:
                fresh = self._fresh(track)
                same = fresh.latency_frames == old_latency
                self._chain.change(self._chain.chain.evolved(track.chain) if same else self._primed(fresh))
            self.track = track
        return old_latency

    def process(self, frames: int, listen: Listen, fade_from: Listen, *, audible: bool) -> Array:
        """The track's next block in the mix, stereo (2, frames); fades when what is listened to has changed."""
        old_latency = self._take_over()
        latency = self._chain.chain.latency_frames
        block = self._read(self._position + latency, frames)
        old_block = block if old_latency == latency else self._read(self._position + old_latency, frames)
        result = self._chain.process(block, old_block)
        if not self._chain.gliding:
            self._delayed_by = latency
        heard = self._heard(listen, block, result, latency)
        if fade_from != listen:
            before = self._heard(fade_from, block, result, latency)
            heard = before + np.linspace(0.0, 1.0, frames + 1)[1:] * (heard - before)
        self._position += frames
        placed = self._placed(heard, audible=audible)
        self.meter_db = (lin_to_db(float(np.abs(placed).max())), lin_to_db(math.sqrt(float(np.mean(placed * placed)))))
        return placed

    def _heard(self, listen: Listen, block: Array, result: Array, latency: int) -> Array:
        if listen == "result":
            return result
        source = block if latency == 0 else self._read(self._position, result.shape[1])
        return source if listen == "source" else source - result

    def _mix_gains(self, *, audible: bool) -> Array:
        fader = db_to_lin(self.track.fader_db) if self.track.fader_db > FADER_OFF_DB and audible else 0.0
        return fader * np.array(pan_gains(self.track.pan_pct, self.take.facts.channels))

    def settle(self, *, audible: bool) -> None:
        """Have fader and pan in place at once, as at the start of a stream."""
        self._gains = self._mix_gains(audible=audible)

    def _placed(self, heard: Array, *, audible: bool) -> Array:
        """Fader and pan; a change glides over the block."""
        target = self._mix_gains(audible=audible)
        if (target == self._gains).all():
            return heard * target[:, None]
        ramp = np.linspace(0.0, 1.0, heard.shape[1] + 1)[1:]
        gains = self._gains[:, None] + ramp * (target - self._gains)[:, None]
        self._gains = target
        return heard * gains

    def stages(self) -> dict[str, tuple[float, float, float]]:
        """Of each processor over the last block: deepest gain, peak in, peak out, in dB."""
        return self._chain.chain.meters()


class Mixer:
    """All tracks of a document, block by block; deterministic: same document, same start, same samples."""

    def __init__(self, document: Document, takes: dict[str, Take]) -> None:
        self.takes = dict(takes)
        self._listen: Listen = "result"
        self._listened: Listen = "result"
        self.players: dict[str, TrackPlayer] = {}
        self._document = document
        self._stream, self._position = Stream(0), 0
        self.change(document)
        self.start(self._stream)

    @property
    def frames(self) -> int:
        """Length of the session: its longest take."""
        return max((player.take.facts.frames for player in self.players.values()), default=0)

    def start(self, stream: Stream) -> None:
        """Begin a stream on every track."""
        self._stream, self._position = stream, 0
        for track_id, player in self.players.items():
            player.start(stream)
            player.settle(audible=self._audible(self._document.tracks[track_id]))

    def change(self, document: Document) -> None:
        """Take over a changed document: new tracks join, removed ones leave, the others glide."""
        self._document = document
        for track_id in [k for k in self.players if k not in document.tracks]:
            del self.players[track_id]
        for track_id, track in document.tracks.items():
            if track_id in self.players:
                self.players[track_id].change(track)
            elif track.take_id in self.takes:
                player = TrackPlayer(track, self.takes[track.take_id], sample_rate=document.sample_rate)
                player.start(Stream(self._stream.spans(self._position, 1)[0][0], self._stream.loop))
                self.players[track_id] = player

    def listen(self, what: Listen) -> None:
        """Choose what is heard from the next block on, faded over that block."""
        self._listen = what

    def _audible(self, track: Track) -> bool:
        solo = any(t.solo for t in self._document.tracks.values())
        return not track.mute and (track.solo or not solo)

    def process(self, frames: int) -> Array:
        """The next block of the mix, stereo (2, frames) float64."""
        mix = np.zeros((2, frames))
        for track_id in self._document.order:
            player = self.players.get(track_id)
            if player is not None:
                wanted = self._document.tracks[track_id]
                audible = self._audible(wanted)
                mix += player.process(frames, self._listen, self._listened, audible=audible)
        self._listened = self._listen
        self._position += frames
        return mix
