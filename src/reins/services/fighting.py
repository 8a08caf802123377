"""Where two files fight, and two strips of a session."""

import base64
import tempfile
from pathlib import Path
from typing import Any

from reins.core.takes import Take
from reins.core.trials.fight import WORST, fight
from reins.errors import ConflictError
from reins.services.aiming import Progress
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.newest import Newest
from reins.services.processing import take_of
from reins.services.sounds import Sounds

MOST_COLUMNS = 2048


def fight_files(one: Path, other: Path, progress: Progress) -> dict[str, Any]:
    """{"regions", "words"}: where two files fight, the worst first, and the worst in words."""
    with tempfile.TemporaryDirectory() as folder:
        first: Take = take_of(one, Path(folder) / "one", None, lambda done, total: progress("reading", done, 2 * total))
        rate = first.facts.sample_rate
        second = take_of(
            other, Path(folder) / "other", rate, lambda done, total: progress("reading", done + total, 2 * total)
        )
        found = fight(first, second)
    return {
        "regions": [vars(region) for region in found.regions],
        "words": [region.sentence(one.stem, other.stem) for region in found.regions[:WORST]],
    }


class Fights:
    """Answers where two strips of a session fight; the newest question of a desk wins."""

    def __init__(self, house: House, sounds: Sounds) -> None:
        self._house, self._sounds = house, sounds
        self._newest = Newest()

    def between(self, session_id: str, strip_id: str, other: str, *, desk: str, number: int) -> dict[str, Any]:
        """{"number", "regions", "map"} of what two strips put out, the worst first, each with its sentence; the map's
        bytes as base64.
        """
        check = self._newest.check(f"{desk}/fight", number)
        document = document_of(self._house, session_id)
        if strip_id == other:
            raise ConflictError("A strip does not fight itself: choose another to lay over it.")
        names = [document.strip(one).name for one in (strip_id, other)]
        one, two = (self._sounds.key(document, f"{place}/after", check)[0] for place in (strip_id, other))
        found = fight(one, two, check=check)
        told = [vars(region) | {"said": region.sentence(*names)} for region in found.regions[:WORST]]
        start, column_frames, codes = found.picture(MOST_COLUMNS)
        image = base64.b64encode(codes.tobytes()).decode()
        shown = {"start": start, "column_frames": column_frames, "columns": len(codes), "codes": image}
        return {"number": number, "regions": told, "map": shown}
