"""How a ducker is laid by its key, and what it then does: by the key's hits where it is struck, so that it is back
before the next; by its phrases where it speaks, sings or plays on. Laid by what its own detector hears, then run and
measured: what is said of it is what was measured.

A key that rings into its next hit is heard through a low cut, under which its beater stands out alone.
"""

from collections.abc import Mapping
from dataclasses import replace
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.chainfile import ProcessorEntry, parse_settings, settings_over
from reins.core.finding.excerpt import Excerpt
from reins.core.finding.marks import Marks
from reins.core.settings.fields import limits_of, place_of
from reins.core.sound import Sound
from reins.core.trials.offered import Laid, counted, in_db
from reins.core.trials.running import Trial
from reins.core.trials.striking import struck

Array = npt.NDArray[np.float64]
HOP_S = 0.005
HOPS = 400  # worked on at a time
LOW_CUTS_HZ = (200.0, 800.0, 2500.0)  # tried one after the other on a key that rings on
STANDS_OUT_DB = 10.0  # hits over what is between them
SOFT, FOLLOWED_DB = (0.1, 0.25, 0.4), 3.0  # shares of soft hits that may pass, and how far under the others it heeds
AT_HIT_S, NEXT_S = 0.08, 0.25  # in which depth counts; distances that count for being back
BEFORE_S = 0.06  # a hit may begin so much before it is marked
MOST_HELD = 0.6
DOWN_S, TRIES, BACK_SOUGHT = 0.003, 5, 0.9
BACK_DB = 1.0  # nearer than that it is back
DOWN_WITHIN_S, BACK_WITHIN_S = 0.3, 0.8  # of a phrase
PHRASE_HOLD_S = 0.25
SHORTEST_S, LONG_S, PART_S = 0.2, 60.0, 20.0
# What it may miss by: of the depth, of being back, of the time.
MISS_DB, LEAST_BACK, MOST_SHARE = 2.0, 0.8, 0.65


