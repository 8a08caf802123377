"""How kernels are compiled: one place for the options every kernel shares.

A kernel carries its signatures and is made when it is first called: taken from what was compiled before (`dsp.kept`)
or compiled, by whom `provide` says. Numba is imported only then, because that takes most of a second which no page
needs. No fastmath: without it every pass gives the same bits whether a sample falls in a vector or in the remainder of
a loop, so block size never matters; but see `fused`.

Two thirds of what compiling costs is not the code of kernels: so nothing is compiled that only C would call, nor what
only Python would call of helpers; and kernels count no references, since what they are given outlives them. Those
that make room of their own, or are handed an array back, have to say so (`makes_room`, `roomy`): numba refuses the
former otherwise, `_refuse_handing_back` the latter.
"""

import functools
import gc
import importlib
import logging
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from reins.core.dsp import kept

log = logging.getLogger(__name__)
OURS = __name__.split(".")[0] + "."
#: Held while numba is imported and while a kernel is made; whoever imports scipy takes it too (see _numba).
LOCK = threading.RLock()


class Late:
    """A function that numba makes at its first call."""

    all: list["Late"] = []

    def __init__(self, function: Callable[..., Any], signatures: tuple[str, ...], **options: Any) -> None:
        functools.update_wrapper(self, function)
        self._function, self.signatures, self.options = function, signatures, options
        self._made: Callable[..., Any] | None = None
        self.all.append(self)

    def __call__(self, *arguments: Any) -> Any:
        """Call it, and be called no more."""
        if not self.signatures:
            raise TypeError(f"{self.name} is called by kernels alone; it is compiled without what Python calls by.")
        made = self.made()
        self._stand_aside(made)
        return made(*arguments)

    @property
    def file(self) -> Path:
        """Where its source is."""
        return Path(self._function.__code__.co_filename)

    @property
    def name(self) -> str:
        """Its module and name: by that it is asked for and kept."""
        return f"{self._function.__module__}.{self._function.__qualname__}"

    def made(self) -> Callable[..., Any]:
        """The compiled function."""
        if self._made is None and self.signatures:
            provide(self)
        return self.make()

    def make(self) -> Callable[..., Any]:
        """Make it here and now, whatever that takes; those it calls are made first and take their names, so that numba
        sees them.
        """
        with LOCK:
            if self._made is None:
                names = self._function.__globals__
                for name in self._function.__code__.co_names:
                    if isinstance(names.get(name), Late):
                        names[name] = names[name].make()
                made = _numba().njit(**self.options)(self._function)
                with _no_collecting():
                    for signature in self.signatures:
                        made.compile(signature)
                if self.signatures:
                    made.disable_compile()
                self._made = made
                _refuse_handing_back()
            return self._made

    def is_made(self) -> bool:
        """Whether it can be called at once."""
        return self._made is not None

    def _stand_aside(self, made: Callable[..., Any]) -> None:
        """Leave its name to what was made, wherever it was imported: a call through this object costs as much again."""
        # Copies, which are made in one go: another thread may be importing.
        for name, module in sys.modules.copy().items():
            if name.startswith(OURS):
                for alias, value in vars(module).copy().items():
                    if value is self:
                        setattr(module, alias, made)


@contextmanager
def _no_collecting() -> Iterator[None]:
    """Numba makes millions of small objects that stay; to look through them for garbage is a tenth of compiling."""
    collected = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if collected:
            gc.enable()


def _tell(said: str) -> None:
    log.warning("%s", said)  # without further ado a line on standard error, in workers too


def compile_here(late: Late, *, told: Callable[[str], None] = _tell, wait: bool = True) -> bool:
    """Have a kernel compiled and kept, by this process unless another one has done so, or does so now; returns whether
    it was this one. told: hears what is waited for. Raises BlockingIOError where another one does so now and this one
    is not to wait.
    """
    with LOCK:  # before the turn, in every thread
        try:
            return _compiled(late, told, wait=False)
        except BlockingIOError:
            if not wait:
                raise
            told(f"Waiting for another process, which compiles {late.name} for this machine, once.")
            return _compiled(late, told, wait=True)


