"""How kernels are compiled: one place for the options every kernel shares.

Kernels carry explicit signatures, so importing a kernel module compiles it or loads it from the
cache on disk; nothing compiles later. No fastmath: without it every pass gives the same bits whether
a sample falls in a vector or in the remainder of a loop, so block size never matters.
"""

import contextlib
import hashlib
import importlib
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numba

HERE = Path(__file__).parent
SHARED = tuple(HERE / name for name in ("compiled.py", "decibels.py", "dynamics.py"))


def _forget_when_shared_helpers_change() -> None:
    """Drop cached kernels once a file of shared helpers has changed: the cache itself looks only at a kernel's own."""
    now = hashlib.sha256(b"".join(file.read_bytes() for file in SHARED)).hexdigest()
    mark = HERE / "__pycache__" / "shared.mark"
    with contextlib.suppress(OSError):  # a folder that cannot be written to holds no cache either
        if not mark.exists() or mark.read_text() != now:
            for index in mark.parent.glob("*.nbi"):
                index.unlink(missing_ok=True)
            mark.parent.mkdir(exist_ok=True)
            mark.write_text(now)


_forget_when_shared_helpers_change()


def _load_without_blas() -> None:
    """Have numba find no BLAS where it looks for it: no kernel here uses it, and loading scipy.linalg takes a quarter
    of a second.
    """
    missing = "scipy.linalg" not in sys.modules
    if missing:
        sys.modules["scipy.linalg"] = None  # type: ignore[assignment]
    try:
        importlib.import_module("numba.np.arraymath")
    finally:
        if missing:
            del sys.modules["scipy.linalg"]


_load_without_blas()


def kernel(*signatures: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Compile a function over arrays for the given signatures; it releases the GIL and is cached on disk."""
    return numba.njit(list(signatures), cache=True, nogil=True, error_model="numpy")


# For helpers that live in the file of the kernels calling them, or in SHARED: compiled into their caller.
inlined = numba.njit(error_model="numpy")
# For a recursion that stands alone in its loop and so is never cut into vectors: a product and a sum may be rounded
# once.
fused = numba.njit(error_model="numpy", fastmath={"contract"})


@inlined
def flush(value):
    """The value, or 0 when it is so small that it would soon be a denormal."""
    return value if abs(value) > 1e-30 else 0.0
