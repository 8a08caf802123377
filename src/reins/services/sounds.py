"""The sounds a strip's chain works on: its source (a take laid out, or what comes to a bus or the master) and its keys.

What has to be rendered is rendered once and kept on disk, as a take, under a name made from all that leads to it, until
others were wanted since.
"""

import hashlib
import itertools
import shutil
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator

import numpy as np

from reins.core.engine.chain import as_it_is
from reins.core.engine.length import session_frames
from reins.core.engine.offline import render_incoming, render_placed, render_strip
from reins.core.laid import LaidTake, OneSide, Silence
from reins.core.leading import leading_to
from reins.core.routing import HITS, of_strip, parse_tie, strip_keys
from reins.core.sessions import Document
from reins.core.sound import Sound
from reins.core.struck import struck_of
from reins.core.takes import Take, write_take
from reins.errors import ConflictError
from reins.services.house import House

#: Of what was rendered, so much stays on disk: of short sessions many sums, of any some.
LEAST_KEPT, MOST_KEPT, KEPT_FRAMES = 8, 64, 60_000_000
Check = Callable[[], None]


class Sounds:
    """Gives the sound before any strip's chain, and those of its keys."""

    def __init__(self, house: House) -> None:
        self._house = house
        self._lock = threading.Lock()
        self._sums: OrderedDict[str, Take] = OrderedDict()
        self._making: dict[str, threading.Lock] = {}

    def source(self, document: Document, strip_id: str, check: Check = lambda: None) -> tuple[Sound, str]:
        """What a strip's chain hears, and a name that changes whenever that does; `check` may raise to stop.

        Raises ConflictError for a track without a take and a session without sound.
        """
        strip = document.strip(strip_id)
        if strip_id in document.tracks:
            track = document.tracks[strip_id]
            if track.take_id is None:
                raise ConflictError(f"{strip.name}: this track has no take; bring one in.")
            laid = f"{track.take_id}/{track.start_frame}/{track.trim_db}/{track.inverted}"
            return LaidTake(self._house.take(track.take_id), track), laid
        return self._rendered(leading_to(document, strip_id), strip_id, render_incoming, check)

    def result(self, document: Document, strip_id: str, check: Check = lambda: None) -> tuple[Sound, str]:
        """What a chain makes, before the fader, and a name that changes whenever that does; raises as source."""
        strip = document.strip(strip_id)
        if not strip.chain and as_it_is(strip):
            return self.source(document, strip_id, check)
        return self._tapped(document, strip_id, "after", check)

    def keys(self, document: Document, strip_id: str, check: Check = lambda: None) -> tuple[dict[str, Sound], str]:
        """The sounds of the outside keys of a strip's chain, by name, and a name that changes whenever they do."""
        found: dict[str, Sound] = {}
        names = []
        for name in strip_keys(document.strip(strip_id)):
            found[name], key = self.key(document, of_strip(name, strip_id), check)
            names.append(f"{name}={key}")
        return found, " ".join(names)

    def key(self, document: Document, name: str, check: Check = lambda: None) -> tuple[Sound, str]:
        """The sound that a key's name means (routing.parse_tie), and a name that changes whenever it does."""
        strip_id, tap, side = parse_tie(document, name)
        if tap == HITS:
            track = document.tracks[strip_id]
            laid = f"{track.start_frame} {track.trim_db} {side} {track.hits}"
            return struck_of(track, document.sample_rate, side), hashlib.sha256(laid.encode()).hexdigest()[:32]
        sound, known = self._tapped(document, strip_id, tap, check)
        return OneSide(sound, side) if side else sound, known

    def _tapped(self, document: Document, strip_id: str, tap: str, check: Check) -> tuple[Sound, str]:
        """A strip's sound where a key is taken (routing.TAPS)."""
        track = document.tracks.get(strip_id)
        if track is not None and track.take_id is None:
            return Silence(document.sample_rate), "silence"
        if tap == "before":
            return self.source(document, strip_id, check)
        reduced = leading_to(document, strip_id, chain=True, fader=tap == "fader")
        return self._rendered(reduced, strip_id, render_placed if tap == "fader" else render_strip, check)

    def _rendered(
        self, document: Document, strip_id: str, render: Callable[..., Iterator[np.ndarray]], check: Check
    ) -> tuple[Take, str]:
        """What `render` makes of a strip in a document reduced to what leads there, made now unless it is kept."""
        key = hashlib.sha256(f"{render.__name__} {strip_id} {document.model_dump_json()}".encode()).hexdigest()[:32]
        with self._lock:
            making = self._making.setdefault(key, threading.Lock())
        with making:  # who asks for what is being made already waits for it
            take = self._kept(key)
            if take is None:
                takes = self._house.takes(document)
                frames = session_frames(document, takes)
                if frames == 0:
                    raise ConflictError("Nothing comes here yet: no track with a take leads to it.")
                take = self._written(key, render(document, takes, strip_id, frames), document.sample_rate, check)
                self._keep(key, take)
        return take, key

    def _kept(self, key: str) -> Take | None:
        with self._lock:
            if key in self._sums:
                self._sums.move_to_end(key)
            return self._sums.get(key)

    def _keep(self, key: str, take: Take) -> None:
        with self._lock:
            self._sums[key] = take
            while len(self._sums) > LEAST_KEPT and not self._fit():
                old, _ = self._sums.popitem(last=False)
                self._making.pop(old, None)
                shutil.rmtree(self._house.passing_dir / old, ignore_errors=True)

    def _fit(self) -> bool:
        frames = sum(take.facts.frames for take in self._sums.values())
        return len(self._sums) <= MOST_KEPT and frames <= KEPT_FRAMES

    def _written(self, key: str, blocks: Iterator[np.ndarray], sample_rate: int, check: Check) -> Take:
        folder, final = self._house.passing_folder(), self._house.passing_dir / key
        try:
            first = next(blocks)
            write_take(
                folder / key, itertools.chain([first], blocks), channels=first.shape[0], sample_rate=sample_rate,
                progress=lambda frames: check(),
            )  # fmt: skip
            if not final.exists():
                (folder / key).rename(final)
        finally:
            shutil.rmtree(folder, ignore_errors=True)
        return Take(final)
