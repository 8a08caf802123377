"""The session document: tracks and buses with their chains, the master, loop and tempo.

Track, bus and master are strips: each has a chain, its drafts and a fader. core.changes holds all that can be done to
a document, core.routing where the sound goes.
"""

import secrets
from collections.abc import Iterator
from itertools import pairwise
from typing import Annotated, Any, Literal, Self

import pydantic
from pydantic import Field, PrivateAttr, field_validator, model_validator

from reins.core.budget import budget_of
from reins.core.chainfile import ProcessorEntry, _first_sentence, parse_entry, parse_reins
from reins.core.finding.corrections import Corrections, What
from reins.core.limits import (
    MAX_BUSES,
    MAX_ID,
    MAX_IMPULSES,
    MAX_PROCESSORS,
    MAX_RATE,
    MAX_SENDS,
    MAX_SESSION_POINTS,
    MAX_SESSION_PROCESSORS,
    MAX_START_S,
    MAX_TRACKS,
    MIN_RATE,
)
from reins.core.moves.models import Rein
from reins.core.moves.rules import check as check_reins
from reins.core.sessionparts import MAX_FRAME, MOST_JUDGEMENTS, HitMark, Judgement, Loop, Name, Place, Reference
from reins.core.settings.describing import choice, number
from reins.core.settings.fields import recordings
from reins.core.settings.models import MisfitError, PartError, Strict
from reins.core.struck import MOST_HITS
from reins.core.time import Beat
from reins.core.units import db_to_lin
from reins.errors import NotFoundError, SettingsError

FADER_OFF_DB = -90.0
MOST_DRAFTS = 32
MAX_SETS, MAX_PLACES = 32, 200
MASTER = "master"
MOST_STRIPS = MAX_TRACKS + MAX_BUSES + 1  # with the master
StripId = Annotated[str, Field(min_length=1, max_length=MAX_ID)]
Soloed = Annotated[list[StripId], Field(max_length=MOST_STRIPS)]
Drafted = Annotated[dict[StripId, int], Field(max_length=MOST_STRIPS)]


def new_id() -> str:
    """A short random id."""
    return secrets.token_hex(6)


class Draft(Strict):
    """A chain that is not in use, with its reins."""

    name: str = Field("", max_length=40)
    chain: list[ProcessorEntry] = []
    reins: list[Rein] = []


class Strip(Strict):
    """What tracks, buses and the master share: a name, a chain with its drafts, a fader."""

    name: Name
    fader_db: float = number(
        0.0, FADER_OFF_DB, 12, label="Fader", unit="dB", group="Mix", step=0.5, scale="db", moves="gain",
        help="The level in the mix; all the way down is silence.",
    )  # fmt: skip
    colour: Literal["none", "clay", "ochre", "moss", "teal", "slate", "plum"] = choice(
        "none", label="Colour", group="Mix", help="Of the edge of its label, to tell groups apart.",
    )  # fmt: skip
    chain_on: bool = choice(True, label="Chain", group="Chain", help="Off, the whole chain is passed by.")
    chain_mix_pct: float = number(
        100.0, 0, 100, label="Chain mix", unit="%", group="Chain", step=1, moves=False,
        help="How much of what the chain makes; the rest is what comes to it.",
    )  # fmt: skip
    puts_out: Literal["result", "difference"] = choice(
        "result", label="Puts out", group="Chain", words={"result": "result", "difference": "difference"},
        help="What the chain makes of the sound, or what it has taken from it.",
    )  # fmt: skip
    chain: list[ProcessorEntry] = []
    reins: list[Rein] = []
    marks: dict[What, Corrections] = {}  # of what is found in its sound
    draft: int = Field(1, ge=1, le=MOST_DRAFTS)
    draft_name: str = Field("", max_length=40)
    drafts: dict[str, Draft] = {}  # those that are not in use, by number
    _matched_db: float = PrivateAttr(0.0)

    @property
    def matched_db(self) -> float:
        """By how much it is heard louder to be compared; of what is kept or written it is never part."""
        return self._matched_db

    def matched(self, gain_db: float) -> Self:
        """The same strip, heard so much louder."""
        made = self.model_copy()
        made._matched_db = gain_db
        return made

    @property
    def in_use(self) -> Draft:
        """The draft that is in use: the chain and its reins."""
        return Draft(name=self.draft_name, chain=self.chain, reins=self.reins)

    @field_validator("drafts", mode="before")
    @classmethod
    def _parse_drafts(cls, value: Any) -> Any:
        numbers = {str(n) for n in range(1, MOST_DRAFTS + 1)}
        if not isinstance(value, dict) or not value.keys() <= numbers:
            raise ValueError(f"an object with chains by draft number, 1 to {MOST_DRAFTS}")
        return {number: _parse_draft(draft, f"draft {number}, ") for number, draft in value.items()}

    @field_validator("chain", mode="before")
    @classmethod
    def _parse_chain(cls, value: Any) -> Any:
        return _parse_chain(value)

    @field_validator("reins", mode="before")
    @classmethod
    def _parse_reins(cls, value: Any) -> Any:
        return _read_reins(value)

    @model_validator(mode="after")
    def _reins_move_what_is_there(self) -> "Strip":
        check_reins(self.reins, self.chain, self)
        for place, draft in self.drafts.items():
            try:
                check_reins(draft.reins, draft.chain, self)
            except PartError as error:
                raise PartError(f"draft {place}, {error}") from error
        return self


