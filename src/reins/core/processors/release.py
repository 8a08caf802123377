"""The automatic release that several processors share: a second gain that fills slowly and drains slowly.

It fills with SLOW_FILL_MS and drains with six times the release, 600 ms at least; the deeper of the two gains is used,
so a lone hit lets go at the release and a long passage slowly.
"""

SLOW_FILL_MS = 500.0
_DRAIN_TIMES = 6.0
_DRAIN_MIN_MS = 600.0


def slow_drain_ms(release_ms: float) -> float:
    """How long the slow gain takes to drain."""
    return max(_DRAIN_TIMES * release_ms, _DRAIN_MIN_MS)
