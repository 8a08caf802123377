"""The one tree of errors.

ReinsError
├── InputError           what the person gave cannot be used; the message says what, where and what is allowed
│   ├── AudioError       a file or block of audio
│   ├── SettingsError    a setting, chain or session document
│   ├── NotFoundError    an id nothing answers to
│   └── ConflictError    the session has moved on, or the action makes no sense now
├── StorageError         the disk or the database refused
├── CancelledError       the person, or a newer request, asked to stop
└── NotReadyError        what this needs is still being compiled, and comes by itself
"""

import re
from collections.abc import Callable

#: How sentences say at their end what is kept; the names in them may hold any word.
KEPT = re.compile(
    r"([Nn]othing was \w+|untouched|no (file|backup) was left there|is still there|as they were|before stays)\.$"
)


class ReinsError(Exception):
    """Base of every error raised on purpose."""


class InputError(ReinsError):
    """Something given from outside cannot be used."""


class AudioError(InputError):
    """Audio that cannot be read or is not allowed."""


class SettingsError(InputError):
    """A setting, a chain or a session document outside its limits."""


class NotFoundError(InputError):
    """Nothing has this id."""

    def __init__(self, what: str, wanted: str) -> None:
        self.what, self.wanted = what, wanted
        super().__init__(f"There is no {what} “{wanted}” here; it may have been removed. Nothing was changed.")


class ConflictError(InputError):
    """The action does not fit the present state."""


class StorageError(ReinsError):
    """The disk or the database refused."""


def saying(error: Exception, kept: str) -> str:
    """What an error says, with what is kept where it does not say that itself."""
    sentence = str(error)
    return sentence if KEPT.search(sentence) or not kept else f"{sentence} {kept}"


class CancelledError(ReinsError):
    """The work was stopped on request."""


class NotReadyError(ReinsError):
    """What is asked for needs kernels that are still being compiled.

    is_over: whether that one is there by now; goes_on: whether whoever plays goes on without it.
    """

    def __init__(self, sentence: str, is_over: Callable[[], bool], *, goes_on: bool) -> None:
        self.is_over, self.goes_on = is_over, goes_on
        super().__init__(sentence)
