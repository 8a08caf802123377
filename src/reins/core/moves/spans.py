"""How far reins take settings, known before they do: what is dear to work out is then ready when sound gets there."""

import contextlib
from collections.abc import Sequence
from typing import Any

import numpy as np

from reins.core.moves.models import ByLine, Rein
from reins.core.moves.rules import STRIP, found, ways_at
from reins.core.moves.scales import Way
from reins.core.processors import PROCESSORS
from reins.core.processors.oversampling import times_of, within
from reins.core.settings.paths import value_at
from reins.errors import NotReadyError


def spans_of(reins: Sequence[Rein], entries: Sequence[Any]) -> dict[int, dict[str, tuple[float, float]]]:
    """By place in the chain and path the least and the greatest value a moved setting may take."""
    far: dict[tuple[int, str], tuple[Way, float, float]] = {}
    for rein in reins:
        for move in rein.moves if rein.on else ():
            place, path = found(move.what, entries)
            if place == STRIP:
                continue
            way = ways_at(place, entries, None)[path]
            rest = float(way.place(value_at(entries[place].settings, path)))
            values = [p.value for p in rein.by.points] if isinstance(rein.by, ByLine) else [move.to or 0.0]
            ends = [float(way.place(min(max(value, way.lowest), way.high))) - rest for value in values]
            _, low, high = far.get((place, path), (way, rest, rest))
            far[place, path] = way, low + min(0.0, *ends), high + max(0.0, *ends)
    spans: dict[int, dict[str, tuple[float, float]]] = {}
    for (place, path), (way, low, high) in far.items():
        low_value, high_value = way.value(np.array([low, high])).tolist()
        spans.setdefault(place, {})[path] = low_value, high_value
    return spans


def prepare_moved(reins: Sequence[Rein], entries: Sequence[Any], sample_rate: int) -> None:
    """Have processors that are on work out what their moved settings will come to."""
    for place, spans in spans_of(reins, entries).items():
        entry = entries[place]
        if entry.on:
            rate = sample_rate * times_of(entry.settings)
            with contextlib.suppress(NotReadyError):  # it goes on without it, then
                PROCESSORS[entry.type].prepare_moved(within(entry.settings), spans, rate)
