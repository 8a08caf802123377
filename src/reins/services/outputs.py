"""The one door for all that a command writes: an output is never one of its inputs, another of its outputs, or within a
data folder. Asked before anything is begun.
"""

from collections.abc import Iterable
from pathlib import Path

from reins.core.audio import must_be_file
from reins.core.chainfile import ProcessorEntry
from reins.core.settings.fields import recordings
from reins.errors import SettingsError
from reins.store.folder import DATABASE


def check_outputs(outputs: Iterable[Path], inputs: Iterable[Path] = (), *, of_desk: bool = False) -> None:
    """InputError, which names both, for an output that is the same file as an input, by whatever name or link, or as
    another output; that lies in a data folder, unless the desk itself writes; or that is there and no file. So is an
    input that is no file.
    """
    sources = {}
    for path in inputs:
        must_be_file(path, str(path))
        sources[_place(path)] = path
    taken: dict[object, Path] = {}
    for output in outputs:
        place = _place(output)
        if place in sources:
            raise SettingsError(
                f"{output}: that is what is read ({sources[place]}), and would be lost; choose another name."
            )
        if place in taken:
            raise SettingsError(f"{output}: that is where {taken[place]} is written, too; give each a name of its own.")
        must_be_file(output, str(output))
        if not of_desk:
            check_outside(output)
        taken[place] = output


def check_outside(output: Path) -> None:
    """SettingsError for a place within a data folder, which only the desk writes to."""
    place = output.resolve()
    for folder in (place, *place.parents):
        if (folder / DATABASE).is_file():
            raise SettingsError(
                f"{output}: that lies within the data folder {folder}, which only the desk writes to; choose a place "
                "outside of it."
            )


def recordings_of(entries: Iterable[ProcessorEntry], folder: Path) -> list[Path]:
    """The audio files that processors name, in the folder their names are of."""
    return [folder / name for entry in entries for name in recordings(entry.settings).values()]


def _place(path: Path) -> object:
    """What two names of one file share: device and number where it is there, else its name with all links followed."""
    try:
        found = path.stat()
    except OSError:
        return path.resolve()
    return found.st_dev, found.st_ino
