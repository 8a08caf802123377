"""The tempo of a session's takes, found as they come in, told when it is asked for."""

from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Any

from reins.core.finding.excerpt import Excerpt
from reins.core.finding.marks import Marks
from reins.core.laid import LaidTake
from reins.core.sessions import Document
from reins.core.trials.common_tempo import CommonTempo, common_tempo
from reins.errors import ReinsError
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.remembered import Remembered

FROM_S, HEARD_S = 15.0, 60.0  # of a session that is longer than both; of one that is shorter the first minute
MOST_TAKES = 24  # that are listened to
REMEMBERED = 64


class Tempi:
    """Listens to takes in the background, one at a time."""

    def __init__(self, house: House) -> None:
        self._house = house
        self._marks, self._found = Remembered(REMEMBERED), Remembered(REMEMBERED)
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="tempo")

    def prepare(self, session_id: str) -> None:
        """Listen to what is new in a session, in the background."""
        self._pool.submit(self._quietly, session_id)

    def found(self, session_id: str) -> dict[str, Any]:
        """{"found_bpm": beats a minute or None, "sure": whether it is}."""
        return vars(self._common(document_of(self._house, session_id)))

    def close(self) -> None:
        """Begin nothing further."""
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _quietly(self, session_id: str) -> None:
        try:
            self.found(session_id)
        except ReinsError:  # gone meanwhile: whoever asks is told
            return

    def _common(self, document: Document) -> CommonTempo:
        tracks = [document.tracks[name] for name in document.order if document.tracks[name].take_id is not None]
        laid = {(track.take_id, track.start_frame, document.sample_rate): track for track in tracks[:MOST_TAKES]}
        takes = self._house.takes(document)

        def heard(key: tuple[Any, ...]) -> Marks:
            track = laid[key].model_copy(update={"trim_db": 0.0})
            sound = LaidTake(takes[track.take_id or ""], track)
            rate, frames = sound.facts.sample_rate, sound.facts.frames
            first = round(FROM_S * rate) if frames > (FROM_S + HEARD_S) * rate else 0
            return Marks.of(Excerpt(sound, [(first, min(frames, first + round(HEARD_S * rate)))]))

        def common() -> CommonTempo:
            return common_tempo([self._marks.get(key, partial(heard, key)) for key in laid])

        found: CommonTempo = self._found.get(tuple(sorted(laid, key=str)), common)
        return found
