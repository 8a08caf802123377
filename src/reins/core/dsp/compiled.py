"""How kernels are compiled: one place for the options every kernel shares.

Kernels carry explicit signatures, so importing a kernel module compiles it or loads it from the
cache on disk; nothing compiles later. No fastmath: without it every pass gives the same bits whether
a sample falls in a vector or in the remainder of a loop, so block size never matters.
"""

from collections.abc import Callable
from typing import Any

import numba


def kernel(*signatures: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Compile a function over arrays for the given signatures; it releases the GIL and is cached on disk."""
    return numba.njit(list(signatures), cache=True, nogil=True, error_model="numpy")


# For helpers that live in the file of the kernels calling them: compiled into their caller.
inlined = numba.njit(error_model="numpy")
