"""Plain data from JSON text, checked before anything is made of it: no text or number that could break what follows."""

import json
from typing import Any

from reins.core.limits import MAX_JSON_NODES
from reins.errors import SettingsError

MAX_DEPTH = 64
MAX_INTEGER = 2**63 - 1


def read_json(text: str | bytes, name: str) -> Any:
    """What a JSON text holds; SettingsError with its name in front for what is not JSON, is nested more than MAX_DEPTH
    deep, has more than MAX_JSON_NODES nodes, or holds a whole number beyond 64 bits or text that is not Unicode.
    """
    check_nodes(text, name)
    try:
        value = json.loads(text)
    except json.JSONDecodeError as error:
        raise SettingsError(f"{name}: line {error.lineno} is not JSON ({error.msg}); mend it there.") from error
    except UnicodeDecodeError as error:
        raise SettingsError(f"{name}: cannot be read as text; JSON is UTF-8.") from error
    except RecursionError as error:
        raise SettingsError(_too_deep(name)) from error
    except ValueError as error:  # more digits than Python turns into a number
        raise SettingsError(f"{name}: a number has too many digits; allowed: up to 64 bits.") from error
    check_plain(value, name)
    return value


def check_nodes(text: str | bytes, name: str) -> None:
    """SettingsError for a text with more lists, objects and named values than allowed, counted by marks before
    anything is built of it: ten million empty lists are 30 kB packed and 3 GB as values. Marks within texts count, too;
    how many plain values there are is bounded by how long the text is.
    """
    marks: Any = (b":", b"[", b"{") if isinstance(text, bytes) else (":", "[", "{")
    nodes = sum(text.count(mark) for mark in marks)
    if nodes > MAX_JSON_NODES:
        raise SettingsError(
            f"{name}: it holds about {nodes} lists, objects and named values; allowed: up to {MAX_JSON_NODES}."
        )


def check_plain(value: Any, name: str) -> None:
    """Raise SettingsError for what read_json refuses in a value that is at hand already."""
    waiting: list[tuple[Any, tuple[str, ...]]] = [(value, ())]
    while waiting:
        part, place = waiting.pop()
        if len(place) > MAX_DEPTH:
            raise SettingsError(_too_deep(name))
        if isinstance(part, dict):
            waiting += ((key, place) for key in part)
            waiting += ((inner, (*place, key)) for key, inner in part.items())
        elif isinstance(part, list):
            waiting += ((inner, (*place, str(index))) for index, inner in enumerate(part))
        elif (problem := _problem(part)) is not None:
            where = "".join(f"{step}." for step in place).rstrip(".").encode("utf-8", "replace").decode()
            raise SettingsError(f"{name}: {where or 'it'} {problem}.")


def _problem(value: Any) -> str | None:
    if isinstance(value, str) and not value.isascii():
        try:
            value.encode("utf-8")
        except UnicodeEncodeError:
            return "holds half a character (a lone surrogate); allowed: Unicode text"
    if isinstance(value, int) and abs(value) > MAX_INTEGER:
        return "is a number beyond 64 bits; allowed: whole numbers of up to 64 bits"
    return None


def _too_deep(name: str) -> str:
    return f"{name}: it is nested too deeply; allowed: {MAX_DEPTH} levels."
