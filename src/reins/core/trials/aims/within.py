"""Keep within: what is active lies within so many dB, by a compressor or by a drawn line on the fader."""

from typing import Any

import numpy as np

from reins.core.trials.aims.base import Aim, Array, Asks, Proposal, Work, counted, hops, said
from reins.errors import ConflictError

WINDOW, STEP = 40, 10  # frames of 10 ms: 400 ms windows, every 100 ms
LOW, HIGH = 0.10, 0.95
INSIDE = 0.9  # of a window that must lie within a phrase
MOST_RATIO = 20.0
LINE_APART_S, LINE_LIMIT_DB, FALL_S = 0.25, 18.0, 0.15


def windows_db(power: Array, active: Any = None) -> Array:
    """The level of each 400 ms window; of those that are active, where that is given."""
    sums = np.concatenate([[0.0], np.cumsum(power)])
    first = np.arange(0, max(power.size - WINDOW, 0) + 1, STEP)
    level = 10.0 * np.log10(np.maximum((sums[first + min(WINDOW, power.size)] - sums[first]) / WINDOW, 1e-12))
    return level if active is None else level[active]


def active_windows(work: Work, power: Array) -> Any:
    """Which windows lie within phrases."""
    inside = hops(work.marks, work.marks.phrases, power.size).astype(np.float64)
    sums = np.concatenate([[0.0], np.cumsum(inside)])
    first = np.arange(0, max(power.size - WINDOW, 0) + 1, STEP)
    return (sums[first + min(WINDOW, power.size)] - sums[first]) / WINDOW >= INSIDE


def spread_db(levels: Array) -> float:
    """From the tenth to the ninety-fifth percentile."""
    low, high = np.quantile(levels, [LOW, HIGH])
    return float(high - low)


class KeepWithin(Aim):
    """Spread of the short-term level between its 10th and 95th percentile; see the table of aims."""

    name = "within"
    label = "Keep within"
    about = "Quiet and loud parts come to lie within so many dB."
    types: tuple[str, ...] = ("compressor", "optical", "variable_mu", "fet", "three_speed")
    asks = Asks("within_db", "Within", 6.0, 1.0, 30.0, "The spread of level that may remain.")
    base = {"rms_pct": 70.0, "rms_ms": 30.0, "attack_ms": 8.0, "release_ms": 150.0, "knee_db": 6.0}
    shows = "phrases"

    def propose(self, work: Work) -> Proposal:
        """The threshold at the quiet end, the ratio by search, makeup by what that takes."""
        _, active, levels, came = _came(work)
        if came <= work.asked:
            return _lies_within(came)

        def reached_by(tried: dict[str, Any]) -> float:
            return spread_db(windows_db(work.run(tried).power, active))

        settings: dict[str, Any] = {}
        if hasattr(work.entry.settings, "threshold_db"):
            settings["threshold_db"] = round(work.within("threshold_db", float(np.quantile(levels, LOW)) - 2.0), 1)
        if hasattr(work.entry.settings, "ratio") and settings:
            found, got = work.search(
                "ratio", min(came / work.asked, MOST_RATIO), reached_by, more=-1.0, settings=settings
            )
            found["ratio"] = round(found["ratio"], 2)
        else:
            quiet, loud = (float(np.quantile(levels, share)) for share in (LOW, 0.5))
            path, start, more = ("threshold_db", loud, 1.0) if settings else ("input_db", -24.0 - quiet, -1.0)
            found, got = work.search(path, start, reached_by, more=more, settings=settings)
        result = windows_db(work.run(found).power, active)
        quieter = float(10 * np.log10(np.mean(10 ** (levels / 10)) / np.mean(10 ** (result / 10))))
        level = "makeup_db" if hasattr(work.entry.settings, "makeup_db") else "output_db"
        found[level] = round(work.within(level, quieter), 1)
        reached = got <= work.asked + 0.5
        words = {"threshold_db": "a threshold of {} dB", "ratio": "a ratio of {} : 1", "input_db": "a drive of {} dB"}
        by = " and ".join(words[k].format(f"{v:.4g}".replace("-", "−")) for k, v in found.items() if k in words)
        reason = (
            f"{counted(len(work.marks.phrases), 'phrase')} spread over {said(came)}: {by} leaves {said(got)}; "
            f"{said(found[level])} of level brings it back to where it was; {_of_pauses(work, work.run(found).power)}."
        )
        reason = reason if reached else f"Not within {said(work.asked)}: {reason}"
        return Proposal(found, reason, {"came_db": round(came, 2), "got_db": round(got, 2)}, reached)


