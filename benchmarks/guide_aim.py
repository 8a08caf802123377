"""Draws the guide's picture of an aim: the singer's short-term level before and after "keep within 6 dB"."""

import tempfile

import numpy as np

from benchmarks.finding import aimed, take_of
from benchmarks.guide import COLOURS, INK, Picture
from reins.core.chainfile import parse_entry
from reins.core.finding.marks import Marks
from reins.core.time import Beat
from reins.core.trials.aims import AIMS, Work
from reins.core.trials.aims.within import STEP, windows_db
from reins.core.trials.running import Trial
from reins.demo import voices


def draw():
    """It."""
    with tempfile.TemporaryDirectory() as folder:
        take = take_of(voices.make_singer(), folder)
        proposal = aimed("within", take, 6.0)
        entry = parse_entry({"id": "p", "type": "compressor", "settings": dict(AIMS["within"].base)}, "x")
        work = Work(Trial(take, [entry], {}, Beat(96)), Marks.of(take), 6.0)
        before, after = windows_db(work.source_power()), windows_db(work.run(proposal.settings).power)
    at = np.arange(before.size) * STEP / 100.0
    sung = before > -45
    picture = Picture("The singer's level, kept within 6 dB", (0, 40), (-48, 0)).grid((0, 10, 20, 30, 40), " s", 12)
    for row, colour, dash in ((before, COLOURS[0], "7 3"), (after[: before.size], INK, "none")):
        for part in np.split(np.flatnonzero(sung), np.flatnonzero(np.diff(np.flatnonzero(sung)) > 1) + 1):
            picture.curve(at[part], row[part], colour, dash)
    picture.legend(("as sung", COLOURS[0], "7 3"), ("held", INK, "none")).save("aim-within")
    print(proposal.reason)


if __name__ == "__main__":
    draw()
