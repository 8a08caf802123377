"""Even by band: every band of a multiband held alike."""

from typing import Any

import numpy as np

from reins.core.processors.multiband_settings import LEANS
from reins.core.trials.aims.base import CLOSE_DB, Aim, Array, Asks, Proposal, Ran, Work, said
from reins.errors import ConflictError

ACTIVE_DB = 30.0  # under the loud parts: what counts
ROUNDS = 10


class EvenByBand(Aim):
    """The median of what each band holds over the loudest half of what is active; see the table of aims."""

    name = "bands"
    label = "Even by band"
    about = "Each band of a multiband is held alike, by so many dB."
    types: tuple[str, ...] = ("multiband",)
    asks = Asks("by_db", "Hold each by", 3.0, 0.5, 15.0, "How far each band is held, usually.")
    window_s = 0.9
    base = {"crossovers_hz": [150.0, 1000.0, 6000.0]}

    def propose(self, work: Work) -> Proposal:
        """All thresholds at once, each by the secant of its own band."""
        count = len(work.entry.settings.bands)  # type: ignore[attr-defined]
        level = work.marks.frames.level_db()
        loud = level > np.quantile(level[level > level.max() - ACTIVE_DB], 0.5)
        if np.count_nonzero(loud) < 10:
            raise ConflictError("The take is too short to tell what is loud in it. Choose a longer one.")
        starting = [self._level(work, k, loud) for k in range(count)]
        given = work.entry.settings.bands  # type: ignore[attr-defined]
        ratios = {f"bands.{k}.ratio": max(2.0, float(band.ratio)) for k, band in enumerate(given)}
        # A line that leans over the bands stands level again: they are to be held alike.
        ratios |= {name: 0.0 for name in LEANS if getattr(work.entry.settings, name)}
        guesses = [min(0.0, db - 2.0 * work.asked) for db in starting]
        now = [float(work.near.get(f"bands.{k}.threshold_db", db)) for k, db in enumerate(guesses)]
        before: tuple[list[float], list[float]] | None = None
        found: dict[str, Any] = {}
        got = [0.0] * count
        best: tuple[float, dict[str, Any], list[float]] | None = None
        for _ in range(ROUNDS):
            found = ratios | {
                f"bands.{k}.threshold_db": round(work.within(f"bands.{k}.threshold_db", db), 2)
                for k, db in enumerate(now)
            }
            got = _depths(work.run(found), loud, count)
            worst = max(abs(work.asked - one) for one in got)
            if best is None or worst < best[0]:
                best = worst, found, got
            if worst < CLOSE_DB:
                break
            now, before = self._next(work.asked, now, got, before), (now, got)
        assert best is not None
        _, found, got = best
        silent = [k + 1 for k, db in enumerate(starting) if db < -75.0]
        reached = all(abs(work.asked - one) <= 0.5 for k, one in enumerate(got) if k + 1 not in silent)
        each = ", ".join(f"{found[f'bands.{k}.threshold_db']:g}".replace("-", "−") for k in range(count))
        reason = f"{count} bands: thresholds of {each} dB hold {said(min(got))} to {said(max(got))} of them."
        reason += f" Nothing sounds in band {', '.join(map(str, silent))}." if silent else ""
        figures = {f"band{k + 1}_db": round(one, 2) for k, one in enumerate(got)}
        return Proposal(found, reason if reached else f"Not all by {said(work.asked)}: {reason}", figures, reached)

    @staticmethod
    def _level(work: Work, band: int, loud: Any) -> float:
        """How loud a band is where it is loud, in dB."""
        edges = [0.0, *work.entry.settings.crossovers_hz, 1e6]  # type: ignore[attr-defined]
        power = work.marks.frames.between(edges[band], edges[band + 1])[loud]
        return float(10.0 * np.log10(max(float(np.quantile(power, 0.75)), 1e-12))) + 3.0

    @staticmethod
    def _next(
        asked: float, now: list[float], got: list[float], before: tuple[list[float], list[float]] | None
    ) -> list[float]:
        """Thresholds of the next try."""
        tried = []
        for k, (db, depth) in enumerate(zip(now, got, strict=True)):
            slope = -0.5
            if before is not None and before[0][k] != db:
                measured = (depth - before[1][k]) / (db - before[0][k])
                slope = measured if measured < -0.05 else slope
            step = (asked - depth) / slope
            tried.append(db + min(max(step, -15.0), 15.0))
        return tried


def _depths(did: Ran, loud: Any, count: int) -> list[float]:
    depths: list[Array] = [did.deepest[f"band{k + 1}.gain_db"] for k in range(count)]
    return [-float(np.median(row[: loud.size][loud[: row.size]])) for row in depths]