def _read_reins(value: Any, where: str = "") -> list[Rein]:
    try:
        return parse_reins(value)
    except SettingsError as error:
        raise PartError(f"{where}{error}") from error


def _parse_draft(value: Any, where: str) -> Any:
    """A draft from plain data; sessions kept before drafts had names have its chain alone."""
    if isinstance(value, (list, Draft)):
        return Draft(chain=_parse_chain(value, where)) if isinstance(value, list) else value
    if not isinstance(value, dict) or not value.keys() <= Draft.model_fields.keys():
        raise PartError(f"{where}it is {str(value)[:40]}; allowed: an object with name, chain and reins.")
    return {
        **value, "chain": _parse_chain(value.get("chain", []), where),
        "reins": _read_reins(value.get("reins", []), where),
    }  # fmt: skip


def _parse_chain(value: Any, where: str = "") -> list[ProcessorEntry]:
    """A chain from plain data; PartError says which processor is wrong and how."""
    if not isinstance(value, list):
        raise PartError(f"{where}the chain is {str(value)[:40]}; allowed: a list of processors.")
    if len(value) > MAX_PROCESSORS:
        raise PartError(f"{where}the chain has {len(value)} processors; allowed: up to {MAX_PROCESSORS}.")
    try:
        chain = [v if isinstance(v, ProcessorEntry) else parse_entry(v, f"processor {i}") for i, v in enumerate(value)]
    except SettingsError as error:
        raise PartError(f"{where}{error}") from error
    ids = [entry.id for entry in chain if entry.id]
    for entry_id in ids:
        if len(entry_id) > MAX_ID:
            raise PartError(f"{where}a processor's id has {len(entry_id)} characters; allowed: up to {MAX_ID}.")
        if ids.count(entry_id) > 1:
            raise PartError(f"{where}two processors have the id “{entry_id}”; allowed: each its own.")
    return chain


class Send(Strict):
    """A way to a bus beside the one a strip goes."""

    bus: str = Field(min_length=1, max_length=MAX_ID)
    level_db: float = number(
        0.0, FADER_OFF_DB, 12, label="Level", unit="dB", group="Send", step=0.5, scale="db",
        help="How much of the strip the bus gets; all the way down is silence.",
    )  # fmt: skip
    tap: Literal["before", "after"] = choice(
        "after", label="Taken", group="Send", words={"before": "before the fader", "after": "after the fader"},
        help="Before the fader, the bus gets it whatever the fader says.",
    )  # fmt: skip
    on: bool = True

    @property
    def gain(self) -> float:
        """What it is made louder by."""
        return db_to_lin(self.level_db) if self.on and self.level_db > FADER_OFF_DB else 0.0


