"""Aims: from a take and a wish to a proposal; for a file, and for a processor of a session."""

import json
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from reins.core.audio import AudioReader
from reins.core.chainfile import ProcessorEntry, parse_entry
from reins.core.finding.marks import Marks
from reins.core.laid import LaidTake
from reins.core.processors import PROCESSORS
from reins.core.sessions import Track
from reins.core.settings.paths import laid_over
from reins.core.takes import Take, write_take
from reins.core.time import Beat
from reins.core.trials.aims import Aim, Proposal, Work, aim_called
from reins.core.trials.running import Trial
from reins.errors import ConflictError, SettingsError
from reins.services.writing import write_whole

Progress = Callable[[str, int, int], None]
KEY = "key"  # how a key's file is called in the chain that is written


def entry_for(aim: Aim, kind: str | None, *, keyed: bool) -> ProcessorEntry:
    """A new processor for an aim, with what the aim begins from."""
    chosen = kind or aim.types[0]
    if chosen not in PROCESSORS or chosen not in aim.types:
        raise SettingsError(f"--type is “{chosen}”; “{aim.name}” allows: {', '.join(aim.types)}.")
    fields = PROCESSORS[chosen].Settings.model_fields
    settings = {name: value for name, value in aim.base.items() if name in fields}
    if keyed and "key" in fields:
        settings["key"] = {"source": KEY}
    return parse_entry({"id": "aimed", "type": chosen, "settings": settings}, aim.label)


def aim_file(
    name: str, source: Path, *, asked: dict[str, float | None], key: Path | None, tempo_bpm: float | None,
    kind: str | None, progress: Progress,
) -> dict[str, Any]:  # fmt: skip
    """What an aim proposes for a file: aim, reason, figures, marks, tempo_bpm and chain.

    asked: the number it asks for by its name, by_db, within_db or beats. Raises InputError for what cannot be wanted.
    """
    aim = aim_called(name)
    wrong = [k for k, value in asked.items() if value is not None and (aim.asks is None or aim.asks.name != k)]
    if wrong:
        allowed = "no number" if aim.asks is None else f"--{aim.asks.name.removesuffix('_db')}"
        raise SettingsError(f"--{wrong[0].removesuffix('_db')} is not asked for by “{name}”; allowed: {allowed}.")
    number = 0.0 if aim.asks is None else asked.get(aim.asks.name)
    number = aim.asks.default if number is None and aim.asks is not None else number
    if tempo_bpm is not None and not 20.0 <= tempo_bpm <= 400.0:
        raise SettingsError(f"--tempo is {tempo_bpm:g}; allowed: 20 to 400 bpm.")
    entry = entry_for(aim, kind, keyed=key is not None)
    with tempfile.TemporaryDirectory() as folder:
        take = _take(source, Path(folder) / "source", None, lambda done, total: progress("reading", done, total))
        keys = {}
        if key is not None:
            keys[KEY] = _take(key, Path(folder) / "key", take.facts.sample_rate, lambda done, total: None)
        progress("finding", 0, 2)
        marks = Marks.of(take)
        tempo = tempo_bpm or (marks.tempo.bpm if marks.tempo else None)
        work = Work(
            Trial(take, [entry], keys, Beat(tempo or 120.0)), marks, float(number or 0.0),
            Marks.of(keys[KEY]) if keys else None,
        )  # fmt: skip
        progress("trying", 1, 2)
        proposal = proposed(aim, work)
        return {
            "aim": name, "reason": proposal.reason, "figures": proposal.figures | {"reached": proposal.reached},
            "marks": told(marks), "tempo_bpm": tempo, "chain": chain_of(entry, proposal),
        }  # fmt: skip


def take_of(path: Path, place: Path, rate: int | None, progress: Callable[[int, int], None]) -> Take:
    """A file as a take in a folder of its own, at a rate where one is given."""
    with AudioReader(path, sample_rate=rate) as reader:
        write_take(
            place, reader.blocks(), channels=reader.channels, sample_rate=reader.sample_rate,
            progress=lambda frames: progress(frames, reader.frames),
        )  # fmt: skip
    return Take(place)


def _take(path: Path, place: Path, rate: int | None, progress: Callable[[int, int], None]) -> LaidTake:
    return LaidTake(take_of(path, place, rate, progress), Track(name=path.stem[:80] or "x"))


def proposed(aim: Aim, work: Work, *, first: bool = False) -> Proposal:
    """What an aim proposes, once it is clear that it can be wanted; how often the processor ran is told with it. Of a
    long take it is searched in excerpts and settled on the whole; `first`: what the excerpts say.
    """
    if work.trial.sound.facts.frames < work.marks.frames.hop * 20:
        raise ConflictError("The take is shorter than 0.2 s: too short to find anything in. Choose a longer one.")
    aim.check(work)
    part = work.excerpt(aim.shows, aim.window_s)
    proposal = aim.propose(part)
    if part is not work and not first:
        work.near = proposal.settings
        proposal = aim.propose(work)
    proposal.figures["runs"] = work.runs
    return proposal


def told(marks: Marks) -> dict[str, Any]:
    """What was found, in seconds."""
    return {
        "hits_s": [round(hit.at_s, 4) for hit in marks.hits],
        "phrases_s": [[round(a, 3), round(b, 3)] for a, b in marks.phrases],
        "sibilants_s": [[round(a, 3), round(b, 3)] for a, b in marks.sibilants],
    }


def chain_of(entry: ProcessorEntry, proposal: Proposal) -> dict[str, Any]:
    """The chain document of a proposal."""
    settings = type(entry.settings).model_validate(laid_over(entry.settings, proposal.settings).model_dump())
    processors = [{"type": entry.type, "on": True, "settings": settings.model_dump(exclude_defaults=True)}]
    chain: dict[str, Any] = {"format": "reins-chain", "version": 1, "processors": processors}
    if proposal.line is not None:
        points = [list(point) for point in proposal.line]
        chain["reins"] = [{"moves": [{"what": "0.gain_db"}], "by": {"kind": "line", "points": points}}]
    return chain


def keep_chain(path: Path, chain: dict[str, Any]) -> None:
    """Write a chain file, whole or not at all."""
    write_whole(path, json.dumps(chain, indent=2, ensure_ascii=False) + "\n")
