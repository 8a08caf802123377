"""A server that has begun before all its kernels are compiled: a helper process compiles them, in order, what is wanted
first; who needs one that is not there goes on without it (what plays), is told so (a request) or waits (work).
"""

import logging
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from reins.core.dsp import compiled
from reins.core.dsp.compiled import Late
from reins.core.dsp.compiling import FAILED, MODULE, missing
from reins.core.dsp.order import in_order
from reins.errors import NotReadyError

log = logging.getLogger(__name__)
COMMAND = [sys.executable, "-m", MODULE, "help"]
MOST_HELPERS = 3  # one after the other: whatever ends a helper shall not do so for ever
_thread = threading.local()


@contextmanager
def patiently() -> Iterator[None]:
    """Work that waits for what is not there yet."""
    _thread.waits = True
    try:
        yield
    finally:
        _thread.waits = False


@contextmanager
def going_on() -> Iterator[None]:
    """What plays goes on without what is not there yet."""
    _thread.goes_on = True
    try:
        yield
    finally:
        _thread.goes_on = False


class Readying:
    """What is compiled, and what has yet to be."""

    def __init__(self) -> None:
        self._all = {late.name: late for late in in_order()}
        self._missing = {late.name for late in missing(self._all.values())}
        self._failed: set[str] = set()
        self._changed = threading.Condition()
        self._helper: subprocess.Popen[str] | None = None
        self._closed = False

    @property
    def progress(self) -> tuple[int, int]:
        """How many are there, of how many."""
        return len(self._all) - len(self._missing), len(self._all)

    @property
    def is_done(self) -> bool:
        """Whether all are there."""
        return not self._missing

    @property
    def problem(self) -> str:
        """What is wrong, or nothing."""
        if not self._failed:
            return ""
        names = ", ".join(sorted(name.rpartition(".")[2] for name in self._failed))
        return f"Parts of the sound could not be compiled ({names}); the server's output says why."

    def begin(self) -> None:
        """Provide kernels from now on, and have those compiled that are not there."""
        compiled.use(self.provide)
        threading.Thread(target=self._run, name="readying", daemon=True).start()

    def close(self) -> None:
        """Stop compiling; nothing half made is ever used."""
        with self._changed:
            self._closed = True
            if self._helper is not None:
                self._helper.kill()
            self._changed.notify_all()

    def provide(self, late: Late) -> None:
        """See dsp.compiled.provide."""
        name = late.name
        if name not in self._missing:
            return
        self._ask(name)
        if getattr(_thread, "waits", False):
            with self._changed:
                self._changed.wait_for(lambda: name not in self._missing or name in self._failed or self._closed)
        if name in self._missing:
            raise NotReadyError(self.sentence(), late.is_made, goes_on=getattr(_thread, "goes_on", False))

    def sentence(self) -> str:
        """Why something is not there yet."""
        done, total = self.progress
        return self.problem or (
            f"This is getting ready ({done} of {total} parts of the sound are compiled, once); it comes by itself."
        )

    def _ask(self, name: str) -> None:
        with self._changed:
            if self._helper is not None and self._helper.stdin is not None:
                try:
                    print(name, file=self._helper.stdin, flush=True)
                except OSError:  # it has just ended; another begins, and the name is among the missing
                    log.debug("the helper ended before it could be asked for %s", name)

    def _run(self) -> None:
        for name in list(self._all.keys() - self._missing):
            self._all[name].make()
        for _ in range(MOST_HELPERS):
            if not self._missing - self._failed or self._closed:
                return
            self._listen()
        with self._changed:
            if not self._closed:
                self._failed |= self._missing
            self._changed.notify_all()

    def _listen(self) -> None:
        """Begin a helper and take in what it has made, until it ends."""
        with self._changed:
            if self._closed:
                return
            self._helper = subprocess.Popen(COMMAND, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        with self._helper as helper:
            assert helper.stdout is not None
            for line in helper.stdout:
                name = line.strip()
                if name in self._missing:
                    self._all[name].make()  # taken from what the helper has kept
                with self._changed:
                    self._missing.discard(name)
                    if name.startswith(FAILED):
                        self._failed.add(name.removeprefix(FAILED))
                    self._changed.notify_all()
