"""The chain document: processors in order with their settings, and the sentences said when it is wrong.

One model serves the chain file, the stored session and the engine. docs/formats/chain.md describes the file.
"""

import json
from collections.abc import Mapping
from typing import Any, Literal, NamedTuple

import pydantic
from pydantic import Field, SerializeAsAny, model_validator
from pydantic_core import ErrorDetails

from reins.core.limits import MAX_PROCESSORS
from reins.core.moves.models import KINDS, MOST_REINS, Rein
from reins.core.moves.rules import check as check_reins
from reins.core.plain import read_json
from reins.core.processors import PROCESSORS, ProcessorSettings
from reins.core.settings.fields import differences, limits_of, own_first, place
from reins.core.settings.models import MisfitError, PartError, Strict
from reins.core.settings.paths import overlaid
from reins.errors import SettingsError


class ProcessorEntry(Strict):
    """One processor of a chain. `id` names it within a session and is absent from chain files; `tied` is the id of
    another of its type, whose settings move with its own (core.pairs). as_loud: its makeup goes with all else, so that
    it comes out as loud as what comes to it.
    """

    type: str
    on: bool = True
    settings: SerializeAsAny[ProcessorSettings]
    id: str = ""
    tied: str = ""
    as_loud: bool = Field(False, exclude_if=lambda on: not on)


class ChainFile(Strict):
    """The open file: format, version, processors."""

    format: Literal["reins-chain"]
    version: Literal[1]
    processors: list[Any] = Field(default=[], max_length=MAX_PROCESSORS)
    reins: list[Any] = Field(default=[], max_length=MOST_REINS)

    @model_validator(mode="before")
    @classmethod
    def _is_object(cls, value: Any) -> Any:
        if not isinstance(value, Mapping):
            raise ValueError("it must be an object with format, version and processors")
        return value


def parse_entry(raw: Any, where: str) -> ProcessorEntry:
    """A processor from plain data; raises SettingsError naming the processor, the setting and the limits."""
    if not isinstance(raw, Mapping):
        raise SettingsError(f"{where}: it is {str(raw)[:40]}; allowed: an object with type, on and settings.")
    kind = raw.get("type")
    if not isinstance(kind, str) or kind not in PROCESSORS:
        raise SettingsError(f"{where}: there is no processor type “{kind}”; allowed: {', '.join(PROCESSORS)}.")
    where = f"{where} ({kind})"
    settings = parse_settings(kind, raw.get("settings", {}), where)
    if raw.get("as_loud") is True and not PROCESSORS[kind].may_be_as_loud:
        raise SettingsError(f"{where}: as_loud is true; allowed: false, since it is meant to make quieter.")
    try:
        return ProcessorEntry.model_validate({**raw, "settings": settings})
    except pydantic.ValidationError as error:
        raise SettingsError(f"{where}: {_first_sentence(error, ProcessorEntry)}") from error


def parse_settings(kind: str, raw: Any, where: str) -> ProcessorSettings:
    """Settings of a processor type from plain data; missing ones take their defaults."""
    model = PROCESSORS[kind].Settings
    if not isinstance(raw, Mapping):
        raise SettingsError(f"{where}: settings must be an object of names and values.")
    try:
        return model.model_validate(dict(raw))
    except pydantic.ValidationError as error:
        raise SettingsError(f"{where}: {_first_sentence(error, model)}") from error


def settings_over(entry: ProcessorEntry, changes: dict[str, Any]) -> dict[str, Any]:
    """Plain settings of a processor with others laid over them by path; parts that do not change stay as they were
    read, and need not be read anew. SettingsError, naming the path, for one that leads nowhere.
    """
    try:
        return overlaid(entry.settings, changes)
    except LookupError as error:
        raise SettingsError(f"{entry.type}: there is no setting “{error.args[0]}”. Nothing was changed.") from error


class Parsed(NamedTuple):
    """What a chain file holds."""

    entries: list[ProcessorEntry]
    reins: list[Rein]


