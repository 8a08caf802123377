"""Compiling kernels before they are called: `python -m reins.core.dsp.compiling first`, `all`, `dearest` or `help`.

`first` are those that nobody can begin without (see dsp.order). `all` is done by two processes, from both ends. `help`
is for a server that has begun without the rest: it compiles in order, at low priority, those first that are named on
its standard input, says the name of each that is there, and ends when that input does, which is when the server ends.
"""

import logging
import os
import queue
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable

from reins.core.dsp import kept
from reins.core.dsp.compiled import Late, compile_here
from reins.core.dsp.order import first, in_order

log = logging.getLogger(__name__)
MODULE = "reins.core.dsp.compiling"
PAUSE_S = 0.05  # between two looks at what another process is compiling
FAILED = "!"  # before the name of one that could not be compiled
LOWEST = 19  # of priorities


def _silent(said: str) -> None:
    """Who compiles ahead waits for nothing."""


def missing(kernels: Iterable[Late]) -> list[Late]:
    """Those that have yet to be compiled."""
    return [late for late in kernels if not kept.is_kept(late.name, late.file)]


def compile_ahead(kernels: Iterable[Late], told: Callable[[str], None], wanted: Callable[[], list[str]] = list) -> None:
    """Have all of these compiled, each once by whoever comes first; told hears of each when it is there. wanted: names
    that come before all others from now on.
    """
    left = deque(kernels)
    passed_over = 0
    while left:
        for name in wanted():
            left = deque(sorted(left, key=lambda late: late.name != name))
        late = left.popleft()
        try:
            compile_here(late, told=_silent, wait=False)
        except BlockingIOError:  # another process is at it
            left.append(late)
            passed_over += 1
            if passed_over >= len(left):
                time.sleep(PAUSE_S)
            continue
        except Exception:
            log.exception("%s could not be compiled", late.name)
            told(FAILED + late.name)
            continue
        passed_over = 0
        told(late.name)


def compile_all(told: Callable[[str], None]) -> None:
    """Have all kernels compiled, on two cores where there are two."""
    kernels = missing(in_order())
    other = None
    if len(kernels) > 1 and (os.cpu_count() or 1) > 1:
        command = [sys.executable, "-m", MODULE, "from-the-end"]
        other = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL)
    try:
        compile_ahead(kernels, told)
    finally:
        if other is not None:
            other.kill()  # it has no more to do, or shall do no more
            other.wait()


def _end_with_standard_input(heard: Callable[[str], None] = lambda line: None) -> None:
    """End this process when whoever began it does, however that ends."""

    def listen() -> None:
        for line in sys.stdin:
            heard(line.strip())
        os._exit(0)

    threading.Thread(target=listen, daemon=True).start()


def _help() -> None:
    names: queue.SimpleQueue[str] = queue.SimpleQueue()
    _end_with_standard_input(names.put)
    os.nice(LOWEST)
    compile_ahead(in_order(), lambda name: print(name, flush=True), lambda: [names.get() for _ in range(names.qsize())])


def _dearest() -> None:
    """Compile all in one process and print the ten that took longest."""
    took: list[tuple[float, str]] = []
    for late in in_order():
        began = time.process_time()
        compile_here(late, told=_silent)
        took.append((time.process_time() - began, late.name))
    for seconds, name in sorted(took, reverse=True)[:10]:
        print(f"{seconds:6.1f} s  {name}")
    print(f"{sum(seconds for seconds, _ in took):6.1f} s  all {len(took)}, of the processor")


def main(what: str) -> None:
    """One of the four ways of compiling."""
    if what == "help":
        _help()
    elif what == "dearest":
        _dearest()
    elif what == "from-the-end":
        _end_with_standard_input()
        compile_ahead(reversed(in_order()), lambda name: None)
    elif what == "first":
        compile_ahead(first(), lambda name: None)
    elif what == "all":
        compile_all(lambda name: None)
    else:
        raise SystemExit(f"{what}: no way of compiling; allowed: first, all, dearest, help.")


if __name__ == "__main__":
    main(*sys.argv[1:])
