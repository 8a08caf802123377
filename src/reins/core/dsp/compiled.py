"""How kernels are compiled: one place for the options every kernel shares.

A kernel carries its signatures and is made when it is first called, or by `load`: compiled, or taken from the cache on
disk. Numba is imported only then, because that takes most of a second which no page needs. No fastmath: without it
every pass gives the same bits whether a sample falls in a vector or in the remainder of a loop, so block size never
matters; but see `fused`.
"""

import contextlib
import functools
import hashlib
import importlib
import importlib.metadata
import os
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np

HERE = Path(__file__).parent
OURS = __name__.split(".")[0] + "."
SHARED = tuple(HERE / f"{name}.py" for name in ("compiled", "decibels", "dynamics", "lanes", "raising", "variable"))
MARKS = HERE / "__pycache__"
#: Held while numba is imported and while a kernel is made; whoever imports scipy takes it too (see _numba).
LOCK = threading.RLock()


class Late:
    """A function that numba makes at its first call."""

    all: list["Late"] = []

    def __init__(self, function: Callable[..., Any], signatures: tuple[str, ...], **options: Any) -> None:
        functools.update_wrapper(self, function)
        self._function, self._signatures, self._options = function, signatures, options
        self._made: Callable[..., Any] | None = None
        self.all.append(self)

    def __call__(self, *arguments: Any) -> Any:
        """Call it, and be called no more."""
        made = self.made()
        self._stand_aside(made)
        return made(*arguments)

    @property
    def file(self) -> Path:
        """Where its source is."""
        return Path(self._function.__code__.co_filename)

    def made(self) -> Callable[..., Any]:
        """The compiled function; those it calls are made first and take their names, so that numba sees them."""
        with LOCK:
            if self._made is None:
                names = self._function.__globals__
                for name in self._function.__code__.co_names:
                    if isinstance(names.get(name), Late):
                        names[name] = names[name].made()
                numba = _numba()
                self._made = numba.njit(*([list(self._signatures)] if self._signatures else []), **self._options)(
                    self._function
                )
            return self._made

    def _stand_aside(self, made: Callable[..., Any]) -> None:
        """Leave its name to what was made, wherever it was imported: a call through this object costs as much again."""
        for name, module in list(sys.modules.items()):
            if name.startswith(OURS):
                for alias, value in list(vars(module).items()):
                    if value is self:
                        setattr(module, alias, made)


@functools.cache
def _numba() -> Any:
    """Numba, which shall find no BLAS where it looks for it: no kernel here uses it, and loading scipy.linalg takes a
    quarter of a second.
    """
    _forget_when_shared_helpers_change()
    missing = "scipy.linalg" not in sys.modules
    if missing:
        sys.modules["scipy.linalg"] = None  # type: ignore[assignment]
    try:
        importlib.import_module("numba.np.arraymath")
    finally:
        if missing:
            del sys.modules["scipy.linalg"]
    return importlib.import_module("numba")


def _digest(files: Any) -> str:
    return hashlib.sha256(b"".join(file.read_bytes() for file in sorted(files))).hexdigest()


def _forget_when_shared_helpers_change() -> None:
    """Drop cached kernels once a file of shared helpers has changed: the cache itself looks only at a kernel's own."""
    now, mark = _digest(SHARED), MARKS / "shared.mark"
    with contextlib.suppress(OSError):  # a folder that cannot be written to holds no cache either
        if not mark.exists() or mark.read_text() != now:
            for index in MARKS.glob("*.nbi"):
                index.unlink(missing_ok=True)
            MARKS.mkdir(exist_ok=True)
            mark.write_text(now)


def _all_files() -> str:
    """What changes whenever any kernel has to be compiled anew."""
    return f"{importlib.metadata.version('numba')} {_digest({late.file for late in Late.all} | set(SHARED))}"


def are_cached() -> bool:
    """Whether all kernels of the modules imported so far were compiled before, as they are now."""
    mark = MARKS / "kernels.mark"
    return mark.exists() and mark.read_text() == _all_files()


def load(progress: Callable[[int, int], None] = lambda done, total: None) -> None:
    """Make all kernels of the modules imported so far. Where they have to be compiled, which takes minutes, and there
    is another core, a second process does so from the other end; what it has made is taken from the cache.
    """
    kernels = _kernels()
    with _helper() if not are_cached() and (os.cpu_count() or 1) > 1 else contextlib.nullcontext():
        for index, late in enumerate(kernels):
            progress(index, len(kernels))
            late.made()
    with contextlib.suppress(OSError):
        (MARKS / "kernels.mark").write_text(_all_files())


def _kernels() -> list[Late]:
    return [late for late in Late.all if late._signatures]


@contextlib.contextmanager
def _helper() -> Iterator[None]:
    _numba()  # first, since it may drop the cache
    modules = list(dict.fromkeys(late._function.__module__ for late in _kernels()))  # so that both count alike
    command = f"from reins.core.dsp.compiled import load_from_the_end; load_from_the_end({modules!r})"
    helper = subprocess.Popen([sys.executable, "-c", command], stdout=subprocess.DEVNULL)
    try:
        yield
    finally:
        helper.kill()  # it has no more to do, or shall do no more
        helper.wait()


def load_from_the_end(modules: list[str]) -> None:
    """Make all kernels of these modules, the last first."""
    for name in modules:
        importlib.import_module(name)
    for late in reversed(_kernels()):
        late.made()


def kernel(*signatures: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Compile a function over arrays for the given signatures; it releases the GIL and is cached on disk."""
    return lambda function: Late(function, signatures, cache=True, nogil=True, error_model="numpy")


def brief(*signatures: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """As kernel, for one that is done in a few microseconds: it holds the GIL, because with many desks playing, letting
    go of it and waiting for it again takes far longer.
    """
    return lambda function: Late(function, signatures, cache=True, error_model="numpy")


def plain(array: np.ndarray) -> np.ndarray:
    """An array as the kernels' signatures have it: in one piece, and none that only may be read."""
    array = np.ascontiguousarray(array)
    return array if array.flags.writeable else array.copy()


def inlined(function: Callable[..., Any]) -> Callable[..., Any]:
    """For helpers that live in the file of the kernels calling them, or in SHARED: compiled into their caller."""
    return Late(function, (), error_model="numpy")


def fused(function: Callable[..., Any]) -> Callable[..., Any]:
    """As inlined, where a product and a sum may be rounded once: a recursion that stands alone in its loop, or a pass
    whose vectors are tested to round as their remainders do.
    """
    return Late(function, (), error_model="numpy", fastmath={"contract"})


@inlined
def flush(value):
    """The value, or 0 when it is so small that it would soon be a denormal."""
    return value if abs(value) > 1e-30 else 0.0
