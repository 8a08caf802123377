"""Walking over the fields of a settings model: what the screen, the documents and the history read."""

from collections.abc import Iterator
from typing import Any, get_args, get_origin

from pydantic import BaseModel

from reins.core.settings.paths import value_at
from reins.core.settings.words import said

Model = type[BaseModel]


def nested(annotation: Any) -> Model | None:
    """The model a setting holds, by itself or in a list; None for a plain value."""
    if get_origin(annotation) is list:
        annotation = get_args(annotation)[0]
    return annotation if isinstance(annotation, type) and issubclass(annotation, BaseModel) else None


def place(model: Model, location: tuple[int | str, ...]) -> tuple[Any, Any]:
    """(field, model it holds) at a location such as bands, 2, freq_hz; None for each where there is none."""
    field, inner = None, model
    for part in location:
        if isinstance(part, int):
            continue
        field = inner.model_fields.get(part) if inner else None
        if field is None:
            return None, None
        inner = nested(field.annotation)  # type: ignore[assignment]
    return field, inner


def place_of(model: Model, path: str) -> Any:
    """The field at a dotted name; None where there is none."""
    return place(model, tuple(int(part) if part.isdecimal() else part for part in path.split(".")))[0]


def limits_of(field: Any) -> tuple[float, float]:
    """The lowest and the highest value of a number by its Pydantic field."""
    limits = {type(m).__name__: m for m in field.metadata}
    return float(limits["Ge"].ge), float(limits["Le"].le)


def own_first(model: Model) -> list[str]:
    """Names of a model's fields, its own before those it inherits."""
    inherited = {name for base in model.__bases__ for name in getattr(base, "model_fields", {})}
    return sorted(model.model_fields, key=lambda name: name in inherited)


def settings_fields(model: Model, prefix: str = "") -> list[tuple[str, Any]]:
    """(dotted name, field) of every setting, nested ones included: a model's own first, then those it inherits."""
    fields: list[tuple[str, Any]] = []
    for name in own_first(model):
        field = model.model_fields[name]
        inner = nested(field.annotation)
        if inner is not None and get_origin(field.annotation) is not list:
            fields += settings_fields(inner, f"{prefix}{name}.")
        else:
            fields.append((prefix + name, field))
    return fields


def changes(before: Any, after: Any) -> dict[str, Any]:
    """By path what settings are that differ from others; lists as a whole, plain."""
    found: dict[str, Any] = {}
    for path, _ in settings_fields(type(after)):
        value = value_at(after, path)
        if value != value_at(before, path):
            listed = isinstance(value, list)
            found[path] = (
                [one.model_dump() if hasattr(one, "model_dump") else one for one in value] if listed else value
            )
    return found


def describe_fields(model: Model) -> list[dict[str, Any]]:
    """Everything the screen needs to build controls, read from the fields of a model that are settings."""
    described = []
    for path, field in settings_fields(model):
        if field.json_schema_extra is None:
            continue
        row = {**field.json_schema_extra, "name": path, "default": field.default, "help": field.description}
        if row["kind"] == "number":
            row |= dict(zip(("low", "high"), limits_of(field), strict=True))
        elif row["kind"] in ("list", "points"):
            item = nested(field.annotation)
            row["fields"] = describe_fields(item) if item else []
            row["most"] = next(m.max_length for m in field.metadata if hasattr(m, "max_length"))
        elif row["kind"] == "choice":
            row["options"] = [True, False] if field.annotation is bool else list(field.annotation.__args__)
        described.append(row)
    return described


def recordings_in(model: Model) -> list[str]:
    """The settings of a model that name recordings."""
    fields: Any = model.model_fields.items()
    return [name for name, field in fields if (field.json_schema_extra or {}).get("kind") == "recording"]


def recordings(settings: BaseModel) -> dict[str, str]:
    """By setting the names of recordings that settings use."""
    return {name: value for name in recordings_in(type(settings)) if (value := getattr(settings, name))}


def differences(model: Model, before: BaseModel, after: BaseModel) -> Iterator[str]:
    """What differs, in a person's words: "threshold −18.0 dB → −24.0 dB"."""
    for path, field in settings_fields(model):
        old, new = value_at(before, path), value_at(after, path)
        if old != new:
            extra = field.json_schema_extra or {}
            if extra.get("kind") == "points":
                yield f"{extra['label'].lower()} drawn"
            elif extra.get("kind") == "recording":
                yield f"another {extra['label'].lower()}" if new else f"{extra['label'].lower()} {extra['none']}"
            elif extra.get("kind") == "sources":
                yield f"{len(new)} more in its key" if len(new) != len(old) else "what else is in its key"
            elif isinstance(new, list):
                yield from _list_differences(field, extra, old, new)
            else:
                yield f"{extra['label'].lower()} {said(old, extra)} → {said(new, extra)}"


def _list_differences(field: Any, extra: dict[str, Any], old: list[Any], new: list[Any]) -> Iterator[str]:
    """Of a list of numbers: both; of a list of bands: how many came or went, or what has changed in which."""
    item = nested(field.annotation)
    if item is None:
        before, after = (", ".join(said(value, extra) for value in values) for values in (old, new))
        yield f"{extra['label'].lower()} {before} → {after}"
    elif len(old) != len(new):
        yield f"{len(old)} bands → {len(new)}"
    elif sorted(old, key=repr) == sorted(new, key=repr):
        yield "bands put in order"
    else:
        for place, (a, b) in enumerate(zip(old, new, strict=True), 1):
            yield from (f"band {place} {words}" for words in differences(item, a, b))
