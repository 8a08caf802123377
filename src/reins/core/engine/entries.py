"""What a chain will be, from its entries alone: how each is made, latency, channels, how long it takes to settle."""

from typing import Any

from reins.core.chainfile import ProcessorEntry
from reins.core.processors import PROCESSORS
from reins.core.processors.making import Make
from reins.core.remembering import BySettings

MOST_SETTLING_S = 14.0  # of sound through one processor
_makes: BySettings[Make] = BySettings()


def make_of(entry: ProcessorEntry, *, sample_rate: int, on_take: bool) -> Make:
    """What an entry is made as; remembered by the settings themselves, since it is asked at every step of a drag."""
    return _makes.get(
        entry.settings, (sample_rate, on_take),
        lambda: Make.of(entry.type, entry.settings, sample_rate=sample_rate, on_take=on_take),
    )  # fmt: skip


def chain_latency(entries: list[ProcessorEntry], *, sample_rate: int, on_take: bool) -> int:
    """Frames by which the result of a chain comes later than its source."""
    return sum(make_of(entry, sample_rate=sample_rate, on_take=on_take).latency_frames for entry in entries if entry.on)


def channels_after(entries: list[ProcessorEntry], channels: int) -> int:
    """How many channels a chain gives where so many come in."""
    for entry in entries:
        if entry.on:
            channels = PROCESSORS[entry.type].channels_out(entry.settings, channels)
    return channels


def settling_frames(entries: list[ProcessorEntry], sample_rate: int) -> int:
    """Frames a fresh chain has to hear until it stands as if it had always run, as far as that can be afforded."""
    on = [entry for entry in entries if entry.on]
    seconds = max((PROCESSORS[entry.type].settling_s(entry.settings) for entry in on), default=0.0)
    return round(min(seconds, MOST_SETTLING_S / max(len(on), 1)) * sample_rate)


def wants_spectrum(entries: list[ProcessorEntry]) -> bool:
    """Whether a chain matches loudness by the spectrum of its take, or compares with it."""

    def wants(settings: Any) -> bool:
        return bool(getattr(settings, "match_loudness", False)) or getattr(settings, "reference", "") == "own_mean"

    return any(entry.on and wants(entry.settings) for entry in entries)
