"""What a setting does, for the pictures: computed on request, the newest request of a desk wins.

Spans of whole takes are remembered for the chains last looked at, so zooming and scrolling only read them.
"""

import threading
from collections import OrderedDict
from collections.abc import Callable
from typing import Any

import numpy as np

from reins.core.chainfile import ProcessorEntry
from reins.core.changes import SetProcessor
from reins.core.measure.folding import BIN_FRAMES
from reins.core.measure.pictures import burst, curve, level_histogram
from reins.core.measure.span import Level, Span, measure_source, measure_span
from reins.core.takes import Take
from reins.errors import CancelledError, InputError
from reins.services.editing import document_of
from reins.services.house import House

REMEMBERED = 24
REMEMBERED_BINS = 1_000_000  # 24 bytes each: four whole takes of five minutes
MAX_DESKS = 100
MAX_COLUMNS = 4096


class Previews:
    """Answers preview requests of all desks."""

    def __init__(self, house: House) -> None:
        self._house = house
        self._lock = threading.Lock()
        self._newest: OrderedDict[str, int] = OrderedDict()
        self._spans: OrderedDict[Any, Any] = OrderedDict()

    def preview(
        self, session_id: str, track_id: str, *, desk: str, number: int, processor_id: str | None,
        settings: dict[str, Any], start: int, frames: int, columns: int, whole: bool,
    ) -> dict[str, Any]:  # fmt: skip
        """Envelopes by column for frames start .. start + frames of a track, and what the processor did.

        settings override the processor's kept ones, as during a drag. With `whole`, everything is measured over the
        whole take. Raises CancelledError as soon as the same desk sends a request with a higher number.
        """
        check = self._newer_stops(desk, number)
        if not (0 < columns <= MAX_COLUMNS and frames > 0 and start >= 0):
            raise InputError(
                f"columns is {columns}, frames {frames}, start {start}; allowed: 1 to {MAX_COLUMNS} columns."
            )
        document = document_of(self._house, session_id)
        if processor_id and settings:
            trial = SetProcessor(kind="set_processor", track_id=track_id, processor_id=processor_id, settings=settings)
            document, _ = trial.apply(document)
        track = document.track(track_id)
        take = self._house.take(track.take_id)
        span, source = self._spans_of(track.take_id, take, track.chain, processor_id, start, frames, whole, check)
        answer = _envelopes(take, span, start, frames, columns)
        answer |= {"number": number, "whole": whole, "statistics": span.statistics()}
        answer |= {"source": _level(source), "result": _level(span.result), "histogram": _histogram(span)}
        for entry in track.chain:
            if entry.id == processor_id:
                answer |= {"curve": curve(entry), "burst": burst(entry, sample_rate=document.sample_rate)}
        return answer

    def levels(self, session_id: str, track_id: str) -> dict[str, Any]:
        """How long the track's take sits at each level."""
        take_id = document_of(self._house, session_id).track(track_id).take_id
        take = self._house.take(take_id)
        return self._remembered(("levels", take_id), lambda: level_histogram(take))

    def _newer_stops(self, desk: str, number: int) -> Callable[[], None]:
        with self._lock:
            self._newest[desk] = max(number, self._newest.pop(desk, number))
            while len(self._newest) > MAX_DESKS:
                self._newest.popitem(last=False)

        def check() -> None:
            if self._newest.get(desk, number) > number:
                raise CancelledError("A newer change is being drawn.")

        return check

    def _remembered(self, key: Any, make: Callable[[], Any]) -> Any:
        with self._lock:
            if key in self._spans:
                self._spans.move_to_end(key)
                return self._spans[key]
        value = make()
        with self._lock:
            self._spans[key] = value
            while len(self._spans) > 1 and (len(self._spans) > REMEMBERED or self._bins() > REMEMBERED_BINS):
                self._spans.popitem(last=False)
        return value

    def _bins(self) -> int:
        return sum(value.peaks.size for value in self._spans.values() if isinstance(value, Span))

    def _spans_of(
        self, take_id: str, take: Take, chain: list[ProcessorEntry], processor_id: str | None,
        start: int, frames: int, whole: bool, check: Callable[[], None],
    ) -> tuple[Span, Level]:  # fmt: skip
        length = take.facts.frames
        if whole:
            start, frames = 0, length
        start = min(start, length - 1) // BIN_FRAMES * BIN_FRAMES
        frames = min(frames + BIN_FRAMES, length - start)
        made = tuple(entry.model_dump_json() for entry in chain)
        place = (take_id, start, frames)
        source = self._remembered((*place, "source"), lambda: measure_source(take, start, frames, check))
        span = self._remembered(
            (*place, made, processor_id), lambda: measure_span(take, chain, processor_id, start, frames, check)
        )
        return span, source


def _envelopes(take: Take, span: Span, start: int, frames: int, columns: int) -> dict[str, list[float]]:
    peaks, deepest, highest = span.columns(start, frames, columns)
    return {
        "source_db": _db(take.peak_columns(start, frames, columns)), "result_db": _db(peaks),
        "held_db": np.round(deepest, 2).tolist(), "let_db": np.round(highest, 2).tolist(),
    }  # fmt: skip


def _db(amplitude: np.ndarray) -> list[float]:
    rounded: list[float] = np.round(20.0 * np.log10(np.maximum(amplitude, 1e-6)), 2).tolist()
    return rounded


def _level(level: Level) -> dict[str, float | None]:
    return {"crest_db": level.crest_db, "integrated_lufs": level.integrated_lufs, "peak_db": level.peak_db}


def _histogram(span: Span) -> list[float]:
    """Share of the span in percent held by each half dB, from 0.5 up, as far as anything is held."""
    counts = span.histogram + span.lifted
    halves = counts[1:-1:2] + counts[2::2]
    used = np.flatnonzero(halves)
    shares: list[float] = np.round(100.0 * halves[: used[-1] + 1 if used.size else 0] / span.frames, 3).tolist()
    return shares
