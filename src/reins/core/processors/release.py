"""The automatic release that several processors share: a second gain that fills slowly and drains slowly.

It fills with SLOW_FILL_MS towards the deepest the quick gain has been over VALLEY_MS, as long as that much is wanted
again and again, and drains with six times the release, 600 ms at least; the deeper of the two gains is used. So a lone
hit lets go at the release, a long passage slowly, and a steady low tone is held by a gain that stands still. A gate's
release becomes up to six times as long the longer it was open.
"""

SLOW_FILL_MS = 500.0
VALLEY_MS = 17.0  # half a period of 30 Hz
DRAIN_TIMES = 6.0
_DRAIN_MIN_MS = 600.0


def slow_drain_ms(release_ms: float) -> float:
    """How long the slow gain takes to drain."""
    return max(DRAIN_TIMES * release_ms, _DRAIN_MIN_MS)
