"""What the pictures of a rein show: the sound it moves folded over the beat, a key's level and the value it makes."""

from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import parse_reins
from reins.core.measure import beats
from reins.core.moves.models import ByBeat, ByKey, Move, Rein
from reins.core.routing import BEFORE, in_order, of_strip
from reins.core.sessions import Document
from reins.core.sound import Sound
from reins.core.trials.followed import followed
from reins.errors import InputError
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.newest import Newest
from reins.services.sounds import Check, Sounds

Array = npt.NDArray[np.float64]
MAX_COLUMNS = 4096


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
        told: dict[str, Any] = {"number": number}
        told["source"] = beats.density(self._turns(document, sound, by, check)).tolist()
        other = self._sounds.key(document, of_strip(key, strip_id), check)[0] if key else None
        told["key"] = None if other is None else beats.density(self._turns(document, other, by, check)).tolist()
        return told

    def curve(self, session_id: str, *, source: str, beats_long: float, offset_beats: float) -> dict[str, Any]:
        """A curve by the beat drawn after how a strip's level runs, over all repetitions."""
        document = document_of(self._house, session_id)
        by = ByBeat(beats=beats_long, offset_beats=offset_beats)
        turns = self._turns(document, self._sounds.key(document, source)[0], by)
        return {"points": [[at, value, 0] for at, value in beats.curve_after(turns)]}

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
        by = _by_key(rein)
        # Its own keys are wanted, not those of the chain; it may not be there yet, and may be switched off.
        listening = document.with_strip(strip_id, chain=[], reins=[Rein(moves=[Move(what="tried", to=0.0)], by=by)])
        in_order(listening)
        sound, _ = self._sounds.source(document, strip_id, check)
        keys = self._sounds.keys(listening, strip_id, check)[0] | {BEFORE: sound}
        level, value = followed(by, sound, keys, start + np.linspace(0, frames, columns + 1).astype(np.int64), check)
        return {
            "number": number, "start": start, "frames": frames,
            "key_db": np.round(20.0 * np.log10(np.maximum(level, 1e-6)), 2).tolist(),
            "value": np.round(value, 4).tolist(),
        }  # fmt: skip


def _by_key(rein: dict[str, Any]) -> ByKey:
    by = parse_reins([{**rein, "id": "tried"}])[0].by
    if not isinstance(by, ByKey):
        raise InputError("This rein follows no key; choose one that moves by a key.")
    return by
