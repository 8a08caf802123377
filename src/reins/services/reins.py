"""What the pictures of a rein show: the sound it moves folded over the beat, a key's level and the value it makes."""

from typing import Any

import numpy as np

from reins.core.changes.reins import PutRein
from reins.core.measure import beats
from reins.core.moves.following import Follower
from reins.core.moves.models import ByBeat, ByKey
from reins.core.routing import BEFORE, parse_tie
from reins.core.sessions import Document
from reins.core.sound import Sound
from reins.errors import InputError
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.newest import Newest
from reins.services.sounds import Check, Sounds

MAX_COLUMNS = 4096
RUN_IN_S = 2.0  # what a follower hears before the part in view
BLOCK_FRAMES = 16384


class ReinViews:
    """Answers what a rein's pictures ask for; the newest request of a desk wins."""

    def __init__(self, house: House, sounds: Sounds) -> None:
        self._house, self._sounds = house, sounds
        self._newest = Newest()

    def folded(
        self, session_id: str, strip_id: str, *, desk: str, number: int, beats_long: float, offset_beats: float,
        key: str,
    ) -> dict[str, Any]:  # fmt: skip
        """What comes to a strip, and a key beside it where one is named, over all repetitions of a curve."""
        check = self._newest.check(f"{desk}/fold", number)
        by = ByBeat(beats=beats_long, offset_beats=offset_beats)
        document = document_of(self._house, session_id)
        sound, _ = self._sounds.source(document, strip_id, check)
        told: dict[str, Any] = {"number": number, "levels_db": beats.LEVELS_DB[:-1].tolist()}
        told["source"] = beats.density(self._turns(document, sound, by, check)).tolist()
        other = None if not key else self._tapped(document, key, check)
        told["key"] = None if other is None else beats.density(self._turns(document, other, by, check)).tolist()
        return told

    def curve(self, session_id: str, *, source: str, beats_long: float, offset_beats: float) -> dict[str, Any]:
        """A curve by the beat drawn after how a strip's level runs, over all repetitions."""
        document = document_of(self._house, session_id)
        by = ByBeat(beats=beats_long, offset_beats=offset_beats)
        turns = self._turns(document, self._tapped(document, source), by)
        return {"points": [[at, value, 0] for at, value in beats.curve_after(turns)]}

    def _tapped(self, document: Document, name: str, check: Check = lambda: None) -> Sound:
        strip_id, tap, _ = parse_tie(document, name)
        return self._sounds.tapped(document, strip_id, tap, check)[0]

    def _turns(self, document: Document, sound: Sound, by: ByBeat, check: Check = lambda: None) -> Any:
        check()
        per_beat = 60.0 / document.tempo_bpm * document.sample_rate
        length = by.beats * per_beat
        starts = beats.turns_of(by.offset_beats * per_beat, length, sound.facts.frames)
        return beats.turns_over(sound.peak_columns, starts, length)

    def followed(
        self, session_id: str, strip_id: str, rein: dict[str, Any], *, desk: str, number: int, start: int, frames: int,
        columns: int,
    ) -> dict[str, Any]:  # fmt: skip
        """The level in dB of what a rein by a key hears, and the value it makes, by columns of a part."""
        check = self._newest.check(f"{desk}/rein", number)
        if not (0 < columns <= MAX_COLUMNS and frames > 0 and start >= 0):
            raise InputError(
                f"columns is {columns}, frames {frames}, start {start}; allowed: 1 to {MAX_COLUMNS} columns."
            )
        document = document_of(self._house, session_id)
        put = PutRein(kind="put_rein", strip_id=strip_id, rein_id=str(rein.get("id") or "tried"), rein=rein)
        document = put.tried(document)
        by = next(one.by for one in document.strip(strip_id).reins if one.id == put.rein_id)
        if not isinstance(by, ByKey):
            raise InputError("Only a rein by a key follows one.")
        sound, _ = self._sounds.source(document, strip_id, check)
        keys, _ = self._sounds.keys(document, strip_id, check)
        keys = {**keys, BEFORE: sound}
        channels = {name: key.facts.channels for name, key in keys.items()}
        rate = document.sample_rate
        follower = Follower(by, channels=sound.facts.channels, sample_rate=rate, key_channels=channels)
        begin = max(0, start - round(RUN_IN_S * rate))
        edges = start + np.linspace(0, frames, columns + 1)
        level, value = np.zeros(columns), np.zeros(columns)
        for first in range(begin, start + frames, BLOCK_FRAMES):
            check()
            count = min(BLOCK_FRAMES, start + frames - first)
            made = follower.hear(sound.read(first, count), {n: k.read(first, count) for n, k in keys.items()})
            column = np.searchsorted(edges, first + np.arange(count), side="right") - 1
            inside = column >= 0
            heard = np.abs(follower.heard).max(axis=0)
            np.maximum.at(level, column[inside].clip(max=columns - 1), heard[inside])
            np.maximum.at(value, column[inside].clip(max=columns - 1), made[inside])
        db = 20.0 * np.log10(np.maximum(level, 1e-6))
        return {
            "number": number, "start": start, "frames": frames, "key_db": np.round(db, 2).tolist(),
            "value": np.round(value, 4).tolist(),
        }  # fmt: skip
