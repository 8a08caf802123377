"""What a setting does, for the pictures: computed on request, the newest request of a desk wins.

Spans of whole takes are remembered for the chains last looked at, so zooming and scrolling only read them.
"""

import base64
from collections.abc import Callable, Iterable
from functools import partial
from typing import Any

import numpy as np

from reins.core.chainfile import ProcessorEntry
from reins.core.changes import SetProcessor
from reins.core.engine.bandlevels import above_pct, above_spectrum_db, shares_pct, threshold_of
from reins.core.engine.entries import wants_spectrum
from reins.core.finding.marks import Marks
from reins.core.measure.folding import BIN_FRAMES, STEPS_PER_DB
from reins.core.measure.levels import Level, measure_source
from reins.core.measure.span import Span
from reins.core.measure.tap import Tap, quietest_tenth_db
from reins.core.processors import PROCESSORS
from reins.core.processors.base import driven_db
from reins.core.processors.oversampling import offer
from reins.core.routing import key_source
from reins.core.sessions import Document
from reins.core.sound import Sound
from reins.core.trials.overmuch import TooMuch, too_much
from reins.core.trials.pictures import burst, curve, frequency, harmonics, histogram_of, level_histogram
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from reins.errors import InputError
from reins.services.editing import document_of
from reins.services.house import House
from reins.services.marking import Marking
from reins.services.newest import Newest
from reins.services.remembered import Remembered
from reins.services.sounds import Sounds

REMEMBERED = 120  # a few for each strip that is gone to and fro between
REMEMBERED_BINS = 1_000_000  # 24 bytes each: four whole takes of five minutes
MAX_COLUMNS = 4096
OVERVIEW_COLUMNS = 800
EXCERPT_S = 5.0


class Previews:
    """Answers preview requests of all desks."""

    def __init__(self, house: House, sounds: Sounds, marking: Marking) -> None:
        self._house, self._sounds, self._marking = house, sounds, marking
        self._newest = Newest()
        self._known = Remembered(REMEMBERED, fits=_fit)
        self._drawn = Remembered(REMEMBERED)
        self._overdone = Remembered(REMEMBERED)

    def preview(
        self, session_id: str, strip_id: str, *, desk: str, number: int, processor_id: str | None,
        settings: dict[str, Any], start: int, frames: int, columns: int, whole: bool, excerpt: bool = False,
    ) -> dict[str, Any]:  # fmt: skip
        """Envelopes by column for frames start .. start + frames of a strip, and what the processor did.

        settings override the processor's kept ones, as during a drag. With `whole`, everything is measured over the
        whole take; with `excerpt`, over some seconds where it is loudest, which are named, so that of a long take there
        are figures at once. Raises CancelledError as soon as the same desk sends a request with a higher number.
        """
        check = self._newest.check(desk, number)
        if not (0 < columns <= MAX_COLUMNS and frames > 0 and start >= 0):
            raise InputError(
                f"columns is {columns}, frames {frames}, start {start}; allowed: 1 to {MAX_COLUMNS} columns."
            )
        document = document_of(self._house, session_id)
        if processor_id and settings:
            tried = SetProcessor(kind="set_processor", strip_id=strip_id, processor_id=processor_id, settings=settings)
            document, _ = tried.apply(document)
        chain = document.strip(strip_id).chain
        sound, name = self._sounds.source(document, strip_id, check)
        keys, key_name = self._sounds.keys(document, strip_id, check)
        strip = document.strip(strip_id)
        if excerpt:
            start, frames = _loudest(sound)
        trial = Trial(sound, chain, keys, document.beat, strip.reins, strip)
        span, source = self._spans_of(f"{name} {key_name}", trial, processor_id, start, frames, whole, check)
        answer: dict[str, Any] = {**_envelopes(sound, span, start, frames, columns)}
        answer |= {"number": number, "whole": whole, "statistics": _statistics(span)}
        answer |= {"excerpt": [start, frames]} if excerpt else {}
        answer |= {"gate": span.gate and _with_bars(span.gate, span, document)}
        answer |= {
            "states": span.state_columns(start, frames, columns),
            "ribbon": _ribbon(span, start, frames, columns),
        }
        answer |= {"source": _level(source), "result": _level(span.result), "histogram": _histogram(span)}
        answer |= {"before": _tapped(span.before), "after": _tapped(span.after)}
        answer |= _where_it_acts(span, start, frames, columns)
        answer |= _over_all(span, sound) if whole else {}
        if whole and processor_id in {entry.id for entry in chain}:
            marks = partial(self._marking.marks, document, strip_id, check)
            answer["too_much"] = self._too_much(f"{name} {key_name}", trial, processor_id or "", span, marks)
        for entry in chain:
            if entry.id == processor_id:
                heard = keys.get(key_source(entry))
                answer["key_db"] = None if heard is None else _db(heard.peak_columns(start, frames, columns))
                watched = span.heard_columns(start, frames, columns)
                if heard is None and watched is not None:
                    answer["key_db"] = _db(watched)
                bands = _bands(span, start, frames, columns)
                answer |= {
                    "offer": offer(entry.settings),
                    "bands": bands,
                    "heard": _heard(span, entry, document.sample_rate),
                }
                answer |= self._pictures(entry, document.sample_rate, sound)
                answer["held_map"] = _held_map(span, start, frames, columns)
        return answer

    def _pictures(self, entry: ProcessorEntry, rate: int, sound: Sound) -> dict[str, Any]:
        """What the views of a processor show beside the take; made anew only where its settings are others."""
        if wants_spectrum([entry]):
            return _pictures(entry, rate, sound.spectrum())
        made = (entry.model_dump_json(), rate)
        pictures: dict[str, Any] = self._drawn.get(made, lambda: _pictures(entry, rate, None))
        return pictures

    def _too_much(
        self, name: str, trial: Trial, processor_id: str, span: Span, marks: Callable[[], Marks]
    ) -> dict[str, Any] | None:
        """What a processor overdoes on the whole of a sound, and its cure; found anew only where anything is other."""
        parts = (*trial.entries, *trial.reins, *([] if trial.strip is None else [trial.strip]))
        made = (name, processor_id, trial.beat, *(part.model_dump_json() for part in parts))
        found: TooMuch | None = self._overdone.get(made, lambda: too_much(trial, processor_id, span, marks))
        return None if found is None else vars(found)

    def levels(self, session_id: str, strip_id: str) -> dict[str, Any]:
        """How long the strip's sound sits at each level, and its peaks from end to end."""
        sound, name = self._sounds.source(document_of(self._house, session_id), strip_id)
        whole = {
            "frames": sound.facts.frames,
            "overview_db": _db(sound.peak_columns(0, sound.facts.frames, OVERVIEW_COLUMNS)),
        }
        return self._known.get(("levels", name), lambda: level_histogram(sound)) | whole

    def _spans_of(
        self, name: str, trial: Trial, processor_id: str | None, start: int, frames: int, whole: bool,
        check: Callable[[], None],
    ) -> tuple[Span, Level]:  # fmt: skip
        take = trial.sound
        length = take.facts.frames
        if whole:
            start, frames = 0, length
        start = min(start, length - 1) // BIN_FRAMES * BIN_FRAMES
        frames = min(frames + BIN_FRAMES, length - start)
        strip: Any = trial.strip
        put_out = strip.chain_on, strip.chain_mix_pct, strip.puts_out
        made = (trial.beat, put_out, *(part.model_dump_json() for part in (*trial.entries, *trial.reins)))
        place = (name, start, frames)
        source = self._known.get((*place, "source"), lambda: measure_source(take, start, frames, check))
        span = self._known.get(
            (*place, made, processor_id), lambda: measure_span(trial, processor_id, start, frames, check)
        )
        return span, source


