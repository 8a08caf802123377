"""Make room laid where two sounds fight: between which frequencies it gives way is found in both, and what it then
does is measured.
"""

import numpy as np

from reins.core.finding.excerpt import Excerpt
from reins.core.measure.span import usual_db
from reins.core.sound import Sound
from reins.core.trials.fight import fight, in_hz
from reins.core.trials.heard import HeardTake, parts_to_hear
from reins.core.trials.offered import Laid, in_db
from reins.core.trials.running import Trial
from reins.errors import ConflictError

ALIKE = 0.4  # of the worst region's share of the time: regions that count as well
LOWEST_HZ, HIGHEST_HZ = 20.0, 20000.0


def room_between(trial: Trial, key: Sound) -> Laid | None:
    """Between which frequencies the last processor of a trial gives way to its key, as settings by path, what was
    measured with them, and that in words; None where there is nothing to compare.
    """
    take = HeardTake.of(trial)
    entry = trial.entries[-1]
    keyed = Excerpt(key, parts_to_hear(trial.sound).parts)
    try:
        regions = fight(take.trial.sound, keyed).regions
    except ConflictError:
        return None
    if not regions:
        said = "they hardly sound in the same place at the same time: it has next to nothing to do"
        return Laid({}, {"regions": []}, said, reached=False)
    counting = [region for region in regions if region.share >= ALIKE * regions[0].share]
    low_hz = max(round(min(region.low_hz for region in counting)), LOWEST_HZ)
    high_hz = min(round(max(region.high_hz for region in counting)), HIGHEST_HZ)
    settings = {"from_hz": low_hz, "to_hz": high_hz}
    made = entry.settings.model_copy(update=settings)
    gains = take.run(made).gains
    moved = next(iter(gains.values())) if gains else np.zeros(1)
    usual, share = usual_db(moved), 100.0 * float(np.mean(np.abs(moved) >= 1.0))
    said = f"where they fight, {in_hz(low_hz)} to {in_hz(high_hz)}: usually {in_db(usual)}, "
    said += f"moving {share:.0f} % of the time"
    figures = {"regions": [(region.low_hz, region.high_hz, region.share) for region in counting], "usual_db": usual,
               "held_pct": share}  # fmt: skip
    return Laid(settings, figures, f"heard in parts of it: {said}" if take.in_parts else said, reached=usual != 0.0)