def parse_chain(text: str, name: str) -> Parsed:
    """The processors and reins of a chain file; raises SettingsError with the file's name in front."""
    try:
        document = ChainFile.model_validate(read_json(text, name))
    except pydantic.ValidationError as error:
        raise SettingsError(f"{name}: {_first_sentence(error, ChainFile)}") from error
    entries = [parse_entry(raw, f"{name}: processor {index}") for index, raw in enumerate(document.processors)]
    try:
        reins = parse_reins(document.reins)
        check_reins(reins, entries, None)
    except (PartError, SettingsError) as error:
        raise SettingsError(f"{name}: {error}") from error
    return Parsed(entries, reins)


def parse_reins(raw: Any) -> list[Rein]:
    """Reins from plain data; SettingsError saying which is wrong and what is allowed. Whether what they move is there
    is for moves.rules.check.
    """
    if not isinstance(raw, list):
        raise SettingsError(f"reins is {str(raw)[:40]}; allowed: a list of reins.")
    return [one if isinstance(one, Rein) else _parse_rein(one, f"rein {place}") for place, one in enumerate(raw)]


def _parse_rein(raw: Any, where: str) -> Rein:
    if not isinstance(raw, Mapping) or not isinstance(raw.get("by"), (Mapping, pydantic.BaseModel)):
        raise SettingsError(f"{where}: it must be an object with moves and by, which is an object with its kind.")
    by: Any = raw["by"]
    if isinstance(by, Mapping):
        model = KINDS.get(str(by.get("kind")))
        if model is None:
            raise SettingsError(f"{where}: by.kind is “{by.get('kind', 'missing')}”; allowed: {', '.join(KINDS)}.")
        try:
            by = model.model_validate(dict(by))
        except pydantic.ValidationError as error:
            raise SettingsError(f"{where}, by: {_first_sentence(error, model)}") from error
    try:
        return Rein.model_validate({**raw, "by": by})
    except pydantic.ValidationError as error:
        raise SettingsError(f"{where}: {_first_sentence(error, Rein)}") from error


def _first_sentence(error: pydantic.ValidationError, model: type[pydantic.BaseModel]) -> str:
    return _sentence(error.errors()[0], model)


def _sentence(detail: ErrorDetails, model: type[pydantic.BaseModel]) -> str:
    """What was given and what is allowed, from one validation error."""
    cause: Any = detail.get("ctx", {}).get("error")
    if isinstance(cause, MisfitError):
        setting = ".".join(str(part) for part in (*detail["loc"], cause.setting))
        return f"{setting} is {_given(cause.given)}; allowed: {cause.allowed}."
    name = ".".join(str(part) for part in detail["loc"]) or "document"
    if isinstance(cause, PartError):
        return f"{name}: {cause}"
    given = json.dumps(detail["input"], default=str, ensure_ascii=False)
    field, _ = place(model, detail["loc"])
    if detail["type"] == "extra_forbidden":
        *parents, last = detail["loc"]
        return f"there is no setting “{last}”; allowed: {', '.join(own_first(place(model, tuple(parents))[1]))}."
    extra = (field.json_schema_extra or {}) if field is not None else {}
    if extra.get("kind") == "number" and detail["type"] != "value_error":
        low, high = limits_of(field)
        return f"{name} is {given}; allowed: a number from {low:g} to {high:g} {extra['unit']}".rstrip() + "."
    if detail["type"] == "missing":
        return f"{name} is missing."
    if detail["type"] == "too_long":
        limits = detail["ctx"]
        return f"{name} has {limits['actual_length']}; allowed: up to {limits['max_length']}."
    allowed = detail["msg"].removeprefix("Input should be ").removeprefix("Value error, ")
    return f"{name} is {given[:80]}; allowed: {allowed}."


def _given(value: object) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def describe_change(kind: str, before: ProcessorSettings, after: ProcessorSettings) -> str:
    """What a change did in a person's words: "threshold −18.0 dB → −24.0 dB"."""
    parts = list(differences(PROCESSORS[kind].Settings, before, after))
    return ", ".join(parts) if len(parts) < 3 else f"{len(parts)} settings"
