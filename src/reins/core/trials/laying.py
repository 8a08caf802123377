"""What is added without a starting point does something at once: its threshold (or what stands for one) is laid by the
sound it comes to, found by running the processor over some of it.
"""

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from reins.core.finding.excerpt import Excerpt
from reins.core.fitting import levels
from reins.core.measure.levels import RUN_FRAMES
from reins.core.processors import PROCESSORS
from reins.core.settings.fields import limits_of, place_of
from reins.core.sound import Sound
from reins.core.trials.running import Trial
from reins.core.trials.spans import measure_span
from reins.core.trials.spreads import tried

USUAL_DB = 2.5  # of hold: enough to be heard and seen, little enough to begin with
SHUT_PCT = 30.0  # of the time, for what is open or shut
PART_S, PARTS = 2.0, 4  # what is listened to: the loudest such parts
RUNS = 8
Array = npt.NDArray[np.float64]
LEAST = 0.3  # of dB or percent: less is nothing


def laid(trial: Trial) -> tuple[dict[str, float], str]:
    """Settings by path for the last processor of a trial, and how that was found, in words; nothing where it has no
    level to lay, or hears another than the sound it is for.
    """
    entry = trial.entries[-1]
    kind = PROCESSORS[entry.type]
    paths = levels(entry.settings) or ([kind.line] if kind.line_drives and kind.line else [])
    if not paths or kind.made_by_tie:
        return {}, ""
    heard = as_it_comes(trial)
    goal = SHUT_PCT if "states" in kind.views else USUAL_DB
    found = _search(heard, paths, goal)
    if not found:
        return {}, ""
    if kind.line_drives and hasattr(entry.settings, "output_db"):
        low, high = limits_of(place_of(kind.Settings, "output_db"))
        found["output_db"] = round(min(max(-found[paths[0]], low), high), 1)
    what = f"shut for {SHUT_PCT:.0f} % of the time" if "states" in kind.views else f"{USUAL_DB:.1f} dB usually"
    return found, f"laid for this take: {what}"


class _Come(Excerpt):
    """What comes to a processor in parts of a sound, held."""

    def __init__(self, parts: Excerpt, samples: Array) -> None:
        super().__init__(parts.sound, parts.parts)
        self.facts = replace(self.facts, channels=len(samples))  # a room makes one channel two
        self._samples = samples

    def read(self, start: int, frames: int) -> Array:
        """Samples (channels, frames); silence outside."""
        out = np.zeros((self.facts.channels, frames))
        first, last = max(start, 0), min(start + frames, self.facts.frames)
        if first < last:
            out[:, first - start : last - start] = self._samples[:, first:last]
        return out


def loudest_parts(sound: Sound, most: int = PARTS) -> Excerpt:
    """All of a sound that is short, else so many of its parts, the loudest."""
    frames, part = sound.facts.frames, round(PART_S * sound.facts.sample_rate)
    count = frames // part
    if count <= most:
        return Excerpt(sound, [(0, frames)])
    peaks = sound.peak_columns(0, count * part, count)
    chosen = sorted(np.argsort(peaks)[-most:].tolist())
    return Excerpt(sound, [(place * part, (place + 1) * part) for place in chosen])


def as_it_comes(trial: Trial, parts_of: Callable[[Sound], Excerpt] = loudest_parts) -> Trial:
    """The last processor alone, on what comes to it in parts of the sound, the loudest unless said otherwise; what
    stands before it is run once.
    """
    parts = parts_of(trial.sound)
    *before, entry = trial.entries
    keys = {name: Excerpt(key, parts.parts) for name, key in trial.keys.items()}
    if not any(one.on for one in before):
        return Trial(parts, [entry], keys, trial.beat)
    runs = Trial(parts, before, keys, trial.beat).run(0, parts.facts.frames, block_frames=RUN_FRAMES)
    samples = np.concatenate([result.copy() for result, _ in runs], axis=1)
    return Trial(_Come(parts, samples), [entry], keys, trial.beat)


def _search(trial: Trial, paths: list[str], goal: float) -> dict[str, float]:
    """Each level by halving, all at once: what one band does is not what another hears."""
    ends = {path: limits_of(place_of(type(trial.entries[-1].settings), path)) for path in paths}
    lows = {path: low for path, (low, _) in ends.items()}
    # Of a drive all of it; what is compared with the sound lies at full scale at most.
    drives = PROCESSORS[trial.entries[-1].type].line_drives
    highs = {path: high if drives else min(high, 0.0) for path, (_, high) in ends.items()}
    at_low, at_high = _done(trial, lows), _done(trial, highs)
    rising = {path: at_high[path] > at_low[path] for path in paths}
    most = {path: max(at_low[path], at_high[path]) for path in paths}
    for _ in range(RUNS):
        middle = {path: 0.5 * (lows[path] + highs[path]) for path in paths}
        done = _done(trial, middle)
        for path in paths:
            too_little = done[path] < goal
            (lows if too_little == rising[path] else highs)[path] = middle[path]
    # What does not get so far lies where it does most by now; what does nothing anywhere stays as it is.
    return {path: round(0.5 * (lows[path] + highs[path]), 1) for path in paths if most[path] >= LEAST}


def _done(trial: Trial, settings: dict[str, float]) -> dict[str, float]:
    """What the processor does by each of its levels: how many dB it usually takes or gives, or the share of time."""
    entry = trial.entries[-1]
    span = measure_span(tried(trial, entry.id, settings), entry.id, 0, trial.sound.facts.frames)
    whole = span.statistics()
    if "states" in PROCESSORS[entry.type].views:
        return dict.fromkeys(settings, whole["held_pct"])
    bands = {name: abs(band.statistics(span.frames)["usual_db"]) for name, band in span.bands.items()}
    return {path: bands.get(gain_of(path), abs(whole["usual_db"])) for path in settings}


def gain_of(path: str) -> str:
    """The name of the gain that a level moves, by the level's path."""
    parts = path.split(".")
    return f"band{int(parts[1]) + 1}.gain_db" if parts[0] == "bands" else "gain_db"
