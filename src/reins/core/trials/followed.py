"""What a rein by a key hears and makes of it; and its floor and ceiling laid by that."""

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
import numpy.typing as npt

from reins.core.finding.excerpt import Excerpt
from reins.core.measure.span import SOUNDS_DB
from reins.core.moves.following import Follower
from reins.core.moves.models import ByKey
from reins.core.sound import Sound
from reins.core.trials.heard import parts_to_hear

Array = npt.NDArray[np.float64]
Counts = npt.NDArray[np.int64]
RUN_IN_S = 2.0  # what a follower hears before the part in view
BLOCK_FRAMES = 16384
COLUMN_S, HEARD_S, SILENT_DB = 0.01, 20.0, -90.0
LOUD_DB = 24.0  # windows that come within this of the loudest say where it is loud
QUIET, OVER_QUIET_DB = 0.25, 6.0  # share of the time; over what is there all along
LEAST_DB, MOST_DB = 6.0, 24.0  # between floor and ceiling
THERE, AT_REST = 0.9, 0.02
TRIES, LOWER_DB, WINDOW = 6, 2.0, 50  # columns


def followed(
    by: ByKey, sound: Sound, keys: Mapping[str, Sound], edges: Counts, check: Callable[[], None] = lambda: None
) -> tuple[Array, Array]:
    """The loudest that is heard between edges, and the furthest value; nothing where no sound is any more."""
    rate, columns = sound.facts.sample_rate, edges.size - 1
    channels = {name: key.facts.channels for name, key in keys.items()}
    follower = Follower(by, channels=sound.facts.channels, sample_rate=rate, key_channels=channels)
    level, value = np.zeros(columns), np.zeros(columns)
    end = min(int(edges[-1]), max(one.facts.frames for one in (sound, *keys.values())))
    for first in range(max(0, int(edges[0]) - round(RUN_IN_S * rate)), end, BLOCK_FRAMES):
        check()
        count = min(BLOCK_FRAMES, end - first)
        made = follower.hear(sound.read(first, count), {n: k.read(first, count) for n, k in keys.items()})
        # The columns that this block reaches into, and where in the block each begins.
        column = max(0, int(np.searchsorted(edges, first, side="right")) - 1)
        until = int(np.searchsorted(edges[:-1], first + count))
        begins = np.maximum(edges[column:until] - first, 0)
        for into, values in ((level, np.abs(follower.heard).max(axis=0)), (value, made)):
            if begins.size:
                into[column:until] = np.maximum(into[column:until], np.maximum.reduceat(values, begins))
    return level, value


def floor_and_ceiling(by: ByKey, sound: Sound, keys: Mapping[str, Sound]) -> tuple[dict[str, Any], str]:
    """floor_db and ceiling_db by what a key does: over what is there all along, and where it is loud; and what comes of
    it, in words. Nothing for a key that is silent.
    """
    parts = parts_to_hear(keys.get(by.key.source, sound), HEARD_S).parts
    sound, keys = Excerpt(sound, parts), {name: Excerpt(key, parts) for name, key in keys.items()}
    frames = sum(end - begin for begin, end in parts)
    edges = np.linspace(0, frames, max(round(frames / sound.facts.sample_rate / COLUMN_S), 1) + 1).astype(np.int64)
    level, _ = followed(by, sound, keys, edges)
    level_db = 20.0 * np.log10(np.maximum(level, 1e-6))
    sounds = level_db[level_db > max(float(level_db.max()) - SOUNDS_DB, SILENT_DB)]
    if not sounds.size:
        return {}, ""
    tops_db = _windows(level_db).max(axis=1)  # strokes may be short: not the share of the time counts
    ceiling_db = float(np.clip(np.median(tops_db[tops_db > level_db.max() - LOUD_DB]), -90.0, 12.0))
    quiet_db = float(np.quantile(level_db, QUIET)) + OVER_QUIET_DB
    for _ in range(TRIES):  # what is short is not followed all the way up to its level
        floor_db = min(max(quiet_db, ceiling_db - MOST_DB), ceiling_db - LEAST_DB)
        laid = {"floor_db": round(floor_db, 1), "ceiling_db": round(ceiling_db, 1)}
        _, value = followed(by.model_copy(update=laid), sound, keys, edges)
        if _tops(value) >= THERE:
            break
        ceiling_db -= LOWER_DB
    there, rest = (100.0 * float(np.mean(one)) for one in (value >= THERE, value <= AT_REST))
    return laid, f"laid by what it follows: nearly all the way {there:.0f} % of the time, at rest {rest:.0f} %"


def _tops(value: Array) -> float:
    """How far a value usually goes in windows of half a second in which it goes anywhere."""
    tops = _windows(value).max(axis=1)
    return float(np.median(tops[tops > AT_REST])) if (tops > AT_REST).any() else 0.0


def _windows(row: Array) -> Array:
    """A row in windows of half a second, what is left over at its end left out."""
    whole = row[: max(row.size // WINDOW, 1) * WINDOW]
    return whole.reshape(-1, min(WINDOW, whole.size))
