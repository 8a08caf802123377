"""A changed session validated as a whole, without reading again what has not changed."""

from collections.abc import Iterator
from typing import Any

import pydantic

from reins.core.chainfile import _first_sentence
from reins.core.sessions import Document, Draft, Strip
from reins.errors import SettingsError


def checked(document: Document, before: Document) -> Document:
    """A document made of changed parts of `before`, validated as a whole; SettingsError for what does not go together.
    What is the very object it was in `before` was read when that was made and is not read again.
    """
    read = {id(part) for part in _parts(before)}
    try:
        return Document.model_validate(_unread(document, read))
    except pydantic.ValidationError as error:
        raise SettingsError(f"{_first_sentence(error, Document)} Nothing was changed.") from error


def _parts(document: Document) -> Iterator[pydantic.BaseModel]:
    """Each strip, draft, processor and rein."""
    for strip in (*document.tracks.values(), *document.buses.values(), document.master):
        yield from (strip, *strip.chain, *strip.reins)
        for draft in strip.drafts.values():
            yield from (draft, *draft.chain, *draft.reins)


def _unread(value: Any, read: set[int]) -> Any:
    """Plain data of a part of a document, but for the models in it whose id() is among `read`."""
    if isinstance(value, pydantic.BaseModel) and id(value) in read:
        return value
    if isinstance(value, Document | Strip | Draft):
        return {name: _unread(getattr(value, name), read) for name in type(value).model_fields}
    if isinstance(value, pydantic.BaseModel):
        return value.model_dump()
    if isinstance(value, dict):
        return {name: _unread(one, read) for name, one in value.items()}
    return [_unread(one, read) for one in value] if isinstance(value, list) else value
