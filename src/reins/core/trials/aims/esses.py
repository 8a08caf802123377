"""Hold the esses: this voice's sibilants, in their own band, by so many dB."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from reins.core.finding.frames import spans_of
from reins.core.finding.marks import Spans
from reins.core.finding.phrases import HANGOVER_S, MARGIN_DB
from reins.core.trials.aims.base import Aim, Array, Asks, Proposal, Work, counted, said
from reins.errors import ConflictError

TREBLE_HZ, MOST_DULLED_DB = (4000.0, 12000.0), 1.0  # of vowels: what they may lose of it
CLOSE_DB, SOUGHT_DB = 0.5, 0.5
LEAST_VOWEL_S, WORSE_DB = 0.08, 0.05
OF_A_SINE_DB = 3.01  # active levels are of mean squares, frames of sines
LOWEST_HZ = 2800.0
LEAST_WIDE = 2.0 ** (2.0 / 3.0)


@dataclass(frozen=True)
class Way:
    """Of holding: how long it takes back, how far under the strongest third octave an ess still is, how steep, and how
    much further than asked it may go.
    """

    release_ms: float
    wide_db: float
    ratio: float
    spare_db: float


WAYS = (
    Way(60.0, 8.0, 6.0, 9.0), Way(25.0, 8.0, 8.0, 4.0), Way(10.0, 8.0, 10.0, 3.0), Way(6.0, 5.0, 20.0, 2.0),
    Way(3.0, 4.0, 60.0, 1.5),
)  # fmt: skip


class HoldTheEsses(Aim):
    """RMS of the band they lie in within each sibilant, median over all; see the table of aims."""

    name = "esses"
    label = "Hold the esses"
    about = "This voice's esses are held by so many dB, in the band where they lie."
    types: tuple[str, ...] = ("deesser",)
    asks = Asks("by_db", "Hold by", 6.0, 1.0, 18.0, "How much quieter an ess becomes.")
    base = {"relative": True, "attack_ms": 1.0, "release_ms": 60.0}
    shows = "sibilants"
    window_s = 0.7

    def propose(self, work: Work) -> Proposal:
        """The band from the mean spectrum of what was found; the threshold by search, for ever quicker and narrower
        ways of holding until the treble of vowels stays.
        """
        spans = work.marks.sibilants
        if not spans:
            raise ConflictError("Found no sibilants: no s, sh or z lasts long enough. Nothing needs to be held.")
        vowels = _vowels(work)
        tried = []
        for way in WAYS:
            low, high = self._band(work, way.wide_db)
            settings: dict[str, Any] = {
                "low_hz": low, "high_hz": high, "range_db": work.within("range_db", work.asked + way.spare_db),
                "ratio": work.within("ratio", way.ratio), "release_ms": way.release_ms, "auto_release": False,
            }  # fmt: skip
            came = _levels(work.source_power((low, high)), work, spans)

            def got_by(changes: dict[str, Any], came: Array = came, low: float = low, high: float = high) -> float:
                return float(np.median(came - _levels(work.run(changes, (low, high)).power, work, spans)))

            limits = work.entry.settings.threshold_limits_db  # type: ignore[attr-defined]
            found, got = work.search("threshold_db", -12.0, got_by, more=-1.0, settings=settings, limits=limits)
            dulled = _dulled_db(work, found, vowels)
            tried.append((found, got, dulled))
            if abs(got - work.asked) <= CLOSE_DB and dulled <= SOUGHT_DB:
                break
            if len(tried) > 1 and dulled > tried[-2][2] + WORSE_DB:  # quicker yet, it follows the vowels themselves
                break
        found, got, dulled = min(tried, key=lambda one: abs(one[1] - work.asked) + 3.0 * max(one[2] - SOUGHT_DB, 0.0))
        reached = abs(got - work.asked) <= CLOSE_DB and dulled <= MOST_DULLED_DB
        relative = " against the voice" if work.entry.settings.relative else ""  # type: ignore[attr-defined]
        reason = (
            f"{counted(len(spans), 'sibilant')}, strongest from {found['low_hz'] / 1000:.1f} to "
            f"{found['high_hz'] / 1000:.1f} kHz: a threshold of {said(found['threshold_db'])}{relative} takes "
            f"{said(got)} off them there, usually, and {said(max(dulled, 0.0))} off the treble of vowels."
        )
        figures = {
            "sibilants": len(spans), "got_db": round(got, 2), "dulled_db": round(dulled, 2), "low_hz": found["low_hz"],
            "high_hz": found["high_hz"],
        }  # fmt: skip
        if not reached:
            short = (
                f"Not by {said(work.asked)}" if abs(got - work.asked) > CLOSE_DB else "Not without dulling the voice"
            )
            reason = f"{short}: {reason}"
        return Proposal(found, reason, figures, reached)

    @staticmethod
    def _band(work: Work, wide_db: float) -> tuple[float, float]:
        """Where the sibilants are strongest, so far down on both sides."""
        frames = work.marks.frames
        per_s = frames.per_s
        power = np.mean(
            [frames.power[int(a * per_s) : int(b * per_s) + 1].mean(axis=0) for a, b in work.marks.sibilants], axis=0
        )
        high = frames.hz >= 2500.0
        level = np.where(high, 10.0 * np.log10(np.maximum(power, 1e-12)), -200.0)
        top = int(level.argmax())
        first = last = top
        while first > 0 and level[first - 1] > level[top] - wide_db:
            first -= 1
        while last < level.size - 1 and level[last + 1] > level[top] - wide_db:
            last += 1
        edge = 2.0 ** (1.0 / 6.0)
        low_hz, high_hz = float(frames.hz[first]) / edge, float(frames.hz[last]) * edge
        if high_hz < LEAST_WIDE * low_hz:
            middle = (low_hz * high_hz) ** 0.5
            low_hz, high_hz = middle / LEAST_WIDE**0.5, middle * LEAST_WIDE**0.5
        return round(work.within("low_hz", max(low_hz, LOWEST_HZ)), -1), round(work.within("high_hz", high_hz), -1)


def _levels(power: Array, work: Work, spans: Spans) -> Array:
    """The level of each span in dB."""
    per_s = work.marks.frames.per_s
    parts = [power[int(a * per_s) : max(int(b * per_s), int(a * per_s) + 1)] for a, b in spans]
    return np.array([10.0 * np.log10(max(float(part.mean()) if part.size else 0.0, 1e-12)) for part in parts])


def _vowels(work: Work) -> Spans:
    """What lies between sibilants in phrases, while the voice is active as ITU-T P.56 has it: the room between words,
    of which a de-esser takes nothing, must not count as what stays bright. The frame in which an ess ends holds its
    vowel's beginning, where most is lost of it.
    """
    frames, active_db = work.marks.frames, work.marks.active.level_db
    if active_db is None:
        return []
    spoken, active = np.zeros((2, len(frames.power)), np.bool_)
    for begin, end in work.marks.phrases:
        spoken[int(begin * frames.per_s) : int(end * frames.per_s)] = True
    for first, last in spans_of(frames.level_db() > active_db + OF_A_SINE_DB - MARGIN_DB, HANGOVER_S):
        active[first:last] = True
    for begin, end in work.marks.sibilants:
        spoken[int(begin * frames.per_s) : max(int(end * frames.per_s) - 1, 0)] = False
    vowels = spans_of(spoken & active, 0.0)
    return [(frames.s(a), frames.s(b)) for a, b in vowels if b - a >= LEAST_VOWEL_S * frames.per_s]


def _dulled_db(work: Work, changes: dict[str, Any], vowels: Spans) -> float:
    """What vowels lose of their treble, usually."""
    if not vowels:
        return 0.0
    came, left = work.source_power(TREBLE_HZ), work.run(changes, TREBLE_HZ).power
    return float(np.median(_levels(came, work, vowels) - _levels(left, work, vowels)))