class _Routed(Strip):
    pan_pct: float = number(
        0.0, -100, 100, label="Pan", unit="%", group="Mix", step=1, moves="gain",
        help="Where it sits between left (−100) and right (100).",
    )  # fmt: skip
    mute: bool = choice(False, label="Mute", group="Mix", help="Silent in the mix; keys that follow it still hear it.")
    solo: bool = choice(False, label="Solo", group="Mix", help="Only what is soloed is heard.")
    bus: str = Field("", max_length=MAX_ID)  # the bus it goes to; empty is the master
    sends: list[Send] = Field([], max_length=MAX_SENDS)

    @model_validator(mode="after")
    def _one_send_each(self) -> "_Routed":
        buses = [send.bus for send in self.sends]
        for bus in buses:
            if buses.count(bus) > 1:
                raise PartError(f"sends: two go to the bus “{bus}”; allowed: one each.")
        return self


class Track(_Routed):
    """One track: its take (or none), where that begins, and its place in the mix."""

    take_id: str | None = Field(None, max_length=64)
    start_frame: int = Field(0, ge=0, le=MAX_FRAME)
    stamp_frame: int | None = Field(None, ge=0, le=MAX_FRAME)  # the take's own time stamp, since midnight
    trim_db: float = number(
        0.0, -24, 24, label="Trim", unit="dB", group="Mix", step=0.5, scale="db", moves=False,
        help="Level of the take before its chain: brings a quiet recording up to where thresholds lie.",
    )  # fmt: skip
    inverted: bool = choice(
        False, label="Polarity", group="Mix", words={"false": "as it is", "true": "inverted"},
        help="Turns the take upside down, so that two microphones on one source stop cancelling each other.",
    )  # fmt: skip

    hits: list[HitMark] = Field([], max_length=MOST_HITS)  # the map of the take's hits, once followed

    @field_validator("hits")
    @classmethod
    def _hits_in_order(cls, hits: list[tuple[int, float]]) -> list[tuple[int, float]]:
        if any(b <= a for (a, _), (b, _) in pairwise(hits)):
            raise PartError("hits: they do not lie in order; allowed: [frame, dB], each later than the one before.")
        return hits

    @model_validator(mode="before")
    @classmethod
    def _drop_group(cls, value: Any) -> Any:
        """Documents kept before there were buses carry a group's name, which was only shown."""
        return {k: v for k, v in value.items() if k != "group"} if isinstance(value, dict) else value


class Bus(_Routed):
    """A group of strips, summed."""

    solo_safe: bool = choice(
        False, label="Solo-safe", group="Mix", help="Stays in the mix, with all that goes through it, when others solo."
    )


class Master(Strip):
    """Where everything ends up; its limiter waits switched off."""

    name: Name = "Master"
    chain: list[ProcessorEntry] = [parse_entry({"id": "limiter", "type": "limiter", "on": False}, "master")]


