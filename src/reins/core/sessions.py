"""The session document: tracks with their chains, loop and tempo. core.changes holds all that can be done to it."""

import secrets
from typing import Annotated, Any

import pydantic
from pydantic import Field, field_validator

from reins.core.chainfile import (
    ProcessorEntry,
    _first_sentence,
    parse_entry,
)
from reins.core.processors.base import Strict, number
from reins.errors import NotFoundError, SettingsError

FADER_OFF_DB = -90.0
DRAFTS = 4
MAX_PROCESSORS = 32
Name = Annotated[str, Field(min_length=1, max_length=80)]


def new_id() -> str:
    """A short random id."""
    return secrets.token_hex(6)


class Track(Strict):
    """One track: its take, its chain and its place in the mix."""

    name: Name
    group: str = ""
    take_id: str
    fader_db: float = number(
        0.0, FADER_OFF_DB, 12, label="Fader", unit="dB", group="Mix", step=0.5, scale="db",
        help="The track's level in the mix; all the way down is silence.",
    )  # fmt: skip
    pan_pct: float = number(
        0.0, -100, 100, label="Pan", unit="%", group="Mix", step=1,
        help="Where the track sits between left (−100) and right (100).",
    )  # fmt: skip
    mute: bool = False
    solo: bool = False
    chain: list[ProcessorEntry] = []
    draft: int = Field(1, ge=1, le=DRAFTS)
    drafts: dict[str, list[ProcessorEntry]] = {}  # chains of the drafts that are not in use, by number

    @field_validator("drafts", mode="before")
    @classmethod
    def _parse_drafts(cls, value: Any) -> Any:
        return {number: cls._parse_chain(chain) for number, chain in value.items()}

    @field_validator("chain", mode="before")
    @classmethod
    def _parse_chain(cls, value: Any) -> Any:
        return [v if isinstance(v, ProcessorEntry) else parse_entry(v, f"processor {i}") for i, v in enumerate(value)]


class Loop(Strict):
    """The part that repeats, in frames of the session."""

    on: bool = False
    start_frame: int = Field(0, ge=0)
    end_frame: int = Field(0, ge=0)


class Document(Strict):
    """A whole session."""

    name: Name
    sample_rate: int = Field(48000, ge=8000, le=192000)
    tempo_bpm: float = number(
        120.0, 20, 400, label="Tempo", unit="bpm", group="Time", step=1, help="Beats per minute."
    )  # fmt: skip
    beats_per_bar: int = Field(4, ge=1, le=16)
    loop: Loop = Loop()
    tracks: dict[str, Track] = {}
    order: list[str] = []

    def track(self, track_id: str) -> Track:
        """The track with this id, or NotFoundError."""
        if track_id not in self.tracks:
            raise NotFoundError("track", track_id)
        return self.tracks[track_id]

    def with_track(self, track_id: str, **changes: Any) -> "Document":
        """A copy in which the track has these fields changed."""
        track = self.track(track_id).model_copy(update=changes)
        return self.model_copy(update={"tracks": {**self.tracks, track_id: track}})


def parse_document(text: str) -> Document:
    """A document from its JSON, or SettingsError."""
    try:
        return Document.model_validate_json(text)
    except pydantic.ValidationError as error:
        raise SettingsError(f"The session cannot be read: {_first_sentence(error, Document)}") from error
