"""Make room laid where two sounds fight: between which frequencies it gives way is found in both, and what it then
does is measured.
"""

from collections.abc import Iterable
from typing import Any

import numpy as np

from reins.core.chainfile import parse_settings, settings_over
from reins.core.finding.excerpt import Excerpt
from reins.core.measure.span import usual_db
from reins.core.sound import Sound
from reins.core.trials.fight import fight, in_hz
from reins.core.trials.heard import HeardTake, parts_to_hear
from reins.core.trials.offered import Laid, in_db
from reins.core.trials.running import Trial
from reins.errors import ConflictError

ALIKE, MOST_REGIONS, FEW = 0.25, 6, 2  # of the worst region's share of the time: regions that count as well
ABOUT_PCT = 25
EDGE = 2.0 ** (1.0 / 6.0)  # from a region's edge to where nothing is done any more
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
    worst = max(region.share for region in regions)
    counting = [region for region in regions if region.share >= ALIKE * worst][:MOST_REGIONS]
    low_hz = max(round(min(region.low_hz for region in counting)), LOWEST_HZ)
    high_hz = min(round(max(region.high_hz for region in counting)), HIGHEST_HZ)
    depths = _joined([
        (max(region.low_hz, LOWEST_HZ), min(region.high_hz, HIGHEST_HZ), round(100.0 * region.share / worst))
        for region in counting
    ])  # fmt: skip
    settings: dict[str, Any] = {"from_hz": low_hz, "to_hz": high_hz, "depth_points": depth_line(depths)}
    made: Any = parse_settings(entry.type, settings_over(entry, settings), entry.type)
    gains = take.run(made).gains
    moved = next(iter(gains.values())) if gains else np.zeros(1)
    usual, share = usual_db(moved), 100.0 * float(np.mean(np.abs(moved) >= 1.0))
    where = _in_words(depths)
    said = f"where they fight, {where}: usually {in_db(usual)}, "
    said += f"moving {share:.0f} % of the time"
    figures = {"regions": [(region.low_hz, region.high_hz, region.share) for region in counting], "usual_db": usual,
               "held_pct": share}  # fmt: skip
    return Laid(settings, figures, f"heard in parts of it: {said}" if take.in_parts else said, reached=usual != 0.0)


def _joined(regions: list[tuple[float, float, int]]) -> list[tuple[float, float, int]]:
    """Regions in order, those that lie side by side and are about as deep as one, as deep as the deepest."""
    joined: list[tuple[float, float, int]] = []
    for low, high, depth in sorted(regions):
        if joined and low / EDGE <= joined[-1][1] and abs(depth - joined[-1][2]) <= ABOUT_PCT:
            joined[-1] = joined[-1][0], high, max(depth, joined[-1][2])
        else:
            joined.append((low, high, depth))
    return joined


def _in_words(regions: list[tuple[float, float, int]]) -> str:
    """Regions (from, to, percent) and their depths."""
    if len(regions) <= FEW:
        return " and ".join(
            f"{in_hz(low)} to {in_hz(high)}" + (f" by {depth} % of the amount" if depth < 100 else "")
            for low, high, depth in regions
        )
    low, high, least = (min(one[0] for one in regions), max(one[1] for one in regions), min(one[2] for one in regions))
    return f"in {len(regions)} places from {in_hz(low)} to {in_hz(high)}, by {least} to 100 % of the amount"


def depth_line(regions: Iterable[tuple[float, float, float]]) -> list[list[float]]:
    """Points of a depth over frequency for regions (from, to, percent): as deep within each, nothing between them."""
    line: list[list[float]] = []
    for low_hz, high_hz, depth in sorted(regions):
        begin, end = low_hz, high_hz
        if line and begin / EDGE <= line[-1][0]:  # side by side
            line.pop()
            begin = max(begin, 1.001 * line[-1][0])
        else:
            line.append([round(begin / EDGE, 1), 0.0])
        line += [[round(begin, 1), depth], [round(max(end, begin), 1), depth], [round(end * EDGE, 1), 0.0]]
    return line
