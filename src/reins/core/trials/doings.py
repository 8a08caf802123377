"""What every processor of a session did, from one run of the whole of it."""

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from reins.core.dsp.loudness import LoudnessMeter
from reins.core.engine.length import session_frames
from reins.core.engine.offline import render_graph
from reins.core.measure.folding import HELD_DB
from reins.core.recall import Did
from reins.core.sessions import MASTER, Document
from reins.core.takes import Take

STEPS_PER_DB = 20
MOST_DB = 120
COLUMNS = 96  # along the session


class _Doing:
    """What one processor does, taken in block by block."""

    def __init__(self, sample_rate: int, frames: int) -> None:
        self._frames, self._done = frames, 0
        self.low_db, self.high_db = np.zeros((2, COLUMNS))
        self.counts = np.zeros(2 * MOST_DB * STEPS_PER_DB + 1, np.int64)
        self.meters = [LoudnessMeter(sample_rate=sample_rate) for _ in range(2)]

    def take_in(self, gain_db: npt.NDArray[np.float64]) -> None:
        """Count how long the gain stands where, and note it along the session."""
        columns = np.minimum((self._done + np.arange(gain_db.size)) * COLUMNS // self._frames, COLUMNS - 1)
        begins = np.flatnonzero(np.diff(columns, prepend=-1))
        here = columns[begins]
        self.low_db[here] = np.minimum(self.low_db[here], np.minimum.reduceat(gain_db, begins))
        self.high_db[here] = np.maximum(self.high_db[here], np.maximum.reduceat(gain_db, begins))
        self._done += gain_db.size
        steps = np.rint(np.clip(gain_db, -MOST_DB, MOST_DB) * STEPS_PER_DB).astype(np.int64) + MOST_DB * STEPS_PER_DB
        self.counts += np.bincount(steps, minlength=self.counts.size)

    def did(self) -> Did:
        """All of it."""
        gains = (np.arange(self.counts.size) - MOST_DB * STEPS_PER_DB) / STEPS_PER_DB
        held = np.where(np.abs(gains) >= HELD_DB, self.counts, 0)
        total, moved = int(self.counts.sum()), int(held.sum())
        there = gains[self.counts > 0]
        deepest = float(there[np.abs(there).argmax()]) if there.size else 0.0
        usual = float(gains[np.searchsorted(np.cumsum(held), moved / 2.0)]) if moved else 0.0
        before, after = (meter.integrated_lufs() for meter in self.meters)
        along = (tuple(np.round(row, 2).tolist()) for row in (self.low_db, self.high_db))
        return Did(100.0 * moved / max(total, 1), usual, deepest, before, after, *along)


def doings(
    document: Document, takes: dict[str, Take], progress: Callable[[int, int], None] = lambda done, total: None
) -> dict[tuple[str, str], Did]:
    """By strip and processor what each that is on did; nothing for a session without sound."""
    frames = session_frames(document, takes)
    made: dict[tuple[str, str], _Doing] = {}
    done = 0
    if frames:
        for graph, count in render_graph(document, takes, frames, lambda plan: plan.out_lead[MASTER]):
            for strip_id, player in graph.players.items():
                chain = player.chain.chain
                for entry, told, _ in chain.gains():
                    doing = made.setdefault((strip_id, entry.id), _Doing(document.sample_rate, frames))
                    rows = [row for name, row in told.items() if name.endswith("gain_db")]
                    if rows:
                        doing.take_in(min(rows, key=lambda row: float(-np.abs(row).max(initial=0.0))))
                    around = chain.around(entry.id)
                    if around is not None:
                        for meter, sound in zip(doing.meters, (around.before, around.after), strict=True):
                            meter.feed(np.ascontiguousarray(sound))
            done += count
            progress(min(done, frames), frames)
    return {place: doing.did() for place, doing in made.items()}
