"""Where compiled kernels are kept from run to run, and that each is compiled once, by one process.

Numba keeps what it compiled as it likes; beside it each kernel has a mark here that says what it was compiled of. The
mark is written last, and before a kernel is compiled anew what numba kept of it is taken away: so nothing that was
killed half way, and nothing of another version, is ever taken for whole. Numba itself looks at a kernel's own file
only, not at the helpers compiled into it.
"""

import atexit
import fcntl
import functools
import hashlib
import importlib.metadata
import os
import platform
import shutil
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

HERE = Path(__file__).parent
#: Files of helpers that are compiled into kernels of others.
SHARED = tuple(HERE / f"{name}.py" for name in ("compiled", "decibels", "dynamics", "lanes", "raising", "variable"))


def _writable(folder: Path) -> bool:
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder):
            return True
    except OSError:
        return False


IN_TREE = HERE / "__pycache__"
_OWN = hashlib.sha256(str(HERE).encode()).hexdigest()[:12]  # of this installation, where several share a folder


@functools.cache
def folder() -> Path:
    """Where marks are: beside the sources, as numba's files are, where that may be written to, else, with those, among
    the person's caches. Where nothing may be written at all, in a folder that ends with this process.
    """
    given = os.environ.get("NUMBA_CACHE_DIR")
    of_the_person = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "reins" / _OWN
    for place in (Path(given) / _OWN,) if given else (IN_TREE, of_the_person):
        if _writable(place):
            return place
    passing = Path(tempfile.mkdtemp(prefix="reins-kernels-"))  # a name nobody knows before: what is in it is run
    os.environ["NUMBA_CACHE_DIR"] = str(passing)  # for the processes it starts
    atexit.register(shutil.rmtree, passing, ignore_errors=True)
    return passing / _OWN


@functools.cache
def _machine() -> str:
    """What else the code hangs on: versions, the processor, and what numba was told."""
    versions = [importlib.metadata.version(name) for name in ("numba", "llvmlite", "numpy")]
    told = sorted(f"{k}={v}" for k, v in os.environ.items() if k.startswith("NUMBA_") and k != "NUMBA_CACHE_DIR")
    processor = platform.machine()
    if (listed := Path("/proc/cpuinfo")).exists():
        processor += "".join(row for row in listed.read_text().split("\n\n")[0].splitlines() if "flags" in row)
    return repr((sys.version, versions, told, processor))


@functools.cache
def digest(source: Path) -> str:
    """What changes whenever a kernel in this file has to be compiled anew; numba looks at the file's time and size."""
    own = source.stat()
    files = b"".join(file.read_bytes() for file in (source, *SHARED))
    return hashlib.sha256(f"{own.st_mtime_ns} {own.st_size} {_machine()}".encode() + files).hexdigest()


class Turn:
    """One's turn at a kernel: nobody else compiles it meanwhile."""

    def __init__(self, name: str, source: Path, mark: int) -> None:
        self._name, self._source, self._mark = name, source, mark

    def holds(self) -> bool:
        """Whether it is kept, compiled of what there is now."""
        return os.pread(self._mark, 100, 0) == digest(self._source).encode()

    def clear(self) -> None:
        """Take away what is kept of it."""
        os.ftruncate(self._mark, 0)
        module, _, function = self._name.rpartition(".")
        named = f"{module.rpartition('.')[2]}.{function}-*.nb[ic]"
        in_tree = folder() == IN_TREE
        for file in (self._source.parent / "__pycache__").glob(named) if in_tree else folder().glob(f"*/{named}"):
            file.unlink(missing_ok=True)

    def keep(self) -> None:
        """Say that it is whole now. What is torn in the writing is no digest, and is made anew."""
        os.pwrite(self._mark, digest(self._source).encode(), 0)


@contextmanager
def turn(name: str, source: Path, *, wait: bool = True) -> Iterator[Turn]:
    """Wait for one's turn at a kernel, or raise BlockingIOError. It ends with the process, however that ends."""
    marks = folder() / "marks"
    marks.mkdir(parents=True, exist_ok=True)
    mark = os.open(marks / name, os.O_RDWR | os.O_CREAT, 0o644)
    try:
        fcntl.flock(mark, fcntl.LOCK_EX | (0 if wait else fcntl.LOCK_NB))
        yield Turn(name, source, mark)
    finally:
        os.close(mark)


def is_kept(name: str, source: Path) -> bool:
    """Whether a kernel need not be compiled."""
    try:
        return (folder() / "marks" / name).read_bytes() == digest(source).encode()
    except OSError:
        return False
