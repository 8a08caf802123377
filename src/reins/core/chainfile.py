"""The chain document: processors in order with their settings, and the sentences said when it is wrong.

One model serves the chain file, the stored session and the engine. docs/formats/chain.md describes the file.
"""

import json
from collections.abc import Mapping
from typing import Any, Literal, get_args, get_origin

import pydantic
from pydantic import Field, SerializeAsAny, model_validator
from pydantic_core import ErrorDetails

from reins.core.limits import MAX_PROCESSORS
from reins.core.plain import read_json
from reins.core.processors import PROCESSORS, ProcessorSettings
from reins.core.processors.base import MisfitError, PartError, Strict
from reins.core.units import format_value
from reins.errors import SettingsError


class ProcessorEntry(Strict):
    """One processor of a chain. `id` names it within a session and is absent from chain files."""

    type: str
    on: bool = True
    settings: SerializeAsAny[ProcessorSettings]
    id: str = ""


class ChainFile(Strict):
    """The open file: format, version, processors."""

    format: Literal["reins-chain"]
    version: Literal[1]
    processors: list[Any] = Field(default=[], max_length=MAX_PROCESSORS)

    @model_validator(mode="before")
    @classmethod
    def _is_object(cls, value: Any) -> Any:
        if not isinstance(value, Mapping):
            raise ValueError("it must be an object with format, version and processors")
        return value


def parse_entry(raw: Any, where: str) -> ProcessorEntry:
    """A processor from plain data; raises SettingsError naming the processor, the setting and the limits."""
    if not isinstance(raw, Mapping):
        raise SettingsError(f"{where}: it must be an object with type, on and settings.")
    kind = raw.get("type")
    if not isinstance(kind, str) or kind not in PROCESSORS:
        raise SettingsError(f"{where}: there is no processor type “{kind}”; allowed: {', '.join(PROCESSORS)}.")
    where = f"{where} ({kind})"
    settings = parse_settings(kind, raw.get("settings", {}), where)
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


def parse_chain(text: str, name: str) -> list[ProcessorEntry]:
    """The processors of a chain file; raises SettingsError with the file's name in front."""
    try:
        document = ChainFile.model_validate(read_json(text, name))
    except pydantic.ValidationError as error:
        raise SettingsError(f"{name}: {_first_sentence(error, ChainFile)}") from error
    return [parse_entry(raw, f"{name}: processor {index}") for index, raw in enumerate(document.processors)]


def _nested(annotation: Any) -> type[pydantic.BaseModel] | None:
    """The model a setting holds, by itself or in a list; None for a plain value."""
    if get_origin(annotation) is list:
        annotation = get_args(annotation)[0]
    return annotation if isinstance(annotation, type) and issubclass(annotation, pydantic.BaseModel) else None


def _place(model: type[pydantic.BaseModel], location: tuple[int | str, ...]) -> tuple[Any, Any]:
    """(field, model it holds) at a location such as bands, 2, freq_hz; None for each where there is none."""
    field, inner = None, model
    for part in location:
        if isinstance(part, int):
            continue
        field = inner.model_fields.get(part) if inner else None
        if field is None:
            return None, None
        inner = _nested(field.annotation)  # type: ignore[assignment]
    return field, inner


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
    field, _ = _place(model, detail["loc"])
    if detail["type"] == "extra_forbidden":
        *parents, last = detail["loc"]
        return f"there is no setting “{last}”; allowed: {', '.join(_own_first(_place(model, tuple(parents))[1]))}."
    extra = (field.json_schema_extra or {}) if field is not None else {}
    if extra.get("kind") == "number" and detail["type"] != "value_error":
        limits = {type(m).__name__: m for m in field.metadata}
        low, high = limits["Ge"].ge, limits["Le"].le
        return f"{name} is {given}; allowed: a number from {low:g} to {high:g} {extra['unit']}".rstrip() + "."
    if detail["type"] == "missing":
        return f"{name} is missing."
    allowed = detail["msg"].removeprefix("Input should be ").removeprefix("Value error, ")
    return f"{name} is {given[:80]}; allowed: {allowed}."


def _given(value: object) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def describe_change(kind: str, before: ProcessorSettings, after: ProcessorSettings) -> str:
    """What a change did in a person's words: "threshold −18.0 dB → −24.0 dB"."""
    parts = _differences(PROCESSORS[kind].Settings, before, after)
    return ", ".join(parts) if len(parts) < 3 else f"{len(parts)} settings"


def _differences(model: type[pydantic.BaseModel], before: Any, after: Any) -> list[str]:
    parts = []
    for path, field in settings_fields(model):
        old, new = _value_at(before, path), _value_at(after, path)
        if old != new:
            extra = field.json_schema_extra or {}
            if isinstance(new, list):
                parts += _list_differences(field, extra, old, new)
            else:
                words = extra.get("words", {})
                said = [words.get(v, format_value(v, extra["unit"])) for v in (old, new)]
                parts.append(f"{extra['label'].lower()} {said[0]} → {said[1]}")
    return parts


def _list_differences(field: Any, extra: dict[str, Any], old: list[Any], new: list[Any]) -> list[str]:
    """Of a list of numbers: both; of a list of bands: how many came or went, or what has changed in which."""
    item = _nested(field.annotation)
    if item is None:
        said = [", ".join(format_value(v, extra["unit"]) for v in values) for values in (old, new)]
        return [f"{extra['label'].lower()} {said[0]} → {said[1]}"]
    if len(old) != len(new):
        return [f"{len(old)} bands → {len(new)}"]
    if sorted(old, key=repr) == sorted(new, key=repr):
        return ["bands put in order"]
    pairs = enumerate(zip(old, new, strict=True))
    return [f"band {i + 1} {said}" for i, (a, b) in pairs for said in _differences(item, a, b)]


def _own_first(model: type[pydantic.BaseModel]) -> list[str]:
    inherited = {name for base in model.__bases__ for name in getattr(base, "model_fields", {})}
    return sorted(model.model_fields, key=lambda name: name in inherited)


def settings_fields(model: type[pydantic.BaseModel], prefix: str = "") -> list[tuple[str, Any]]:
    """(dotted name, field) of every setting, nested ones included: a model's own first, then those it inherits."""
    fields: list[tuple[str, Any]] = []
    for name in _own_first(model):
        field = model.model_fields[name]
        nested = _nested(field.annotation)
        if nested is not None and get_origin(field.annotation) is not list:
            fields += settings_fields(nested, f"{prefix}{name}.")
        else:
            fields.append((prefix + name, field))
    return fields


def _value_at(settings: pydantic.BaseModel, path: str) -> Any:
    value: Any = settings
    for part in path.split("."):
        value = getattr(value, part)
    return value


def describe_fields(model: type[pydantic.BaseModel]) -> list[dict[str, Any]]:
    """Everything the screen needs to build controls, read from the fields of a model that are settings."""
    described = []
    for path, field in settings_fields(model):
        if field.json_schema_extra is None:
            continue
        limits = {type(m).__name__: m for m in field.metadata}
        row = {**field.json_schema_extra, "name": path, "default": field.default, "help": field.description}
        if row["kind"] == "number":
            row |= {"low": limits["Ge"].ge, "high": limits["Le"].le}
        elif row["kind"] == "list":
            item = _nested(field.annotation)
            row["fields"] = describe_fields(item) if item else []
            row["most"] = limits["MaxLen"].max_length
        elif row["kind"] == "choice":
            row["options"] = [True, False] if field.annotation is bool else list(field.annotation.__args__)
        described.append(row)
    return described
