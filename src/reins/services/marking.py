"""What is found in strips' sounds, as it was corrected by hand: for all who ask, each sound listened to once."""

from reins.core.finding.corrections import corrected
from reins.core.finding.marks import Marks
from reins.core.sessions import Document
from reins.services.remembered import Remembered
from reins.services.sounds import Check, Sounds

REMEMBERED = 12  # takes whose frames are kept: 3.6 MB for five minutes


class Marking:
    """Finds, and remembers what was found."""

    def __init__(self, sounds: Sounds) -> None:
        self._sounds, self._known = sounds, Remembered(REMEMBERED)

    def marks(self, document: Document, strip_id: str, check: Check = lambda: None) -> Marks:
        """What is found in what comes to a strip, corrected; `check` may raise to stop."""
        sound, name = self._sounds.source(document, strip_id, check)
        found: Marks = self._known.get(name, lambda: Marks.of(sound, check))
        return corrected(found, dict(document.strip(strip_id).marks))
