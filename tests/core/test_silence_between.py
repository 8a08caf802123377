"""Aim "Silence between": the power of all pauses, and what words lose, measured on what comes out."""

import numpy as np
import pytest

from reins.core.chainfile import parse_entry
from reins.core.finding.marks import Marks
from reins.core.trials.aims import AIMS, Work
from reins.core.trials.running import Trial
from tests.conftest import RATE, sound_of
from tests.core.test_ducking import speech


def lost_db(before, after, begin_s, end_s):
    inside = slice(round(begin_s * RATE), round(end_s * RATE))
    return 10 * np.log10(np.sum(before[:, inside] ** 2) / np.sum(after[:, inside] ** 2))


@pytest.mark.parametrize("kind", ["gate", "expander"])
@pytest.mark.parametrize("asked_db", [12.0, 24.0])
@pytest.mark.parametrize("pauses", ["room", "quiet room", "clicks", "digital silence but for breaths"])
def test_pauses_have_as_much_less_power_as_asked_and_no_word_is_cut_off(kind, asked_db, pauses):
    voice, spans = speech()
    if pauses == "quiet room":
        voice = 0.1 * voice
    edges = [0.0, *(edge for span in spans for edge in span), voice.shape[1] / RATE]
    gaps = list(zip(edges[::2], edges[1::2], strict=True))
    rng = np.random.default_rng(9)
    for begin, end in gaps:
        at = slice(round(begin * RATE), round(end * RATE))
        middle = round((0.5 * begin + 0.5 * end) * RATE)
        if pauses == "clicks":
            voice[:, middle : middle + 40] += 0.02 * rng.standard_normal(40)
        elif pauses.startswith("digital"):
            voice[:, at] = 0.0
            voice[:, middle : middle + 4800] = 1e-3 * rng.standard_normal(4800)

    work = Work(
        Trial(sound_of(voice), [parse_entry({"id": "g", "type": kind}, "x")]), Marks.of(sound_of(voice)), asked_db
    )
    found = AIMS["silence"].propose(work)
    trial = Trial(sound_of(voice), [work.with_settings(found.settings)])
    out = np.concatenate([block.copy() for block, _ in trial.run(0, voice.shape[1], block_frames=RATE)], axis=1)

    quiet = [(a + (0.15 if a else 0.0), b - 0.05) for a, b in gaps]
    power = [sum(np.sum(x[:, round(a * RATE) : round(b * RATE)] ** 2) for a, b in quiet) for x in (voice, out)]
    assert found.reached, found.reason
    assert 10 * np.log10(power[0] / power[1]) == pytest.approx(asked_db, abs=2.0)
    for begin, end in spans:
        assert lost_db(voice, out, begin, begin + 0.05) <= 1.5
        assert lost_db(voice, out, end - 0.15, end) <= 1.5
    assert f"{found.figures['got_db']:.1f} dB less power" in found.reason