def _loudest(sound: Sound) -> tuple[int, int]:
    """(first frame, frames) of the loudest EXCERPT_S of a sound."""
    frames = sound.facts.frames
    part = min(round(EXCERPT_S * sound.facts.sample_rate), frames)
    count = max(frames // part, 1)
    return int(np.argmax(sound.peak_columns(0, count * part, count))) * part, part


def _statistics(span: Span) -> dict[str, Any]:
    return span.statistics() | span.lifts() | {"return_s": span.return_s}


def _ribbon(span: Span, start: int, frames: int, columns: int) -> dict[str, Any] | None:
    """Who of several detectors is in charge by column, for how much of the time, and what each hears."""
    found = span.ribbon_columns(start, frames, columns)
    if found is None or span.ribbon is None:
        return None
    heard_db = {name: np.round(row.astype(np.float64), 1).tolist() for name, row in found[1].items()}
    return {"in_charge": found[0], "shares_pct": span.ribbon.shares_pct(), "heard_db": heard_db}


def _where_it_acts(span: Span, start: int, frames: int, columns: int) -> dict[str, Any]:
    """What comes to the processor and what it makes, by column; None where that is the strip's source or result."""
    before, after = (span.tap_columns(tap, start, frames, columns) for tap in (span.before, span.after))
    return {"before_db": None if before is None else _db(before), "after_db": None if after is None else _db(after)}


def _over_all(span: Span, sound: Sound) -> dict[str, Any]:
    """The same as a whole, and how long what comes sits at each level; quietest_db: before and after the processor, of
    the quietest tenth of the time in which what comes is not silent.
    """
    peaks = span.before.peaks if span.before else sound.peak_columns(span.start, span.frames, span.peaks.size)
    quiet = [quietest_tenth_db(row, peaks) for row in (peaks, span.after.peaks if span.after else span.peaks)]
    return {
        "steady_db": span.steady_db(), "quietest_db": quiet,
        "before_levels": span.before and histogram_of(span.before.peaks),
    }  # fmt: skip


def _held_map(span: Span, start: int, frames: int, columns: int) -> str | None:
    """What was held over time and frequency: a byte each for columns and rows as the map's, 128 + twice the gain in dB,
    as base64.
    """
    if span.held_map is None:
        return None
    codes = span.held_map.columns(start - span.start, frames, columns).astype(np.int16) + 128
    return base64.b64encode(codes.astype(np.uint8).tobytes()).decode()


def _pictures(entry: ProcessorEntry, rate: int, spectrum: np.ndarray | None) -> dict[str, Any]:
    """What the views of a processor show beside the take; None for those it has not."""
    views = PROCESSORS[entry.type].views
    return {
        "line": _line(entry),
        "curve": curve(entry) if "in_out" in views else None,
        "burst": burst(entry, sample_rate=rate) if "burst" in views else None,
        "harmonics": harmonics(entry) if "harmonics" in views else None,
        "frequency": frequency(entry, sample_rate=rate, spectrum=spectrum) if "spectrum" in views else None,
    }


def _line(entry: ProcessorEntry) -> dict[str, Any] | None:
    """The level of the source from which it acts, and by how much it hears it louder."""
    kind = PROCESSORS[entry.type]
    if kind.line is None:
        return None
    return {
        "id": entry.id,
        "db": kind.acts_from_db(entry.settings),
        "driven_db": driven_db(entry.settings),
    }


def _fit(values: Iterable[Any]) -> bool:
    """Whether spans are few and short enough to be kept."""
    spans = [value for value in values if isinstance(value, Span)]
    return sum(span.peaks.size * (3 + len(span.bands)) // 3 for span in spans) <= REMEMBERED_BINS


def _envelopes(take: Sound, span: Span, start: int, frames: int, columns: int) -> dict[str, list[float]]:
    peaks, deepest, highest = span.columns(start, frames, columns)
    return {
        "source_db": _db(take.peak_columns(start, frames, columns)), "result_db": _db(peaks),
        "held_db": np.round(deepest, 2).tolist(), "let_db": np.round(highest, 2).tolist(),
    }  # fmt: skip


def _bands(span: Span, start: int, frames: int, columns: int) -> dict[str, dict[str, Any]]:
    """By band what it did in each column, and over the span."""
    return {
        name: span.bands[name].statistics(span.frames)
        | {
            "held_db": np.round(low.astype(np.float64), 1).tolist(),
            "let_db": np.round(high.astype(np.float64), 1).tolist(),
        }
        for name, (low, high) in span.band_columns(start, frames, columns).items()
    }


def _heard(span: Span, entry: ProcessorEntry, rate: int) -> dict[str, dict[str, Any]]:
    """By band how long what its detector hears sits at each half dB from -100 on, and for how much of the time it is
    above the threshold; and how much lower a level of it lies across a spectrum.
    """
    told = {}
    for name, loudest in span.loudest.items():
        threshold_db = threshold_of(entry, name)
        if threshold_db is not None:
            above_db = above_spectrum_db(entry, name, rate)
            shares = {"share_pct": shares_pct(loudest), "above_pct": above_pct(loudest, threshold_db)}
            told[name] = shares | {"above_spectrum_db": round(above_db, 2)}
    return told


def _with_bars(gate: dict[str, float | None], span: Span, document: Document) -> dict[str, float | None]:
    """What a gate did, with its openings a bar at the session's tempo."""
    bars = span.frames / document.sample_rate * document.tempo_bpm / 60.0 / document.beats_per_bar
    return gate | {"openings_per_bar": (gate["openings"] or 0) / bars}


def _db(amplitude: np.ndarray) -> list[float]:
    rounded: list[float] = np.round(20.0 * np.log10(np.maximum(amplitude, 1e-6)), 2).tolist()
    return rounded


def _tapped(tap: Tap | None) -> dict[str, float | None] | None:
    return None if tap is None else _level(tap.level())


def _level(level: Level) -> dict[str, float | None]:
    return {"crest_db": level.crest_db, "integrated_lufs": level.integrated_lufs, "peak_db": level.peak_db}


def _histogram(span: Span) -> list[float]:
    """Share of the span in percent held by each half dB, from 0.5 up, as far as anything is held."""
    counts = span.histogram + span.lifted
    halves = counts[STEPS_PER_DB // 2 : -1].reshape(-1, STEPS_PER_DB // 2).sum(axis=1)
    halves[-1] += counts[-1]
    used = np.flatnonzero(halves)
    shares: list[float] = np.round(100.0 * halves[: used[-1] + 1 if used.size else 0] / span.frames, 3).tolist()
    return shares
