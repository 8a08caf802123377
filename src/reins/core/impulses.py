"""Impulse responses of a person's own, by name: the id of a recording that a session keeps, or the fingerprint of a
file that a chain file names. What lies under a name never changes, so it may be kept worked out.
"""

import hashlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.audio import AudioReader
from reins.core.limits import MAX_IMPULSE_S
from reins.core.takes import Take
from reins.errors import AudioError, SettingsError

Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Impulse:
    """A response (channels, frames) at its rate, and what was worked out of it."""

    samples: Array
    sample_rate: int
    known: dict[Any, Any] = field(default_factory=dict, compare=False)

    @property
    def seconds(self) -> float:
        """How long it is."""
        return self.samples.shape[1] / self.sample_rate


Find = Callable[[str], Impulse | None]
_given: dict[str, Impulse] = {}
_places: list[Find] = [_given.get]


def impulse(name: str) -> Impulse | None:
    """The response of a name; None where nobody has it any more."""
    return next((found for find in reversed(_places) if (found := find(name)) is not None), None)


def look_in(find: Find) -> Callable[[], None]:
    """Have `find` asked for names from now on; returns what stops it."""
    _places.append(find)
    return lambda: _places.remove(find) if find in _places else None


@contextmanager
def looked_for_in(find: Find) -> Iterator[None]:
    """Have `find` asked for names within."""
    stop = look_in(find)
    try:
        yield
    finally:
        stop()


def impulse_of(take: Take) -> Impulse:
    """A take as a response."""
    return Impulse(take.read(0, take.facts.frames), take.facts.sample_rate)


def check_length(seconds: float, name: str) -> None:
    """Raise AudioError for a response that is too long."""
    if seconds > MAX_IMPULSE_S:
        raise AudioError(f"{name}: it lasts {seconds:.1f} s; a room's response may have up to {MAX_IMPULSE_S} s.")


def read(path: Path, name: str, sample_rate: int | None = None) -> Impulse:
    """The response in an audio file, at a rate of choice; AudioError for one that is not allowed."""
    with AudioReader(path, sample_rate=sample_rate, name=name) as reader:
        check_length(reader.frames / reader.sample_rate, name)
        return Impulse(np.concatenate(list(reader.blocks()), axis=1), reader.sample_rate)


def path_inside(value: str) -> str:
    """A path that stays inside its folder, or ValueError."""
    path = PurePosixPath(value)
    if not value or path.is_absolute() or ".." in path.parts or "\\" in value or ":" in value:
        raise ValueError("a path inside the folder, with / between its parts and no ..")
    return value


def given_beside(names: Mapping[str, str], folder: Path, where: str, sample_rate: int) -> dict[str, str]:
    """Settings that name files in a folder, by path, with the names their responses are known by from now on."""
    known = {}
    for setting, file in names.items():
        try:
            path_inside(file)
        except ValueError as error:
            raise SettingsError(f"{where}: {setting} is “{file[:80]}”; allowed: {error}.") from error
        found = read(folder / file, file, sample_rate)
        print_of = hashlib.sha256(found.samples.tobytes() + str((found.samples.shape, sample_rate)).encode())
        known[setting] = print_of.hexdigest()
        _given.setdefault(known[setting], found)
    return known
