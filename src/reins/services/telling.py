"""What a player tells of each block, as the live socket's messages have it (docs/formats/live.md)."""

from typing import Any

import numpy as np

from reins.core.engine.live import LiveBlock
from reins.core.engine.watching import Sight
from reins.core.measure.meters import MasterReading


def meters_told(block: LiveBlock) -> dict[str, Any]:
    """The meters of a block."""
    return {
        "type": "meters", "stream": block.stream, "frame": block.session_frame,
        "strips": {k: [round(v, 1) for v in levels] for k, levels in block.strips.items()},
        "gains": {k: round(v, 2) for k, v in block.gains.items()},
        **_sight(block.sight),
        "master": master_told(block.master),
    }  # fmt: skip


def master_told(reading: MasterReading) -> dict[str, Any]:
    """What is read at the master."""
    return {name: _rounded(value) for name, value in vars(reading).items()}


def _sight(sight: Sight) -> dict[str, Any]:
    return {
        "points": {k: [round(v, 1) for v in point] for k, point in sight.points.items()},
        "bands": {k: round(v, 2) for k, v in sight.bands.items()},
        "in_charge": sight.in_charge,
        "heard": {k: round(v, 1) for k, v in sight.heard_db.items()},
        "louder_lu": {k: round(v, 1) for k, v in sight.louder_lu.items()},
        "moved": {k: round(v, 3) for k, v in sight.moved.items()},
        "correlation": _rounded(sight.correlation),
        "curve": None if sight.curve_db is None else np.round(sight.curve_db, 1).tolist(),
        "spectra": {k: np.rint(row).astype(int).tolist() for k, row in sight.spectra.items()},
    }


def _rounded(value: Any) -> Any:
    if isinstance(value, tuple):
        return [_rounded(v) for v in value]
    return None if value is None else round(value, 2)
