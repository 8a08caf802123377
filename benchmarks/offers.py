"""What the desk does by itself on takes it was not tuned to: every offer over every take it is meant for, at three
levels, measured against the truth of these takes; a table of what was promised, what came, and whether that is right.

    python -m benchmarks.offers FOLDER [OFFER ...]

FOLDER holds sets, each a folder with its takes and a truth.json as the practice takes have it (README beside the script
that makes them). An offer that says it does not reach what was asked is "honest", not right.
"""

import json
import sys
from collections import Counter
from collections.abc import Callable, Iterator
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from tests.conftest import sound_of

from reins.core.chainfile import parse_entry, parse_settings, settings_over
from reins.core.dsp.filters import butterworth_cut, run_sections
from reins.core.finding.excerpt import Excerpt
from reins.core.finding.marks import Marks
from reins.core.kinds import KINDS
from reins.core.starting_points import STARTING_POINTS
from reins.core.trials.aims import AIMS, Proposal, Work
from reins.core.trials.ducking import lay
from reins.core.trials.heard import HeardTake
from reins.core.trials.kept_promise import figures_of, in_words, misses
from reins.core.trials.kinding import as_kind_on_take
from reins.core.trials.laying import laid
from reins.core.trials.opening import opened_upward
from reins.core.trials.promising import laid_as_promised
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from reins.errors import ReinsError

LEVELS_DB = (0.0, -10.0, -20.0)
STRUCK, SUNG = ("kick", "snare", "claps"), ("voice", "speech")
NEXT_S = 0.25
SOURCES = {
    "kick": ("kick",), "snare": ("snare",), "drum bus": ("overhead",), "room": ("room",), "voice": ("voice",),
    "speech": ("speech",), "bass": ("bass",), "acoustic guitar": ("guitar",), "electric guitar": ("guitar",),
    "piano": ("keys",), "harmonium": ("keys", "strings"), "whole mix": ("bed",),
}  # fmt: skip
MARK_S, ABOUT_S = 0.005, 0.05
NEAR_ENOUGH = 1.0  # dB off what is promised, since it was laid by some of the take


class Strip:
    """A take at a level, and its truth."""

    def __init__(self, folder: Path, file: str, truth: dict[str, Any], level_db: float) -> None:
        samples, self.rate = soundfile.read(folder / file, always_2d=True)
        self.samples = np.ascontiguousarray(samples.T) * 10.0 ** (level_db / 20.0)
        self.name, self.truth, self.role = f"{folder.name}/{Path(file).stem}", truth, truth["role"]
        self.sound = sound_of(self.samples)
        self.marks = Marks.of(self.sound)
        self.seconds = self.samples.shape[1] / self.rate

    def hits_s(self) -> list[float]:
        """When it is struck."""
        return [hit["time"] for hit in self.truth.get("onsets", [])]

    def phrases(self) -> list[tuple[float, float]]:
        """Where somebody sings or speaks."""
        return [(one["start"], one["end"]) for one in self.truth.get("phrases", [])]

    def part(self, sound: np.ndarray, begin_s: float, end_s: float) -> np.ndarray:
        """Samples between two moments."""
        return sound[..., round(begin_s * self.rate) : round(end_s * self.rate)]


def power(sound: np.ndarray) -> float:
    """Mean square."""
    return float(np.mean(sound**2)) if sound.size else 0.0


def lost_db(before: np.ndarray, after: np.ndarray) -> float:
    """How much less power there is."""
    return 10.0 * float(np.log10(max(power(before), 1e-15) / max(power(after), 1e-15)))


def between(sound: np.ndarray, low_hz: float, high_hz: float, rate: int) -> np.ndarray:
    """What lies between two frequencies."""
    cuts = [butterworth_cut("low_cut", cutoff_hz=low_hz, order=4, sample_rate=rate)]
    cuts.append(butterworth_cut("high_cut", cutoff_hz=high_hz, order=4, sample_rate=rate))
    sections, out = np.concatenate(cuts), np.ascontiguousarray(sound).copy()
    run_sections(sections, np.zeros((len(sections), out.shape[0], 2)), out)
    return out