class RideWithin(KeepWithin):
    """The same as a line on the fader: points to be edited on."""

    name = "ride"
    label = "Ride within"
    about = "The same by a line drawn on the fader, to be edited on: no sound is changed but in level."
    types: tuple[str, ...] = ("level",)
    base = {}

    def propose(self, work: Work) -> Proposal:
        """Points through the middles of phrases' parts, scaled by halving until what remains is what is asked for."""
        power, active, levels, came = _came(work)
        if came <= work.asked:
            return _lies_within(came)
        middle = float(np.median(levels))
        share_low, share_high, points = 0.0, 1.2, list[tuple[float, float, float]]()
        got = came
        for _ in range(12):
            share = 0.5 * (share_low + share_high)
            points = _line(work, power, middle, share)
            got = spread_db(windows_db(power * 10 ** (_gain_of(work, power, points) / 10), active))
            if abs(got - work.asked) < 0.1:
                break
            share_low, share_high = (share, share_high) if got > work.asked else (share_low, share)
        reached = got <= work.asked + 0.5
        reason = f"{len(points)} points on the fader bring a spread of {said(came)} to {said(got)}; "
        reason += f"{_of_pauses(work, power * 10 ** (_gain_of(work, power, points) / 10))}."
        return Proposal(
            {},
            reason if reached else f"Not within {said(work.asked)}: {reason}",
            {"came_db": round(came, 2), "got_db": round(got, 2)},
            reached,
            points,
        )


def _gain_of(work: Work, power: Array, points: list[tuple[float, float, float]]) -> Array:
    """The gain in dB that a line gives each frame."""
    at = np.arange(power.size) * work.marks.frames.hop / work.marks.frames.sample_rate
    return np.interp(at, [p[0] for p in points], [p[1] for p in points])


def _of_pauses(work: Work, result: Array) -> str:
    """What becomes of the power of pauses, in words."""
    source = work.source_power()
    size = min(source.size, result.size)
    quiet = ~hops(work.marks, work.marks.phrases, size)
    was, is_now = float(source[:size][quiet].sum()), float(result[:size][quiet].sum())
    if was <= 1e-12 or is_now <= 1e-12:
        return "there is nothing in its pauses"
    by_db = 10.0 * float(np.log10(is_now / was))
    if abs(by_db) < 1.0:
        return "pauses stay within 1 dB"
    return f"pauses come {'up' if by_db > 0.0 else 'down'} by {said(abs(by_db))}"


def _lies_within(came: float) -> Proposal:
    figures = {"came_db": round(came, 2), "got_db": round(came, 2)}
    return Proposal({}, f"It already lies within {said(came)}: nothing needs to be moved.", figures)


def _came(work: Work) -> tuple[Array, Any, Array, float]:
    """The power that comes, which windows are active, their levels, and how far those spread."""
    power = work.source_power()
    active = active_windows(work, power)
    if np.count_nonzero(active) < 3:
        raise ConflictError("Found no phrases longer than half a second: nothing to keep within. Choose a longer take.")
    levels = windows_db(power, active)
    return power, active, levels, spread_db(levels)


def _line(work: Work, power: Array, middle_db: float, share: float) -> list[tuple[float, float, float]]:
    """Points (seconds, dB, bend) that bring each part of a phrase towards the middle by a share of what it lies off."""
    per_s = work.marks.frames.per_s
    points: list[tuple[float, float, float]] = [(0.0, 0.0, 0.0)]
    for begin, end in work.marks.phrases:
        parts = np.linspace(begin, end, max(2, round((end - begin) / LINE_APART_S) + 1))
        gains = []
        for at in parts:
            near = power[max(round((at - 0.2) * per_s), 0) : round((at + 0.2) * per_s) + 1]
            level = 10.0 * np.log10(max(float(near.mean()) if near.size else 0.0, 1e-9))
            gains.append(min(max(share * (middle_db - level), -LINE_LIMIT_DB), LINE_LIMIT_DB))
        points.append((max(begin - FALL_S, points[-1][0]), 0.0, 0.0))
        points += [(round(float(at), 3), round(gain, 1), 0.0) for at, gain in _thinned(parts, gains)]
        points.append((end + FALL_S, 0.0, 0.0))
    return points


def _thinned(at: Array, gains: list[float]) -> list[tuple[float, float]]:
    """Points without those that lie within half a dB of the line between their neighbours."""
    kept = [(float(at[0]), gains[0])]
    for k in range(1, len(gains) - 1):
        between = np.interp(at[k], [kept[-1][0], at[k + 1]], [kept[-1][1], gains[k + 1]])
        if abs(between - gains[k]) > 0.5:
            kept.append((float(at[k]), gains[k]))
    return [*kept, (float(at[-1]), gains[-1])]
