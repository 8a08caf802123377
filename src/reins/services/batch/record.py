"""What a batch remembers in its folder, and what it reports.

The record is one line of JSON for each output, written when it is there: a batch that was killed goes on after the last
line that is whole.
"""

import csv
import io
import json
from collections.abc import Iterable
from dataclasses import asdict, fields
from pathlib import Path
from typing import Any

from reins.errors import SettingsError, StorageError
from reins.services.batch.tasks import HELD, Row
from reins.services.writing import cell, write_whole

NAME = ".reins-batch.jsonl"


class Record:
    """The rows of a folder's outputs, by their places in it."""

    def __init__(self, folder: Path) -> None:
        self._folder, self._path = folder, folder / NAME
        self.rows: dict[str, Row] = {}
        self._torn = False  # whether the last line was cut off
        known = {field.name for field in fields(Row)}
        for line in self._lines():
            kept = {name: value for name, value in line.items() if name in known}
            if all(isinstance(kept.get(name), str) for name in ("output", "file", "done")):
                self.rows[kept["output"]] = Row(**kept)

    def _lines(self) -> Iterable[dict[str, Any]]:
        try:
            text = self._path.read_text(encoding="utf-8", errors="surrogateescape") if self._path.exists() else ""
        except OSError as error:
            raise SettingsError(f"{self._path}: cannot be read; remove it and all files are done again.") from error
        self._torn = bool(text) and not text.endswith("\n")
        for line in text.splitlines():
            try:
                found = json.loads(line)
            except ValueError:
                continue  # cut off when the batch was killed
            if isinstance(found, dict):
                yield found

    def known(self) -> dict[str, tuple[str, int, str]]:
        """By output what it was made of, its size and its digest, where all are told."""
        return {
            place: (row.made_of, row.output_bytes, row.output_digest)
            for place, row in self.rows.items()
            if isinstance(row.made_of, str) and isinstance(row.output_bytes, int) and isinstance(row.output_digest, str)
        }

    def keep(self, row: Row) -> None:
        """Note what was made; StorageError where the disk refuses."""
        if row.done != HELD:
            return
        place = str(Path(row.output).relative_to(self._folder))
        self.rows[place] = row
        try:
            with self._path.open("a", encoding="utf-8", errors="surrogateescape") as file:
                line = json.dumps(asdict(row) | {"output": place}, ensure_ascii=False)
                file.write(("\n" if self._torn else "") + line + "\n")
                self._torn = False
        except OSError as error:
            raise StorageError(
                f"{self._path}: cannot be written there ({error.strerror}); what was made before stays."
            ) from error

    def as_before(self, row: Row) -> Row:
        """A row of what was there already, with all that was told of it then."""
        known = self.rows.get(str(Path(row.output).relative_to(self._folder)))
        if known is None:
            return row
        return Row(**asdict(known) | {"output": row.output, "file": row.file, "done": row.done, "took_s": row.took_s})


def report(path: Path, rows: Iterable[Row]) -> None:
    """Write the rows as CSV or JSON, by the file's ending, whole or not at all. What a file is called that is not UTF-8
    is told as far as it is.
    """
    if path.suffix.lower() == ".json":
        write_whole(path, json.dumps({"files": [asdict(row) for row in rows]}, indent=2, ensure_ascii=False) + "\n")
        return
    out = io.StringIO()
    names = [field.name for field in fields(Row)]
    writer = csv.DictWriter(out, names)
    writer.writeheader()
    for row in rows:
        writer.writerow({name: _plain(value) for name, value in asdict(row).items()})
    write_whole(path, out.getvalue())


def check_report(path: Path) -> None:
    """SettingsError unless a report can be written there."""
    if path.suffix.lower() not in (".csv", ".json"):
        raise SettingsError(f"{path}: this is no name for a report; allowed: one that ends in .csv or .json.")
    if not path.parent.is_dir():
        raise SettingsError(f"{path}: the folder {path.parent} does not exist; make it first.")


def _plain(value: Any) -> Any:
    if isinstance(value, str):
        return cell(value)
    return "" if value is None else round(value, 3) if isinstance(value, float) else value
