"""A batch from beginning to end: planned, done, noted as it goes, reported."""

import os
from collections import Counter
from collections.abc import Callable
from contextlib import closing, suppress
from dataclasses import dataclass, field
from pathlib import Path
from time import perf_counter

from reins.core.audio import is_left_behind
from reins.errors import SettingsError
from reins.services.batch.planning import plan
from reins.services.batch.record import NAME, Record, check_report, report
from reins.services.batch.tasks import FAILED, HELD, KEPT, Row, Wish, Written
from reins.services.batch.workers import held_here, held_on

MOST_WORKERS = 256


@dataclass(frozen=True)
class Asked:
    """What a batch is asked for; see docs/batch.md."""

    files: tuple[Path, ...]
    folder: Path
    chain: Path | None = None
    wishes: tuple[Wish, ...] = ()
    key_from: tuple[str, ...] = ()
    written: Written = field(default_factory=Written)
    workers: int | None = None
    on: str | None = None
    report: Path | None = None
    again: bool = False
    of_desk: bool = False  # into its own folder


@dataclass
class Progress:
    """How far a batch is: files by what became of them and by worker, seconds of sound held, time."""

    total: int
    began: float = field(default_factory=perf_counter)
    done: Counter[str] = field(default_factory=Counter)
    by_worker: Counter[str] = field(default_factory=Counter)
    sound_s: float = 0.0

    def add(self, row: Row) -> None:
        """Count a file."""
        self.done[row.done] += 1
        self.by_worker[row.worker] += 1
        self.sound_s += (row.seconds or 0.0) if row.done == HELD else 0.0

    @property
    def files(self) -> int:
        """How many are through."""
        return self.done.total()

    def left_s(self) -> float | None:
        """Seconds until all are, as fast as it went so far."""
        return (perf_counter() - self.began) * (self.total / self.files - 1.0) if self.files else None

    def times_real_time(self) -> float:
        """Seconds of sound held in a second."""
        return self.sound_s / max(perf_counter() - self.began, 1e-9)

    def sentence(self) -> str:
        """In words."""
        left = self.left_s()
        words = [f"{self.files} of {self.total} files"]
        words += [f"{self.done[FAILED]} failed"] if self.done[FAILED] else []
        words += [f"{self.done[KEPT]} there already"] if self.done[KEPT] else []
        words += [f"{self.times_real_time():.0f} × real time"] if self.sound_s else []
        words += [] if left is None or self.files == self.total else [f"{left:.0f} s left"]
        each = [f"{name} {count}" for name, count in sorted(self.by_worker.items()) if name]
        return " · ".join([*words, f"by worker: {', '.join(each)}"] if len(each) > 1 else words)


def run_batch(
    asked: Asked, seen: Callable[[Row, Progress], None] = lambda row, progress: None,
    check: Callable[[], None] = lambda: None,
) -> list[Row]:  # fmt: skip
    """Hold all files; their rows, in the order the files were given.

    `seen` is told each as it comes; it, and on this machine `check`, may raise to stop: what is done stays done. Raises
    SettingsError for what is given wrongly, before anything is done.
    """
    workers = asked.workers if asked.workers is not None else os.cpu_count() or 1
    if not 1 <= workers <= MOST_WORKERS:
        raise SettingsError(f"--workers is {workers}; allowed: 1 to {MOST_WORKERS}.")
    if asked.on is not None and not asked.on.strip():
        raise SettingsError("--on is empty; allowed: the address of a scheduler, tcp://host:8786.")
    if asked.report is not None:
        check_report(asked.report)
    record = Record(asked.folder)
    tasks = plan(
        asked.files, asked.folder, chain=asked.chain, wishes=asked.wishes, key_from=list(asked.key_from),
        written=asked.written, known={} if asked.again else record.known(),
        beside=[asked.folder / NAME, *([] if asked.report is None else [asked.report])], of_desk=asked.of_desk,
    )  # fmt: skip
    _clear(asked.folder)
    rows: dict[str, Row] = {}
    progress = Progress(len(tasks))
    coming = held_on(asked.on, tasks) if asked.on is not None else held_here(tasks, min(workers, len(tasks)), check)
    try:
        with closing(coming):
            for row in coming:
                record.keep(row)
                rows[row.output] = row = record.as_before(row) if row.done == KEPT else row
                progress.add(row)
                seen(row, progress)
    finally:
        _clear(asked.folder)
        done = [rows[task.output] for task in tasks if task.output in rows]
        if asked.report is not None:
            report(asked.report, done)
    return done


def _clear(folder: Path) -> None:
    """Take away what workers of this machine that are no more had begun to write."""
    for path in folder.rglob(".*"):
        if is_left_behind(path):
            with suppress(OSError):
                path.unlink()
