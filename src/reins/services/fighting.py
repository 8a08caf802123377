"""Where two files fight."""

import tempfile
from pathlib import Path
from typing import Any

from reins.core.takes import Take
from reins.core.trials.fight import WORST, fight
from reins.services.aiming import Progress, take_of


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