def made(strip: Strip, aim: str, kind: str, asked: float, base: dict[str, Any]) -> tuple[Proposal, np.ndarray]:
    """What an aim proposes for a take, and what that makes of it."""
    entry = parse_entry({"id": "p", "type": kind, "settings": base}, "offers")
    work = Work(Trial(strip.sound, [entry]), strip.marks, asked)
    proposal = AIMS[aim].propose(work)
    trial = Trial(strip.sound, [work.with_settings(proposal.settings)])
    blocks = trial.run(0, strip.samples.shape[1], block_frames=4800)
    return proposal, np.concatenate([block.copy() for block, _ in blocks], axis=1)


Row = tuple[str, str, bool, bool]  # promised, got, right, said to be reached


def duck(strip: Strip, asked: float = 9.0) -> Iterator[Row]:
    """A ducker drawn from this strip."""
    if strip.role not in (*STRUCK, *SUNG):
        return
    entry = parse_entry({"id": "d", "type": "ducker", "settings": {"key": {"source": "k"}}}, "offers")
    by_key = lay(entry, {"k": strip.sound}, strip.marks, asked)
    assert by_key is not None
    settings = {**by_key.settings}
    work = Work(Trial(strip.sound, [entry]), strip.marks, asked)
    flat = sound_of(np.ones((1, strip.samples.shape[1])))
    trial = Trial(flat, [work.with_settings(settings)], {"k": strip.sound})
    out = np.concatenate([b[0].copy() for b, _ in trial.run(0, flat.facts.frames, block_frames=4800)])
    gain = 20.0 * np.log10(np.maximum(out, 1e-6))
    held = 100.0 * float(np.mean(gain < -1.0))
    if strip.role in STRUCK:
        hits = strip.hits_s()
        depth = -float(np.median([np.median(strip.part(gain, at, at + 0.08)) for at in hits]))
        far = [b for a, b in pairwise(hits) if b - a > NEXT_S]
        back = 100.0 * float(np.mean([strip.part(gain, b - 0.04, b - 0.001).max() > -1.0 for b in far]))
        right = abs(depth - asked) <= 2.0 and back >= 80.0 and held <= 65.0
        yield f"{asked:g} dB, back", f"{depth:.1f} dB, back {back:.0f} %, held {held:.0f} %", right, by_key.reached
        return
    phrases = strip.phrases()
    down = 100.0 * float(np.mean([strip.part(gain, a, a + 0.3).min() < 1.0 - asked for a, _ in phrases]))
    ends = [b for (_, b), (a, _) in pairwise([*phrases, (strip.seconds, 0.0)]) if a - b > 0.8]
    back = 100.0 * float(np.mean([strip.part(gain, b, b + 0.8).max() > -1.0 for b in ends])) if ends else 100.0
    got = f"down in 300 ms {down:.0f} %, back in 800 {back:.0f} %, held {held:.0f} %"
    yield f"{asked:g} dB, back", got, down >= 90.0 and back >= 90.0, by_key.reached


def silence(strip: Strip, asked: float = 24.0) -> Iterator[Row]:
    """Aim "Silence between"."""
    for kind in ("gate", "expander") if strip.role in SUNG else ():
        proposal, out = made(strip, "silence", kind, asked, {})
        phrases = strip.phrases()
        edges = [0.0, *(edge for span in phrases for edge in span), strip.seconds]
        pauses = [(a + (0.15 if a else 0.0), b - 0.05) for a, b in zip(edges[::2], edges[1::2], strict=True)]
        quiet = [np.concatenate([strip.part(x, *p)[0] for p in pauses if p[1] > p[0]]) for x in (strip.samples, out)]
        first = [lost_db(*(strip.part(x, a, a + 0.05) for x in (strip.samples, out))) for a, _ in phrases]
        last = [lost_db(*(strip.part(x, b - 0.15, b) for x in (strip.samples, out))) for _, b in phrases]
        got, edge = lost_db(*quiet), max(float(np.quantile(first, 0.9)), float(np.quantile(last, 0.9)))
        right = abs(got - asked) <= 2.0 and edge <= 1.5
        yield f"{kind} {asked:g} dB", f"{got:.1f} dB, edges lose {edge:.1f}", right, proposal.reached