def _compiled(late: Late, told: Callable[[str], None], *, wait: bool) -> bool:
    with kept.turn(late.name, late.file, wait=wait) as turn:
        if turn.holds():
            return False
        told(f"Compiling {late.name} for this machine, once.")
        turn.clear()
        late.make()
        turn.keep()
        return True


def _refuse_handing_back() -> None:
    """An array handed back by a function that counts no references, to one that does, would be freed while it is used;
    what was taken from the cache has been looked at when it was compiled.
    """
    for late in Late.all:
        if late.is_made() and not late.options["_nrt"]:
            for overload in getattr(late.make(), "overloads", {}).values():
                if "array(" in str(overload.signature.return_type):
                    raise TypeError(f"{late.name} hands back an array: it and what calls it are to be @roomy.")


_provider: list[Callable[[Late], Any]] = [compile_here]


def provide(late: Late) -> None:
    """See to it that a kernel can be made without compiling, or raise NotReadyError."""
    _provider[0](late)


def use(provider: Callable[[Late], Any]) -> None:
    """Have kernels provided otherwise from now on."""
    _provider[:] = [provider]


@functools.cache
def _numba() -> Any:
    """Numba, which shall find no BLAS where it looks for it: no kernel here uses it, and loading scipy.linalg takes a
    quarter of a second.
    """
    missing = "scipy.linalg" not in sys.modules
    if missing:
        sys.modules["scipy.linalg"] = None  # type: ignore[assignment]
    try:
        importlib.import_module("numba.np.arraymath")
    finally:
        if missing:
            del sys.modules["scipy.linalg"]
    numba = importlib.import_module("numba")
    if kept.folder() != kept.IN_TREE:
        numba.config.CACHE_DIR = str(kept.folder())
    return numba


#: What all have in common; `_nrt` is whether references are counted.
SHARED: dict[str, Any] = {"error_model": "numpy", "no_cfunc_wrapper": True}


def _options(makes_room: bool, **more: Any) -> dict[str, Any]:
    return SHARED | {"_nrt": makes_room} | more


def kernel(*signatures: str, makes_room: bool = False) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Compile a function over arrays for the given signatures; it releases the GIL and is cached on disk."""
    return lambda function: Late(function, signatures, **_options(makes_room, cache=True, nogil=True))


def brief(*signatures: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """As kernel, for one that is done in a few microseconds: it holds the GIL, because with many desks playing, letting
    go of it and waiting for it again takes far longer.
    """
    return lambda function: Late(function, signatures, **_options(False, cache=True))


def plain(array: np.ndarray) -> np.ndarray:
    """An array as the kernels' signatures have it: in one piece, and none that only may be read."""
    array = np.ascontiguousarray(array)
    return array if array.flags.writeable else array.copy()


def inlined(function: Callable[..., Any]) -> Callable[..., Any]:
    """For helpers that live in the file of the kernels calling them, or in kept.SHARED: compiled into their caller."""
    return Late(function, (), **_options(False, no_cpython_wrapper=True))


def roomy(function: Callable[..., Any]) -> Callable[..., Any]:
    """As inlined, for one that makes room of its own, or hands back an array, or calls one that does."""
    return Late(function, (), **_options(True, no_cpython_wrapper=True))


def fused(function: Callable[..., Any]) -> Callable[..., Any]:
    """As inlined, where a product and a sum may be rounded once: a recursion that stands alone in its loop, or a pass
    whose vectors are tested to round as their remainders do.
    """
    return Late(function, (), **_options(False, no_cpython_wrapper=True, fastmath={"contract"}))


@inlined
def flush(value):
    """The value, or 0 when it is so small that it would soon be a denormal."""
    return value if abs(value) > 1e-30 else 0.0
