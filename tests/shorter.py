"""The demo as tests of the browser have it, and its truth: from the end of the verse to the last bar but one, and what
the announcer says first. Of all that is drawn, measured and exported of its whole takes, most is repetition.
"""

from dataclasses import replace

from reins.demo.build import make_parts
from reins.demo.score import RATE, time_of

BARS = 8
SECONDS = time_of(BARS)
BEGINS_S = time_of(7)


def shorter(samples, begins_s=BEGINS_S):
    """What tests have of a take (channels, frames)."""
    first = round(begins_s * RATE)
    return samples[:, first : first + round(SECONDS * RATE)]


def shorter_parts(progress):
    """The parts of the demo, for those who ask `reins.demo.build` for them."""
    for part in make_parts(progress):
        yield replace(part, samples=shorter(part.samples, 0.0 if part.name == "Announcer" else BEGINS_S))


def within(events):
    """Those of (seconds, ...) that tests have, in time of their own."""
    return [(at_s - BEGINS_S, *rest) for at_s, *rest in events if BEGINS_S <= at_s < BEGINS_S + SECONDS]
