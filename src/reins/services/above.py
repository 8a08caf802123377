"""The whole session from above: every strip in few columns, with what its chain holds."""

from typing import Any

import numpy as np

from reins.core.trials.above import FromAbove, from_above
from reins.core.trials.running import Trial
from reins.errors import InputError
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.newest import Newest
from reins.services.remembered import Remembered
from reins.services.sounds import Sounds

MAX_COLUMNS = 2048
REMEMBERED = 512  # strips; two thousand columns of one take 16 kB
FLOOR = 1e-4


class Aboves:
    """Answers of all desks; the newest question of a desk wins, and what a strip was found to be stays known."""

    def __init__(self, house: House, sounds: Sounds) -> None:
        self._house, self._sounds = house, sounds
        self._newest = Newest()
        self._known = Remembered(REMEMBERED)

    def strip(self, session_id: str, strip_id: str, *, desk: str, number: int, columns: int) -> dict[str, Any]:
        """{"number", "frames", "peaks_db", "held_db" by column, "held_pct", "deepest_db", "deepest_frame"} of a strip.

        Raises ConflictError for one that nothing comes to.
        """
        check = self._newest.check(f"{desk}/above", number)
        if not 0 < columns <= MAX_COLUMNS:
            raise InputError(f"columns is {columns}; allowed: 1 to {MAX_COLUMNS}.")
        document = document_of(self._house, session_id)
        strip = document.strip(strip_id)
        sound, name = self._sounds.source(document, strip_id, check)
        keys, key_name = self._sounds.keys(document, strip_id, check)
        trial = Trial(sound, strip.chain, keys, document.beat, strip.reins, strip)
        made = tuple(part.model_dump_json() for part in (*strip.chain, *strip.reins))
        put_out = strip.chain_on, strip.chain_mix_pct, strip.puts_out
        place = (name, key_name, document.beat, put_out, made, columns)
        seen: FromAbove = self._known.get(place, lambda: from_above(trial, columns, check))
        peaks_db = 20.0 * np.log10(np.maximum(seen.peaks, FLOOR))
        return {
            "number": number, "frames": seen.frames, "peaks_db": np.round(peaks_db).astype(int).tolist(),
            "held_db": np.round(seen.held_db.astype(np.float64), 1).tolist(), "held_pct": round(seen.held_pct, 1),
            "deepest_db": round(seen.deepest_db, 1), "deepest_frame": seen.deepest_frame,
        }  # fmt: skip
