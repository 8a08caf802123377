"""From what is asked for to the tasks of a batch: which files, what their outputs are called, which key is whose.

All of it is checked before anything is done.
"""

import json
from collections.abc import Iterable, Mapping
from pathlib import Path

from reins.core.audio import check_output
from reins.core.chainfile import parse_chain
from reins.core.routing import is_hits, key_names, taken_from
from reins.core.trials.aims import aim_called
from reins.errors import SettingsError
from reins.services.batch.tasks import CHAIN_ENDING, Task, Wish, Written
from reins.services.outputs import check_outputs, recordings_of
from reins.services.processing import text_of

ENDINGS = (".wav", ".flac", ".aif", ".aiff", ".ogg", ".mp3")
OWN_KEY = "key"  # what the key of an aim is called
FIELDS = "{folder}, {stem} and {name}"


def files_in(given: Iterable[Path], out: Path) -> list[tuple[Path, Path]]:
    """Each file with its place below what was given: files by name, folders with all sound below them, in order; what
    lies in `out`, where that is below such a folder, was made by a batch and is none.
    """
    found: list[tuple[Path, Path]] = []
    for path in given:
        if path.is_dir():
            sound = (p for p in path.rglob("*") if p.suffix.lower() in ENDINGS and p.is_file() and not _hidden(p, path))
            below = out.resolve() != path.resolve() and out.resolve().is_relative_to(path.resolve())
            inside = sorted(p for p in sound if not (below and p.resolve().is_relative_to(out.resolve())))
            if not inside:
                raise SettingsError(f"{path}: there is no sound in this folder; allowed: {', '.join(ENDINGS)}.")
            found += [(p, p.relative_to(path)) for p in inside]
        elif path.exists():
            found.append((path, Path(path.name)))
        else:
            raise SettingsError(f"{path}: there is no such file or folder; give one that is there.")
    return found


def _hidden(path: Path, below: Path) -> bool:
    return any(part.startswith(".") for part in path.relative_to(below).parts)


def outputs_for(files: list[tuple[Path, Path]], folder: Path, file_format: str) -> list[Path]:
    """The output of each file; SettingsError where two would be the same."""
    made = [folder / place.with_suffix(f".{file_format}") for _, place in files]
    whose: dict[Path, Path] = {}
    for (source, _), output in zip(files, made, strict=True):
        if output in whose:
            raise SettingsError(f"{whose[output]} and {source} would both become {output}; give one another name.")
        whose[output] = source
    return made


def keys_for(patterns: Iterable[str], source: Path, names: list[str]) -> tuple[tuple[str, str], ...]:
    """The keys of a file by name, from patterns [NAME=]PATH, in which {folder}, {stem} and {name} are the file's."""
    keys = []
    for pattern in patterns:
        name, equals, place = pattern.partition("=")
        if not equals:
            name, place = "", pattern
        if not name:
            if len(names) != 1:
                allowed = f"NAME=PATTERN with {' or '.join(names)}" if names else "none, since nothing listens to a key"
                raise SettingsError(f"--key-from is “{pattern}”; allowed: {allowed}.")
            name = names[0]
        try:
            path = Path(place.format(folder=source.parent, stem=source.stem, name=source.name))
        except (KeyError, IndexError, ValueError) as error:
            raise SettingsError(f"--key-from is “{pattern}”; allowed in it: {FIELDS}.") from error
        keys.append((name, str(path if path.is_absolute() else source.parent / path)))
    return tuple(keys)


def wishes_of(aims: list[str], numbers: list[float]) -> tuple[Wish, ...]:
    """Aims with their numbers, in order: one for each that asks for one, or none at all."""
    asking = [name for name in aims if aim_called(name).asks is not None]
    if numbers and len(numbers) != len(asking):
        raise SettingsError(
            f"--by is given {len(numbers)} times; allowed: {len(asking)} times, in order, or not at all."
        )
    given = iter(numbers)
    wishes = []
    for name in aims:
        asks = aim_called(name).asks
        number = next(given, None) if asks is not None else None
        if asks is not None and number is not None and not asks.low <= number <= asks.high:
            raise SettingsError(
                f"“{name}” is asked for by {number:g} {asks.unit}; allowed: {asks.low:g} to {asks.high:g} {asks.unit}."
            )
        wishes.append(Wish(name, number))
    return tuple(wishes)


def plan(
    given: Iterable[Path], folder: Path, *, chain: Path | None, wishes: tuple[Wish, ...], key_from: list[str],
    written: Written, known: Mapping[str, tuple[str, int, str]], beside: Iterable[Path] = (), of_desk: bool = False,
) -> list[Task]:  # fmt: skip
    """The tasks of a batch. Its folders are made; known: of each output that is there what it was made of, its size and
    digest; beside: what else it writes; of_desk: whether it is the desk that writes, into its own folder.
    """
    if (chain is None) == (not wishes):
        raise SettingsError("Give either --chain or --aim: how the files are to be held.")
    text, names, read = (None, [OWN_KEY], []) if chain is None else _chain(chain)
    files = files_in(given, folder)
    if not files:
        raise SettingsError("No file is given; allowed: files, and folders with sound in them.")
    outputs = outputs_for(files, folder, written.file_format)
    keys = [keys_for(key_from, source, names) for source, _ in files]
    read += [*(source for source, _ in files), *(Path(path) for each in keys for _, path in each)]
    found = [output.with_suffix(CHAIN_ENDING) for output in outputs] if wishes else []
    check_outputs([*outputs, *found, *beside], read, of_desk=of_desk)
    for place in {output.parent for output in outputs}:
        try:
            place.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise SettingsError(
                f"{place}: the folder cannot be made there ({error.strerror}); choose another with -o."
            ) from error
    check_output(outputs[0], written.file_format, written.bits, written.dither)
    return [
        Task(
            str(source), str(output), text, str(chain.parent if chain else folder), wishes,
            own, written, known.get(str(output.relative_to(folder))),
        )
        for (source, _), output, own in zip(files, outputs, keys, strict=True)
    ]  # fmt: skip


def _chain(path: Path) -> tuple[str, list[str], list[Path]]:
    """A chain file's text, the outside keys it listens to, and what is read of it: itself, and recordings it names."""
    text = text_of(path)
    parsed = parse_chain(text, path.name)
    heard = {name for entry in parsed.entries for name in key_names(entry)}
    names = {taken_from(name) if is_hits(name) else name for name in heard} - {""}  # one's own hits need no file
    read = [path, *recordings_of(parsed.entries, path.parent)]
    return json.dumps(json.loads(text), sort_keys=True), sorted(names), read