class Document(Strict):
    """A whole session."""

    name: Name
    sample_rate: int = Field(48000, ge=MIN_RATE, le=MAX_RATE)
    tempo_bpm: float = number(
        120.0, 20, 400, label="Tempo", unit="bpm", group="Time", step=1, help="Beats per minute."
    )  # fmt: skip
    beats_per_bar: int = number(
        4, 1, 16, label="Metre", unit="beats", group="Time", step=1, help="Beats in a bar."
    )  # fmt: skip
    loop: Loop = Loop()
    places: list[Place] = Field([], max_length=MAX_PLACES)  # marks on the ruler, in order
    impulses: dict[str, Name] = {}  # responses for rooms: the name of each, by the id of its take
    reference: Reference | None = None  # laid beside the mix
    tracks: dict[str, Track] = {}
    order: list[str] = []
    buses: dict[str, Bus] = {}
    bus_order: list[str] = []
    master: Master = Master()
    solo_sets: dict[Name, Soloed] = Field({}, max_length=MAX_SETS)  # strips soloed together, by name
    draft_sets: dict[Name, Drafted] = Field({}, max_length=MAX_SETS)  # drafts in use together, by name
    judged: list[Judgement] = Field([], max_length=MOST_JUDGEMENTS)  # what came of blind tests, the latest last

    @model_validator(mode="before")
    @classmethod
    def _check_budget(cls, value: Any) -> Any:
        """Of the session as a whole, counted before anything is built of it."""
        processors, points = budget_of(value)
        if processors > MAX_SESSION_PROCESSORS:
            raise MisfitError("chain", f"{processors} processors, drafts counted", f"up to {MAX_SESSION_PROCESSORS}")
        if points > MAX_SESSION_POINTS:
            raise MisfitError("reins", f"{points} points in all, drafts counted", f"up to {MAX_SESSION_POINTS}")
        return value

    @model_validator(mode="after")
    def _check_bounds(self) -> "Document":
        counted = (
            ("tracks", self.tracks, MAX_TRACKS), ("buses", self.buses, MAX_BUSES),
            ("impulses", self.impulses, MAX_IMPULSES),
        )  # fmt: skip
        for what, kept, most in counted:
            if len(kept) > most:
                raise MisfitError(what, f"{len(kept)} {what}", f"up to {most}")
            for strip_id in kept:
                if not 1 <= len(strip_id) <= MAX_ID or "/" in strip_id or strip_id == MASTER:
                    raise MisfitError(
                        what, f"“{strip_id[:60]}”", f"ids of 1 to {MAX_ID} characters without /, not “{MASTER}”"
                    )
        for strip_id in self.tracks.keys() & self.buses.keys():
            raise MisfitError("buses", f"“{strip_id}”", "ids that no track has")
        latest = MAX_START_S * self.sample_rate
        for track_id, track in self.tracks.items():
            if track.start_frame > latest:
                raise MisfitError(
                    f"tracks.{track_id}.start_frame", track.start_frame, f"up to {latest} ({MAX_START_S // 3600} h)"
                )
        return self

    @model_validator(mode="after")
    def _check_order(self) -> "Document":
        for what, kept, order in (("order", self.tracks, self.order), ("bus_order", self.buses, self.bus_order)):
            if sorted(order) != sorted(kept):
                raise ValueError(f"{what} must name each of {sorted(kept)} once, in the order they are shown")
        return self

    @model_validator(mode="after")
    def _check_recordings(self) -> "Document":
        for strip_id, recording in recordings_of(self):
            if recording not in self.impulses:
                name = self.strip(strip_id).name
                raise PartError(
                    f"{name}: the response “{recording[:60]}” is not in this session; allowed: one that was brought in."
                )
        return self

    @property
    def beside(self) -> list[str]:
        """The ids of takes it uses that lie on no track."""
        return [*self.impulses, *([self.reference.take_id] if self.reference else [])]

    @property
    def beat(self) -> Beat:
        """Tempo and metre."""
        return Beat(self.tempo_bpm, self.beats_per_bar)

    def track(self, track_id: str) -> Track:
        """The track with this id, or NotFoundError."""
        if track_id not in self.tracks:
            raise NotFoundError("track", track_id)
        return self.tracks[track_id]

    def strip(self, strip_id: str) -> Track | Bus | Master:
        """The track, bus or master with this id, or NotFoundError."""
        if strip_id == MASTER:
            return self.master
        found = self.tracks.get(strip_id) or self.buses.get(strip_id)
        if found is None:
            raise NotFoundError("track or bus", strip_id)
        return found

    def with_strip(self, strip_id: str, **changes: Any) -> "Document":
        """A copy in which the track, bus or master has these fields changed."""
        return self.placed(strip_id, self.strip(strip_id).model_copy(update=changes))

    def placed(self, strip_id: str, strip: "Strip") -> "Document":
        """A copy with this strip in the place of the one there, unchecked."""
        if strip_id == MASTER:
            return self.model_copy(update={"master": strip})
        place = "tracks" if strip_id in self.tracks else "buses"
        return self.model_copy(update={place: {**getattr(self, place), strip_id: strip}})


def recordings_of(document: Document) -> Iterator[tuple[str, str]]:
    """Every strip, by its id, with each recording that its chain or one of its drafts uses."""
    for strip_id in (*document.tracks, *document.buses, MASTER):
        strip = document.strip(strip_id)
        for chain in (strip.chain, *(draft.chain for draft in strip.drafts.values())):
            yield from ((strip_id, name) for entry in chain for name in recordings(entry.settings).values())


def parse_document(text: str) -> Document:
    """A document from its JSON, or SettingsError."""
    try:
        return Document.model_validate_json(text)
    except pydantic.ValidationError as error:
        raise SettingsError(f"The session cannot be read: {_first_sentence(error, Document)}") from error
