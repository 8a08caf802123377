"""What stands behind a limiter that is to have the last word."""

from collections.abc import Sequence

from reins.core.chainfile import ProcessorEntry
from reins.core.processors import PROCESSORS

LAST = "limiter"


def behind_limiter(chain: Sequence[ProcessorEntry]) -> list[str]:
    """What every processor is called that is on and stands behind the last limiter that is on; nothing without one."""
    places = [place for place, entry in enumerate(chain) if entry.on and entry.type == LAST]
    return [PROCESSORS[entry.type].label for entry in chain[places[-1] + 1 :] if entry.on] if places else []


def said_behind(labels: Sequence[str]) -> str:
    """That in a sentence; "" where there is nothing to say."""
    if not labels:
        return ""
    stand, they, make = ("stands", "it", "makes") if len(labels) == 1 else ("stand", "they", "make")
    return f"{', '.join(labels)} {stand} behind the limiter: what {they} {make} louder is not held."
