"""The automatic release that several processors share: a second gain that fills slowly and drains slowly.

It fills with SLOW_FILL_MS towards the deepest the quick gain has been over VALLEY_MS, as long as that much is wanted
again and again, and drains with six times the release, 600 ms at least; the deeper of the two gains is used. So a lone
hit lets go at the release, a long passage slowly, and a steady low tone is held by a gain that stands still. A gate's
release becomes up to six times as long the longer it was open.
"""

from typing import Any

import numpy as np

SLOW_FILL_MS = 500.0
VALLEY_MS = 17.0  # half a period of 30 Hz
DRAIN_TIMES = 6.0
_DRAIN_MIN_MS = 600.0


def remembers_s(part: Any) -> float:
    """How long a gain with these times, of a processor or of one of its bands, remembers what it has heard."""
    times = vars(part)
    release_ms = times.get("release_ms", times.get("back_ms", 0.0))
    attack_ms = times.get("attack_ms", times.get("down_ms", 0.0))
    if times.get("auto_release", False):
        release_ms = max(slow_drain_ms(release_ms), 3.0 * SLOW_FILL_MS)
    return float(3.0 * release_ms + attack_ms + times.get("hold_ms", 0.0)) / 1000.0


def slow_drain_ms(release_ms: Any) -> Any:
    """How long the slow gain takes to drain."""
    return np.maximum(DRAIN_TIMES * release_ms, _DRAIN_MIN_MS)
