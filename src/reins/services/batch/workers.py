"""Who does the tasks of a batch: worker processes of this machine, or those of a running Dask scheduler.

Past one machine nothing here schedules, retries or moves a task: that is Dask's. On one, a worker that is killed takes
its pool with it; a new one does what was not done, and a task that was under way each time MOST_LOST times over is
given up with a sentence.
"""

import multiprocessing
import os
import signal
import threading
from collections import Counter
from collections.abc import Callable, Generator, Iterator
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from multiprocessing.connection import wait as wait_for
from typing import Any

from reins.errors import SettingsError
from reins.services.batch.tasks import FAILED, Row, Task, hold

MOST_LOST = 3
ANSWERS_S = 10  # within which a scheduler must answer, and have a worker
LOOK_S = 0.2  # how often is looked whether to stop
AHEAD = 3  # tasks with the pool for each worker, so that it never waits itself
LOST = "its worker stopped three times while it was at work; perhaps there was not enough memory."


def held_here(tasks: list[Task], workers: int, check: Callable[[], None] = lambda: None) -> Generator[Row, None, None]:
    """The rows of tasks as they come, done by so many processes. Closed early, it stops them at once;
    `check` is called several times a second and may raise to stop."""
    left, lost = list(reversed(tasks)), Counter[Task]()
    # One thread each for linear algebra: those of several workers would wait for each other by running in circles.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    while left:
        others, waiting = set(multiprocessing.active_children()), dict[Future[Row], Task]()
        # Spawned, not forked: whoever calls may have threads.
        with ProcessPoolExecutor(workers, multiprocessing.get_context("spawn"), _end_with_caller) as pool:
            try:
                yield from _rows_of(pool, left, waiting, workers * AHEAD, check)
            except BrokenProcessPool:
                yield from _what_is_left(waiting, left, lost)
            except BaseException:
                for process in set(multiprocessing.active_children()) - others:
                    process.terminate()
                raise


def _end_with_caller() -> None:
    """Have a worker end as soon as who started it is no more: killed, that one tells it nothing, and it would wait for
    ever.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # typed at a terminal it comes to all; who called stops the others
    caller = multiprocessing.parent_process()
    if caller is not None:
        sentinel = caller.sentinel
        threading.Thread(target=lambda: (wait_for([sentinel]), os._exit(1)), daemon=True).start()


def _rows_of(
    pool: Executor, left: list[Task], waiting: dict[Future[Row], Task], most: int, check: Callable[[], None]
) -> Iterator[Row]:
    """Rows as they come, of the tasks that are left, the last one first; waiting: those that are with the pool."""
    while left or waiting:
        check()
        while left and len(waiting) < most:
            waiting[pool.submit(hold, left[-1])] = left[-1]
            left.pop()
        for future in wait(waiting, LOOK_S, return_when=FIRST_COMPLETED).done:
            row = future.result()
            del waiting[future]
            yield row


def _what_is_left(waiting: dict[Future[Row], Task], left: list[Task], lost: Counter[Task]) -> Iterator[Row]:
    """After a pool broke: rows of what was done all the same, and of what has been lost too often; the rest is left."""
    for future, task in waiting.items():
        if future.done() and future.exception() is None:
            yield future.result()
            continue
        lost[task] += 1
        if lost[task] < MOST_LOST:
            left.append(task)
        else:
            yield Row(task.source, task.output, FAILED, problem=f"{task.source}: {LOST}")


def held_on(address: str, tasks: list[Task]) -> Generator[Row, None, None]:
    """The rows of tasks as they come, done by the workers of a Dask scheduler."""
    client = _client(address)
    from distributed import as_completed

    told = set()
    try:
        futures = client.map(hold, tasks, pure=False, batch_size=1000)
        whose = dict(zip((future.key for future in futures), tasks, strict=True))
        for future in as_completed(futures):
            task = whose[future.key]
            if future.status == "finished":
                row = future.result()
            elif future.status == "error":  # Dask tried elsewhere as often as it is told to
                row = Row(task.source, task.output, FAILED, problem=f"{task.source}: {_said(future.exception())}")
            else:
                break  # nobody is there any more who could say what became of it
            told.add(task)
            yield row
            future.release()
    except OSError:
        pass  # the same, said another way
    finally:
        client.close()
    gone = f"the scheduler at {address} is no more; start it again, and the same command goes on where it was."
    yield from (
        Row(task.source, task.output, FAILED, problem=f"{task.source}: {gone}") for task in tasks if task not in told
    )


def _said(error: BaseException | None) -> str:
    """What Dask says of a task that it gave up."""
    return LOST if type(error).__name__ == "KilledWorker" else str(error or LOST)


def _client(address: str) -> Any:
    try:
        from distributed import Client
    except ImportError as error:
        raise SettingsError("--on needs Dask: pip install reins[many], here and on each worker's machine.") from error
    try:
        client = Client(address, timeout=ANSWERS_S)
    except (OSError, ValueError) as error:
        raise SettingsError(f"--on is “{address}”: no scheduler answers there; allowed: tcp://host:8786.") from error
    try:
        client.wait_for_workers(1, timeout=ANSWERS_S)
    except TimeoutError as error:
        client.close()
        raise SettingsError(
            f"--on is “{address}”: it has no workers; start some with “dask worker {address}”."
        ) from error
    return client
