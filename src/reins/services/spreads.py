"""Spreads of a processor in a session: values of its settings, or its starting points, side by side over what is in
view; each a tile that is measured when it is asked for.
"""

from typing import Any

import numpy as np

from reins.core.changes import StartFrom
from reins.core.changes.chains import processor_at
from reins.core.settings.fields import changes
from reins.core.starting_points import starting_points
from reins.core.trials.running import Trial
from reins.core.trials.spreads import Axis, can_spread, measured, spread, tiles, tried
from reins.errors import InputError
from reins.services.editing import document_of
from reins.services.fitting import Fitting
from reins.services.house import House
from reins.services.newest import Newest
from reins.services.points import own_points
from reins.services.sounds import Sounds

MOST_COLUMNS = 1024
MOST_SECONDS = 60.0  # of what is in view: a spread is for a passage


class Spreads:
    """Answers what tiles there are and what each shows; the newest spread of a desk wins."""

    def __init__(self, house: House, sounds: Sounds, fitting: Fitting) -> None:
        self._house, self._sounds, self._fitting = house, sounds, fitting
        self._newest = Newest()

    def plan(self, session_id: str, strip_id: str, processor_id: str, axes: list[Axis]) -> dict[str, Any]:
        """The settings that can be spread by path, the axes with their values and words, and the tiles: settings by
        path. Without axes: those that can be spread alone.
        """
        _, entry = processor_at(document_of(self._house, session_id).strip(strip_id), processor_id)
        made = spread(entry, axes) if axes else []
        return {
            "can": can_spread(entry.settings),
            "axes": [vars(one) for one in made],
            "tiles": [{"settings": settings} for settings in tiles(made)] if made else [],
        }

    def points(self, session_id: str, strip_id: str, processor_id: str) -> dict[str, Any]:
        """The starting points of a processor's type, shipped and own, as tiles: name, sentence, settings by path as
        they would be laid on this strip's sound.
        """
        document = document_of(self._house, session_id)
        _, entry = processor_at(document.strip(strip_id), processor_id)
        place: dict[str, Any] = {"kind": "start_from", "strip_id": strip_id, "processor_id": processor_id}
        named = [(p.name, p.sentence, StartFrom(**place, name=p.name)) for p in starting_points(entry.type)]
        own = [
            (p["name"], "Your own.", StartFrom(**place, name=p["name"], settings=p["settings"]))
            for p in own_points(self._house)
            if p["type"] == entry.type
        ]
        made = []
        for name, sentence, change in [*named, *own]:
            tried_, _ = self._fitting.fitted(session_id, change).apply(document)
            _, laid = processor_at(tried_.strip(strip_id), processor_id)
            made.append({"name": name, "sentence": sentence, "settings": changes(entry.settings, laid.settings)})
        return {"tiles": made}

    def tile(
        self, session_id: str, strip_id: str, *, desk: str, number: int, processor_id: str, settings: dict[str, Any],
        start: int, frames: int, columns: int,
    ) -> dict[str, Any]:  # fmt: skip
        """What a processor does with settings changed by path over frames start .. start + frames: result_db, held_db
        and let_db by column, and its figures.
        """
        check = self._newest.check(f"{desk}/spread", number)
        document = document_of(self._house, session_id)
        rate = document.sample_rate
        if not (0 < columns <= MOST_COLUMNS and start >= 0 and 0 < frames <= MOST_SECONDS * rate):
            raise InputError(
                f"columns is {columns}, frames {frames}, start {start}; allowed: 1 to {MOST_COLUMNS} columns of up to "
                f"{MOST_SECONDS:g} s."
            )
        strip = document.strip(strip_id)
        processor_at(strip, processor_id)
        sound, _ = self._sounds.source(document, strip_id, check)
        keys, _ = self._sounds.keys(document, strip_id, check)
        if start >= sound.facts.frames:
            raise InputError("There is no sound in view: go where the take is.")
        trial = tried(Trial(sound, strip.chain, keys, document.beat, strip.reins, strip), processor_id, settings)
        length = min(frames, sound.facts.frames - start)
        span, figures = measured(trial, processor_id, start, length, check)
        peaks, held, let = span.columns(start, length, columns)
        db = 20.0 * np.log10(np.maximum(peaks, 1e-6))
        return {
            "number": number, "figures": figures, "result_db": np.round(db, 1).tolist(),
            "held_db": np.round(held, 1).tolist(), "let_db": np.round(let, 1).tolist(),
        }  # fmt: skip