def esses(strip: Strip, asked: float = 6.0) -> Iterator[Row]:
    """Aim "Hold the esses"."""
    spans = [(one["start"], one["end"]) for one in strip.truth.get("sibilants", [])]
    if strip.role not in SUNG or not spans:
        return
    base = {"relative": True, "threshold_db": -20.0, "attack_ms": 1.0, "release_ms": 60.0}
    proposal, out = made(strip, "esses", "deesser", asked, base)
    figures = proposal.figures
    own, treble = ([between(x, low, high, strip.rate) for x in (strip.samples, out)]
                   for low, high in ((figures["low_hz"], figures["high_hz"]), (4000.0, 12000.0)))  # fmt: skip
    got = float(np.median([lost_db(*(strip.part(x, a, b) for x in own)) for a, b in spans]))
    vowels = [(a, b) for begin, end in strip.truth["speech"] for a, b in gaps(begin, end, spans) if b - a > 0.08]
    dulled = float(np.median([lost_db(*(strip.part(x, a, b) for x in treble)) for a, b in vowels]))
    right = abs(got - asked) <= 1.0 and dulled <= 1.0
    yield f"{asked:g} dB", f"{got:.1f} dB, vowels lose {dulled:.1f}", right, proposal.reached


def gaps(begin: float, end: float, spans: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """What of a stretch is no sibilant."""
    inside = sorted((max(a, begin), min(b, end)) for a, b in spans if a < end and b > begin)
    edges = [begin, *(edge for span in inside for edge in span), end]
    return list(zip(edges[::2], edges[1::2], strict=True))


def hold_hits(strip: Strip, asked: float = 4.0) -> Iterator[Row]:
    """Aim "Hold the hits": no result passes full scale where its source did not."""
    if strip.role not in STRUCK:
        return
    proposal, out = made(strip, "hits", "compressor", asked, {})
    top = 20.0 * float(np.log10(np.abs(out).max()))
    over = top > max(0.0, 20.0 * float(np.log10(np.abs(strip.samples).max())))
    yield f"{asked:g} dB", f"{proposal.figures['got_db']:.1f} dB, peak {top:.1f} dBFS", not over, proposal.reached


def opens(strip: Strip) -> Iterator[Row]:
    """Aim "Open on the hits"."""
    if strip.role not in (*STRUCK, "tom"):
        return
    proposal, out = made(strip, "open", "gate", 0.0, {})
    hits = strip.hits_s()
    kept = [lost_db(*(strip.part(x, at, at + 0.04) for x in (strip.samples, out))) < 3.0 for at in hits]
    yield f"{len(hits)} hits", f"{sum(kept)} kept", sum(kept) >= 0.95 * len(hits), proposal.reached


def points(strip: Strip) -> Iterator[Row]:
    """Every starting point of this source, by what it promises, measured anew over the whole take."""
    for point in STARTING_POINTS:
        promise = point.promise
        if promise is None or strip.role not in SOURCES[point.source]:
            continue
        entry = parse_entry({"id": "p", "type": point.type, "settings": point.settings}, "offers")
        found = laid_as_promised(Trial(strip.sound, [entry]), point)
        if found is None:
            continue
        settings = parse_settings(point.type, settings_over(entry, found.settings), "offers")
        take = HeardTake(Trial(Excerpt(strip.sound, [(0, strip.sound.facts.frames)]), [entry]), in_parts=False)
        done = take.run(settings)
        figures = figures_of(take, promise, settings, done)
        over = np.abs(done.made).max() > max(1.0, np.abs(take.came).max())
        right = not over and all(abs(off) <= NEAR_ENOUGH for off in misses(promise, figures).values())
        yield f"{point.name[:24]}", ("over full scale, " if over else "") + in_words(figures), right, found.reached


def marks(strip: Strip) -> Iterator[Row]:
    """Hits as they are found, which may be a key: nine of ten of those that are struck within 5 ms, few others."""
    struck = [one["time"] for one in strip.truth.get("onsets", []) if one.get("kind") not in ("sweep", "flam grace")]
    if strip.role not in (*STRUCK, "tom", "hats") or not struck:
        return
    found = np.array([hit.at_s for hit in strip.marks.hits])
    near = 100.0 * float(np.mean([found.size and np.abs(found - at).min() <= MARK_S for at in struck]))
    more = sum(np.abs(np.array(strip.hits_s()) - at).min() > ABOUT_S for at in found)
    yield f"{len(struck)} hits", f"{near:.0f} % within 5 ms, {more} that are none", near >= 90.0 and not more, True


def opening(strip: Strip) -> Iterator[Row]:
    """An expander turned round."""
    if strip.role not in (*STRUCK, "bass", "guitar"):
        return
    entry = parse_entry({"id": "p", "type": "expander", "settings": {"direction": "up"}}, "offers")
    settings, said = opened_upward(Trial(strip.sound, [entry]))
    made = entry.model_copy(update={"settings": parse_settings("expander", settings_over(entry, settings), "offers")})
    frames = strip.samples.shape[1]
    came, done = (measure_span(Trial(strip.sound, chain), None, 0, frames).result for chain in ([], [made]))
    louder = done.integrated_lufs - came.integrated_lufs
    right = louder <= 2.0 and done.peak_db <= max(came.peak_db, 0.0)
    yield "2 LU at most", f"{louder:.1f} LU louder, peak {done.peak_db:.1f} dBFS", right, bool(said)


def kinds(strip: Strip) -> Iterator[Row]:
    """Another kind of compressor, from the plain one to each: as deep within 1 dB, as loud within 0.5 LU."""
    if strip.role not in ("bass", "voice", "snare", "guitar"):
        return
    entry = parse_entry({"id": "p", "type": "compressor", "settings": {}}, "offers")
    settings, _ = laid(Trial(strip.sound, [entry]))
    entry = entry.model_copy(
        update={"settings": parse_settings("compressor", settings_over(entry, settings), "offers")}
    )
    frames = strip.samples.shape[1]

    def did(chain: list[Any]) -> tuple[float, float, float]:
        span = measure_span(Trial(strip.sound, chain), "p", 0, frames)
        told = span.statistics()
        return told["usual_db"], told["deepest_db"], span.result.integrated_lufs

    before = did([entry])
    for kind in KINDS:
        if kind != "compressor":
            made, said = as_kind_on_take(Trial(strip.sound, [entry]), kind)
            after = did([parse_entry({"id": "p", "type": kind, "settings": made.model_dump()}, "offers")])
            off = [abs(a - b) for a, b in zip(after, before, strict=True)]
            right = off[0] <= 1.0 and off[1] <= 1.0 and off[2] <= 0.5
            got = f"usually {off[0]:.1f}, deepest {off[1]:.1f} dB, {off[2]:.1f} LU off"
            yield kind, got, right, "cannot" not in said


OFFERS: dict[str, Callable[[Strip], Iterator[Row]]] = {
    "ducker": duck, "silence": silence, "esses": esses, "hits": hold_hits, "open": opens,
    "points": points, "marks": marks, "opening": opening, "kinds": kinds,
}  # fmt: skip


def main(folder: Path, names: list[str]) -> None:
    """Print the table of the offers named, and how many are right, honest and wrong."""
    counts: Counter[str] = Counter()
    for truth_file in sorted(folder.glob("*/truth.json")):
        for file, truth in json.loads(truth_file.read_text())["stems"].items():
            for level_db in LEVELS_DB:
                strip = Strip(truth_file.parent, file, truth, level_db)
                for name in names:
                    try:
                        rows = list(OFFERS[name](strip))
                    except ReinsError as error:
                        rows = [("", str(error), False, False)]
                    for promised, got, right, reached in rows:
                        verdict = "right" if right else "WRONG" if reached else "honest"
                        counts[f"{name} {verdict}"] += 1
                        print(
                            f"{strip.name:28} {level_db:4.0f} dB  {name:8} {promised:16} {got[:60]:60} {verdict}",
                            flush=True,
                        )
    print("\n".join(f"{what}: {count}" for what, count in sorted(counts.items())))


if __name__ == "__main__":
    main(Path(sys.argv[1]), sys.argv[2:] or list(OFFERS))