def some_of(key: Sound) -> Sound:
    """All of a key that is not long; of a long one the loudest twenty seconds, and two parts elsewhere."""
    rate, frames = key.facts.sample_rate, key.facts.frames
    if frames <= LONG_S * rate:
        return key
    part = round(PART_S * rate)
    count = frames // part
    loudest = int(np.argmax(key.peak_columns(0, count * part, count)))
    chosen = sorted({loudest, count // 4, (3 * count) // 4})
    return Excerpt(key, [(place * part, (place + 1) * part) for place in chosen])


def lay(entry: ProcessorEntry, keys: Mapping[str, Sound], key: Marks, asked_db: float) -> Laid | None:
    """A ducker laid by its key, of which is given what is found in it, beside all sounds that its settings name; None
    where it is silent, or too short to find anything in.
    """
    facts = key.sound.facts
    if facts.frames < SHORTEST_S * facts.sample_rate or key.frames.level_db().max() < -90.0:
        return None
    if not key.hits and not key.phrases:
        return None
    ducker = _Ducker(entry, keys, key, asked_db)
    laid = _by_hits(ducker) if struck(key) else _by_phrases(ducker)
    heard = "heard in parts of it, the loudest too: " if isinstance(key.sound, Excerpt) else ""
    return replace(laid, said=heard + laid.said, runs=ducker.runs)


class _Ducker:
    """A ducker on its key."""

    def __init__(self, entry: ProcessorEntry, keys: Mapping[str, Sound], key: Marks, asked_db: float) -> None:
        self.entry, self.keys, self.key = entry, keys, key
        self.own: Any = entry.settings
        low, high = limits_of(place_of(type(entry.settings), "amount_db"))
        self.asked_db = min(max(asked_db, low), high)
        self.hop = round(HOP_S * key.frames.sample_rate)
        self.per_s = key.frames.sample_rate / self.hop
        self.runs = 0
        self._known: dict[float, tuple[Array, Array, list[float]]] = {}

    def within(self, path: str, value: float) -> float:
        """A value within a setting's limits."""
        low, high = limits_of(place_of(type(self.entry.settings), path))
        return round(float(min(max(value, low), high)), 1)

    def with_settings(self, changes: dict[str, Any]) -> ProcessorEntry:
        """The ducker with settings changed by path."""
        settings = parse_settings(self.entry.type, settings_over(self.entry, changes), self.entry.type)
        return self.entry.model_copy(update={"on": True, "settings": settings})

    def heard_and_held(self, changes: dict[str, Any]) -> tuple[Array, Array]:
        """The level its detector hears and its gain, both in dB: the highest and the lowest of each five milliseconds.
        It is run on its own key: what it does does not hang on what it holds.
        """
        self.runs += 1
        sound = self.key.sound
        entry = self.with_settings(changes)
        trial = Trial(sound, [entry], self.keys)
        chain = trial.chain()
        level, gain = [], []
        for _, told in trial.run(0, sound.facts.frames, block_frames=HOPS * self.hop, chain=chain):
            heard = chain.heard(entry.id)
            row = np.abs(heard.signal).max(axis=0) if heard is not None else np.zeros_like(told[0])
            level.append(row.copy())
            gain.append(told[0].copy())
        peaks, gains = np.concatenate(level), np.concatenate(gain)
        whole = min(peaks.size, gains.size) // self.hop * self.hop
        folded = peaks[:whole].reshape(-1, self.hop).max(axis=1)
        return 20.0 * np.log10(np.maximum(folded, 1e-6)), gains[:whole].reshape(-1, self.hop).min(axis=1)

    def at_hits(self, cut_hz: float) -> tuple[Array, Array, list[float]]:
        """By a low cut of the key: the level that is heard, its top at each hit, and the least between those that lie
        far enough apart.
        """
        if cut_hz not in self._known:
            at = [self.at(hit.at_s) for hit in self.key.hits]
            level, _ = self.heard_and_held({"key.low_cut_hz": cut_hz, "key.gain_db": 0.0})
            tops = np.array([level[max(a - 1, 0) : a + 12].max(initial=-120.0) for a in at])
            between = [float(level[a + 8 : b - 8].min()) for a, b in pairwise(at) if b - a >= self.at(NEXT_S)]
            self._known[cut_hz] = level, tops, between
        return self._known[cut_hz]

    def at(self, seconds: float) -> int:
        """The place of a moment among the hops."""
        return int(seconds * self.per_s)

    def levels(self, floor_db: float) -> dict[str, Any]:
        """Settings by which it goes down all the way as soon as the key is louder than that, and heeds nothing below:
        by the key's gain where the threshold does not reach so far down.
        """
        lowest, _ = limits_of(place_of(type(self.entry.settings), "threshold_db"))
        gain_db = self.within("key.gain_db", np.ceil(max(0.0, lowest - (floor_db - self.asked_db - 1.0))))
        return {
            "key.gain_db": gain_db,
            "floor_db": self.within("floor_db", floor_db + gain_db),
            "threshold_db": self.within("threshold_db", floor_db + gain_db - self.asked_db - 1.0),
        }


def _by_hits(ducker: _Ducker) -> Laid:
    hits = ducker.key.hits
    at = [ducker.at(hit.at_s) for hit in hits]
    own_cut = ducker.own.key.low_cut_hz
    best: tuple[float, float, float] | None = None
    for soft in SOFT:
        for cut_hz in (own_cut, *(hz for hz in LOW_CUTS_HZ if hz > own_cut)):
            level, tops, between = ducker.at_hits(cut_hz)
            top_db = float(np.quantile(tops, soft))
            stands = top_db - (float(np.quantile(between, 0.8)) if between else -120.0)
            if best is None or stands > best[0] + 1.0:
                best = stands, cut_hz, top_db
            if best[0] >= STANDS_OUT_DB:
                break
        if best is not None and best[0] >= STANDS_OUT_DB:
            break
    assert best is not None
    stands, cut_hz, top_db = best
    level = ducker.at_hits(cut_hz)[0]
    floor_db = top_db - min(FOLLOWED_DB, max(0.4 * stands, 0.5))
    above = level >= floor_db
    ends = [max(b - ducker.at(BEFORE_S), a + 1) for a, b in pairwise([*at, level.size])]
    open_s = [np.flatnonzero(above[a:b]) for a, b in zip(at, ends, strict=True)]
    lasts_s = float(np.quantile([(o[-1] + 1) / ducker.per_s if o.size else 0.0 for o in open_s], 0.8))
    gaps = np.array([b.at_s - a.at_s for a, b in pairwise(hits)])
    far = gaps[gaps >= NEXT_S] if (gaps >= NEXT_S).any() else gaps
    next_s = float(np.quantile(far, 0.2))
    held_s = min(next_s - 0.02, max(MOST_HELD * float(np.median(gaps)), lasts_s + 0.03))
    way = np.log(max(ducker.asked_db, 1.5) / (0.8 * BACK_DB))
    hold_s = float(np.clip(AT_HIT_S - 0.5 * lasts_s, 0.015, max(0.4 * (held_s - lasts_s), 0.015)))
    back_s = float(np.clip((held_s - lasts_s - hold_s) / way, 0.01, 0.4))
    down_s = DOWN_S
    for _ in range(TRIES):
        settings: dict[str, Any] = {
            "amount_db": round(ducker.asked_db, 1), "key.low_cut_hz": cut_hz, **ducker.levels(floor_db),
            "down_ms": round(1000.0 * down_s, 1), "hold_ms": round(1000.0 * hold_s), "back_ms": round(1000.0 * back_s),
            "auto_release": False, "rms_pct": 0.0,
        }  # fmt: skip
        laid = _measured_at_hits(
            ducker, {path: value for path, value in settings.items() if _differs(ducker, path, value)}
        )
        late = laid.figures["back_pct"] < 100.0 * BACK_SOUGHT or laid.figures["held_pct"] > 100.0 * MOST_SHARE
        if late:
            hold_s, back_s = max(0.6 * hold_s, 0.012), max(0.6 * back_s, 0.01)
        elif laid.figures["got_db"] < ducker.asked_db - 0.5 * MISS_DB:  # too short a hit to be heeded for long enough
            floor_db, down_s = floor_db - min(4.0, 0.3 * stands), 0.25 * down_s
        else:
            break
    return laid


def _differs(ducker: _Ducker, path: str, value: Any) -> bool:
    """Whether a setting is there to be laid, and is another than it is."""
    settings: Any = ducker.entry.settings
    for part in path.split("."):
        settings = getattr(settings, part)
    return bool(settings != value)


def _measured_at_hits(ducker: _Ducker, settings: dict[str, Any]) -> Laid:
    """What it does at the key's hits."""
    _, gain = ducker.heard_and_held(settings)
    at = [ducker.at(hit.at_s) for hit in ducker.key.hits]
    depth_db = -float(np.median([np.median(gain[a : a + round(AT_HIT_S * ducker.per_s)]) for a in at if a < gain.size]))
    far = [b for a, b in pairwise(at) if b - a >= ducker.at(NEXT_S) and b < gain.size]
    before = ducker.at(BEFORE_S)
    back_pct = 100.0 * float(np.mean([gain[b - before : b - 1].max() > -BACK_DB for b in far])) if far else 100.0
    deep = [gain[a : a + 2 * before].min() <= MISS_DB - ducker.asked_db for a in at if a < gain.size]
    held_pct = round(100.0 * float(np.mean(gain < -BACK_DB)), 1)  # as it is told and as it is said
    figures = {
        "got_db": round(depth_db, 2), "back_pct": round(back_pct, 1), "held_pct": held_pct,
        "hits": len(at), "followed": int(np.sum(deep)),
    }  # fmt: skip
    close = abs(depth_db - ducker.asked_db) <= MISS_DB
    fader = back_pct < 100.0 * LEAST_BACK or held_pct > 90.0
    some = figures["followed"] < len(at)
    followed = f"{figures['followed']} of {len(at)} hits" if some else counted(len(at), "hit")
    said = (
        f"{followed} of its key: {in_db(depth_db)} down in the first 80 ms of a hit, back within 1 dB before "
        f"{back_pct:.0f} % of the next, held {held_pct:.0f} % of the time"
    )
    if fader:
        said = (
            f"this is only a fader: {said}; the key does not fall between its hits, or they lie too close. "
            "Take a shorter sound for its key, or a low cut in it"
        )
    elif not close:
        said = f"not by {in_db(ducker.asked_db)}: {said}"
    return Laid(settings, figures, said, close and not fader)


def _by_phrases(ducker: _Ducker) -> Laid:
    key = ducker.key
    level, _ = ducker.heard_and_held({"key.gain_db": 0.0})
    inside = _inside(ducker, level.size)
    words = level[inside] if inside.any() else level
    noise_db = float(np.quantile(level[~inside], 0.95)) if (~inside).mean() > 0.03 else -120.0
    usual_db = float(np.quantile(words, 0.6))
    softest = float(np.quantile([level[ducker.at(a) : ducker.at(b)].max(initial=-120.0) for a, b in key.phrases], 0.1))
    floor_db = max(noise_db + 4.0, min(float(np.quantile(words, 0.3)), usual_db - 12.0, softest - 6.0))
    floor_db = min(floor_db, usual_db - 3.0)
    way = np.log(max(ducker.asked_db, 1.5) / (0.8 * BACK_DB))
    settings: dict[str, Any] = {
        "amount_db": round(ducker.asked_db, 1), **ducker.levels(floor_db), "down_ms": 30.0,
        "hold_ms": 1000.0 * PHRASE_HOLD_S, "back_ms": round(1000.0 * (BACK_WITHIN_S - 0.1 - PHRASE_HOLD_S) / way),
        "auto_release": False, "rms_pct": 0.0,
    }  # fmt: skip
    settings = {path: value for path, value in settings.items() if _differs(ducker, path, value)}
    _, gain = ducker.heard_and_held(settings)
    inside = inside[: gain.size]
    depth_db = -float(np.median(gain[inside[: gain.size]])) if inside.any() else 0.0
    down_s = [_first_s(ducker, gain, begin, lambda g: g < -0.7 * ducker.asked_db) for begin, _ in key.phrases]
    end_s = level.size / ducker.per_s
    apart = [end for (_, end), (begin, _) in pairwise([*key.phrases, (end_s, end_s)]) if begin - end > BACK_WITHIN_S]
    back_s = [_first_s(ducker, gain, end, lambda g: g > -BACK_DB) for end in apart]
    held_pct = round(100.0 * float(np.mean(gain < -BACK_DB)), 1)  # as it is told and as it is said
    in_time = np.mean([s <= DOWN_WITHIN_S for s in down_s]) if down_s else 1.0
    back_pct = 100.0 * float(np.mean([s <= BACK_WITHIN_S for s in back_s])) if back_s else 0.0
    figures = {
        "got_db": round(depth_db, 2), "held_pct": held_pct, "back_pct": round(back_pct, 1),
        "phrases": len(key.phrases), "key_noise_db": round(noise_db, 1), "key_db": round(usual_db, 1),
    }  # fmt: skip
    said = f"{counted(len(key.phrases), 'phrase')} of its key: {in_db(depth_db)} down while it sounds"
    if down_s:
        said += f", {1000 * float(np.median(down_s)):.0f} ms after it begins"
    said += f", back within 1 dB {1000 * float(np.median(back_s)):.0f} ms after it ends" if back_s else ""
    late = bool(back_s) and back_pct < 100.0 * LEAST_BACK
    said += f", in {back_pct:.0f} % of its pauses within {1000 * BACK_WITHIN_S:.0f} ms" if late else ""
    said += f"; held {held_pct:.0f} % of the time"
    fader = held_pct > 90.0
    if fader:
        said = f"this is only a fader: {said}; the key hardly ever rests. Take a key with pauses, or lower the fader"
    close = abs(depth_db - ducker.asked_db) <= MISS_DB and in_time >= LEAST_BACK and not late
    return Laid(settings, figures, said if close or fader else f"not as asked for: {said}", bool(close and not fader))


def _first_s(ducker: _Ducker, gain: Array, from_s: float, is_so: Any) -> float:
    """How long after a moment a gain is so for the first time."""
    first = ducker.at(from_s)
    found = np.flatnonzero(is_so(gain[first:]))
    return float(found[0]) / ducker.per_s if found.size else float(gain.size - first) / ducker.per_s


def _inside(ducker: _Ducker, size: int) -> npt.NDArray[np.bool_]:
    inside = np.zeros(size, bool)
    for begin, end in ducker.key.phrases:
        inside[ducker.at(begin) : ducker.at(end)] = True
    return inside
