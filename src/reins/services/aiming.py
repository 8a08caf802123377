"""Aims: from a take and a wish to a proposal; for a file, and for a processor of a session."""

import json
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from reins.core.chainfile import ProcessorEntry, parse_entry
from reins.core.finding.marks import Marks
from reins.core.laid import LaidTake
from reins.core.processors import PROCESSORS
from reins.core.sessions import Track
from reins.core.settings.paths import laid_over
from reins.core.time import Beat
from reins.core.trials.aims import Aim, Proposal, Work, aim_called
from reins.core.trials.aims.ceiling import below_full_scale
from reins.core.trials.running import Trial
from reins.errors import ConflictError, SettingsError
from reins.services.outputs import check_outputs
from reins.services.processing import take_of
from reins.services.writing import write_whole

Progress = Callable[[str, int, int], None]
KEY = "key"  # how a key's file is called in the chain that is written


def entry_for(aim: Aim, kind: str | None, *, keyed: bool, number: int = 0) -> ProcessorEntry:
    """A new processor for an aim, with what the aim begins from; number: its place among those that are aimed."""
    chosen = kind or aim.types[0]
    if chosen not in PROCESSORS or chosen not in aim.types:
        raise SettingsError(f"--type is “{chosen}”; “{aim.name}” allows: {', '.join(aim.types)}.")
    fields = PROCESSORS[chosen].Settings.model_fields
    settings = {name: value for name, value in aim.base.items() if name in fields}
    if keyed and "key" in fields:
        settings["key"] = {"source": KEY}
    return parse_entry({"id": f"aimed{number}", "type": chosen, "settings": settings}, aim.label)


def aim_file(
    name: str, source: Path, *, asked: dict[str, float | None], key: Path | None, tempo_bpm: float | None,
    kind: str | None, progress: Progress, output: Path | None = None,
) -> dict[str, Any]:  # fmt: skip
    """What an aim proposes for a file: aim, reason, figures, marks, tempo_bpm and chain, which is written to `output`.

    asked: the number it asks for by its name, by_db, within_db or beats. Raises InputError for what cannot be wanted.
    """
    aim = aim_called(name)
    wrong = [k for k, value in asked.items() if value is not None and (aim.asks is None or aim.asks.name != k)]
    if wrong:
        allowed = "no number" if aim.asks is None else f"--{aim.asks.name.removesuffix('_db')}"
        raise SettingsError(f"--{wrong[0].removesuffix('_db')} is not asked for by “{name}”; allowed: {allowed}.")
    number = None if aim.asks is None else asked.get(aim.asks.name)
    if tempo_bpm is not None and not 20.0 <= tempo_bpm <= 400.0:
        raise SettingsError(f"--tempo is {tempo_bpm:g}; allowed: 20 to 400 bpm.")
    if output is not None:
        check_outputs([output], [source, *([] if key is None else [key])])
    found = _found([(aim, number, kind)], source, key, tempo_bpm, progress, tells=told)
    (proposal,) = found.proposals
    chain = chain_of(found.entries, proposal.line)
    if output is not None:
        keep_chain(output, chain)
    return {
        "aim": name, "reason": proposal.reason, "figures": proposal.figures | {"reached": proposal.reached},
        "marks": found.marks, "tempo_bpm": found.tempo_bpm, "chain": chain,
        "ways": [vars(way) for way in proposal.ways],
    }  # fmt: skip


def aim_chain(wishes: list[tuple[str, float | None]], source: Path, *, key: Path | None) -> dict[str, Any]:
    """What several aims, one after another, each with its number or its own default, come to for a file: the chain, all
    reasons, tempo_bpm. Each is tried on what those before it make. Raises InputError for what cannot be wanted.
    """
    asked = [(aim_called(name), number, None) for name, number in wishes]
    found = _found(asked, source, key, None, lambda what, done, total: None)
    reason = " ".join(f"{one.reason.rstrip('.')}." for one in found.proposals)
    return {"reason": reason, "tempo_bpm": found.tempo_bpm, "chain": chain_of(found.entries, found.proposals[-1].line)}


@dataclass(frozen=True)
class _Found:
    """What aims came to, one after another, and what was to be told of what was found in the take."""

    entries: list[ProcessorEntry]
    proposals: list[Proposal]
    marks: dict[str, Any]
    tempo_bpm: float | None


def _found(
    asked: Sequence[tuple[Aim, float | None, str | None]], source: Path, key: Path | None, tempo_bpm: float | None,
    progress: Progress, tells: Callable[[Marks], dict[str, Any]] = lambda marks: {},
) -> _Found:  # fmt: skip
    if any(aim.types == ("level",) for aim, _, _ in asked[:-1]):
        raise SettingsError("A drawn line rides all that comes before it: that aim must be the last.")
    entries = [
        entry_for(aim, kind, keyed=key is not None and (aim.wants_key or len(asked) == 1), number=place)
        for place, (aim, _, kind) in enumerate(asked)
    ]
    with tempfile.TemporaryDirectory() as folder:
        take = _take(source, Path(folder) / "source", None, lambda done, total: progress("reading", done, total))
        keys = {}
        if key is not None:
            keys[KEY] = _take(key, Path(folder) / "key", take.facts.sample_rate, lambda done, total: None)
        progress("finding", 0, 1 + len(asked))
        marks = Marks.of(take)
        tempo = tempo_bpm or (marks.tempo.bpm if marks.tempo else None)
        heard = Marks.of(keys[KEY]) if keys else None
        proposals = []
        for place, (aim, number, _) in enumerate(asked):
            progress("trying", 1 + place, 1 + len(asked))
            default = 0.0 if aim.asks is None else aim.asks.default
            trial = Trial(take, entries[: place + 1], keys, Beat(tempo or 120.0))
            proposals.append(proposed(aim, Work(trial, marks, default if number is None else number, heard)))
            entries[place] = with_proposal(entries[place], proposals[-1])
        # Marks are found when they are asked for, from a recording that is gone with this folder.
        return _Found(entries, proposals, tells(marks), tempo)


def with_proposal(entry: ProcessorEntry, proposal: Proposal) -> ProcessorEntry:
    """A processor with what is proposed for it."""
    settings = type(entry.settings).model_validate(laid_over(entry.settings, proposal.settings).model_dump())
    return entry.model_copy(update={"settings": settings})


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
    if not first:
        proposal = below_full_scale(proposal, work)
    proposal.figures["runs"] = work.runs
    return proposal


def told(marks: Marks) -> dict[str, Any]:
    """What was found, in seconds."""
    return {
        "hits_s": [round(hit.at_s, 4) for hit in marks.hits],
        "phrases_s": [[round(a, 3), round(b, 3)] for a, b in marks.phrases],
        "sibilants_s": [[round(a, 3), round(b, 3)] for a, b in marks.sibilants],
    }


def chain_of(entries: list[ProcessorEntry], line: Any) -> dict[str, Any]:
    """The chain document of processors, the last of which rides a line, where there is one."""
    processors = [
        {"type": entry.type, "on": True, "settings": entry.settings.model_dump(exclude_defaults=True)}
        for entry in entries
    ]
    chain: dict[str, Any] = {"format": "reins-chain", "version": 1, "processors": processors}
    if line is not None:
        points = [list(point) for point in line]
        moves = [{"what": f"{len(entries) - 1}.gain_db"}]
        chain["reins"] = [{"moves": moves, "by": {"kind": "line", "points": points}}]
    return chain


def keep_chain(path: Path, chain: dict[str, Any]) -> None:
    """Write a chain file, whole or not at all."""
    write_whole(path, json.dumps(chain, indent=2, ensure_ascii=False) + "\n")
