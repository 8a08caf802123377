"""The open session file: a zip of session.json and its takes as FLAC. docs/formats/session.md describes it.

Unzipped it is a folder that `reins render` takes as well. A take's samples are those of its file times two to its
exponent, so that 24-bit FLAC gives back exactly what is played.
"""

import json
from collections.abc import Mapping
from typing import Any, Literal

import pydantic
from pydantic import Field, field_validator, model_validator

from reins.core.chainfile import _first_sentence
from reins.core.impulses import path_inside
from reins.core.limits import MAX_SESSION_JSON_BYTES
from reins.core.plain import read_json
from reins.core.routing import in_order
from reins.core.sessionparts import Name
from reins.core.sessions import Document
from reins.core.settings.models import Strict
from reins.errors import InputError, SettingsError

JSON_NAME = "session.json"
TAKES = "takes"


class FileTake(Strict):
    """Where a take's samples are: an audio file inside the folder, and the power of two it is to be multiplied by."""

    name: Name
    file: str
    exponent: int = Field(0, ge=0, le=64)

    @field_validator("file")
    @classmethod
    def _inside(cls, value: str) -> str:
        return path_inside(value)


class SessionFile(Strict):
    """The document of a session file."""

    format: Literal["reins-session"]
    version: Literal[1]
    session: Document
    takes: dict[str, FileTake] = {}

    @model_validator(mode="before")
    @classmethod
    def _is_object(cls, value: Any) -> Any:
        if not isinstance(value, Mapping):
            raise ValueError("it must be an object with format, version, session and takes")
        return value


def parse_session_file(text: str, name: str) -> SessionFile:
    """A session file's document from its JSON; SettingsError with the file's name in front."""
    try:
        parsed = SessionFile.model_validate(read_json(text, name))
    except pydantic.ValidationError as error:
        raise SettingsError(f"{name}: {_first_sentence(error, SessionFile)}") from error
    for track in parsed.session.tracks.values():
        if track.take_id is not None and track.take_id not in parsed.takes:
            raise SettingsError(
                f"{name}: {track.name}: its take “{track.take_id}” is not among takes; allowed: one that is."
            )
    for take_id, impulse in parsed.session.impulses.items():
        if take_id not in parsed.takes:
            raise SettingsError(
                f"{name}: the response “{impulse}”: its take “{take_id}” is not among takes; allowed: one that is."
            )
    reference = parsed.session.reference
    if reference is not None and reference.take_id not in parsed.takes:
        raise SettingsError(
            f"{name}: the reference “{reference.name}”: its take is not among takes; allowed: one that is."
        )
    try:
        in_order(parsed.session)
    except InputError as error:
        raise SettingsError(f"{name}: {error}") from error
    return parsed


def format_session_file(document: Document, takes: dict[str, FileTake]) -> str:
    """The JSON of a session file, set in lines where that leaves it well within what is read again."""
    parsed = SessionFile(format="reins-session", version=1, session=document, takes=takes).model_dump()
    text = json.dumps(parsed, indent=2, ensure_ascii=False)
    if len(text) > MAX_SESSION_JSON_BYTES // 2:
        text = json.dumps(parsed, ensure_ascii=False, separators=(",", ":"))
    return text
