"""Hold the esses: this voice's sibilants, in their own band, by so many dB."""

from typing import Any

import numpy as np

from reins.core.trials.aims.base import Aim, Array, Asks, Proposal, Ran, Work, counted, said
from reins.errors import ConflictError

BAND_HZ = (3500.0, 15500.0)  # in which it is measured
WIDE_DB = 8.0  # under the strongest third octave: what belongs to an ess
LOWEST_HZ = 2800.0
LEAST_WIDE = 2.0 ** (2.0 / 3.0)


class HoldTheEsses(Aim):
    """RMS from 3.5 to 15.5 kHz within each sibilant, median over all; see the table of aims."""

    name = "esses"
    label = "Hold the esses"
    about = "This voice's esses are held by so many dB, in the band where they lie."
    types: tuple[str, ...] = ("deesser",)
    asks = Asks("by_db", "Hold by", 6.0, 1.0, 18.0, "How much quieter an ess becomes.")
    base = {"relative": True, "attack_ms": 1.0, "release_ms": 60.0}
    shows = "sibilants"
    window_s = 0.7

    def propose(self, work: Work) -> Proposal:
        """The band from the mean spectrum of what was found; the threshold by search."""
        spans = work.marks.sibilants
        if not spans:
            raise ConflictError("Found no sibilants: no s, sh or z lasts long enough. Nothing needs to be held.")
        low, high = self._band(work)
        settings: dict[str, Any] = {
            "low_hz": low, "high_hz": high, "range_db": work.within("range_db", work.asked + 9.0),
            "ratio": work.within("ratio", 6.0),
        }  # fmt: skip
        came = _levels(work, work.source_power(BAND_HZ))

        def got_by(tried: dict[str, Any]) -> float:
            return float(np.median(came - _levels(work, _power(work.run(tried, BAND_HZ)))))

        found, got = work.search("threshold_db", -20.0, got_by, more=-1.0, settings=settings)
        reached = abs(got - work.asked) <= 0.5
        relative = " against the voice" if work.entry.settings.relative else ""  # type: ignore[attr-defined]
        reason = (
            f"{counted(len(spans), 'sibilant')}, strongest from {low / 1000:.1f} to {high / 1000:.1f} kHz: a threshold "
            f"of {said(found['threshold_db'])}{relative} takes {said(got)} off them, usually."
        )
        figures = {"sibilants": len(spans), "got_db": round(got, 2), "low_hz": low, "high_hz": high}
        return Proposal(found, reason if reached else f"Not by {said(work.asked)}: {reason}", figures, reached)

    @staticmethod
    def _band(work: Work) -> tuple[float, float]:
        """Where the sibilants are strongest, WIDE_DB down on both sides."""
        frames = work.marks.frames
        per_s = frames.per_s
        power = np.mean(
            [frames.power[int(a * per_s) : int(b * per_s) + 1].mean(axis=0) for a, b in work.marks.sibilants], axis=0
        )
        high = frames.hz >= 2500.0
        level = np.where(high, 10.0 * np.log10(np.maximum(power, 1e-12)), -200.0)
        top = int(level.argmax())
        first = last = top
        while first > 0 and level[first - 1] > level[top] - WIDE_DB:
            first -= 1
        while last < level.size - 1 and level[last + 1] > level[top] - WIDE_DB:
            last += 1
        edge = 2.0 ** (1.0 / 6.0)
        low_hz, high_hz = float(frames.hz[first]) / edge, float(frames.hz[last]) * edge
        if high_hz < LEAST_WIDE * low_hz:
            middle = (low_hz * high_hz) ** 0.5
            low_hz, high_hz = middle / LEAST_WIDE**0.5, middle * LEAST_WIDE**0.5
        return round(work.within("low_hz", max(low_hz, LOWEST_HZ)), -1), round(work.within("high_hz", high_hz), -1)


def _power(did: Ran) -> Array:
    return did.power


def _levels(work: Work, power: Array) -> Array:
    """The level of each sibilant in dB."""
    per_s = work.marks.frames.per_s
    parts = [power[int(a * per_s) : max(int(b * per_s), int(a * per_s) + 1)] for a, b in work.marks.sibilants]
    return np.array([10.0 * np.log10(max(float(part.mean()) if part.size else 0.0, 1e-12)) for part in parts])
