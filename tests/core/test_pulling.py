"""A band that is pulled from rest moves with what its region has, whatever its level; what is said was measured."""

import re

import numpy as np
import pytest

from reins.core.chainfile import parse_entry, parse_settings, settings_over
from reins.core.measure.folding import HELD_DB
from reins.core.trials.pulling import bands_laid, begin_to_move, with_levels
from reins.core.trials.running import Trial
from tests.conftest import RATE, sound_of

SECONDS = 8.0


def wavering(level_db, hz=1000.0):
    """A tone that is louder and quieter by turns, over a steady one two octaves lower."""
    t = np.arange(round(SECONDS * RATE)) / RATE
    swell = 10 ** (9 * np.sin(2 * np.pi * 0.7 * t) / 20)
    return (
        10 ** (level_db / 20) * (0.1 * swell * np.sin(2 * np.pi * hz * t) + 0.2 * np.sin(2 * np.pi * hz / 4 * t))[None]
    )


def entry(*bands, key=None):
    return parse_entry({"type": "dynamic_eq", "id": "p", "settings": {"bands": list(bands)}}, "test")


@pytest.mark.parametrize("motion", ["compress", "expand"])
@pytest.mark.parametrize("level_db", [0, -20, -34])
def test_a_pulled_band_moves_with_the_louder_part_at_every_level(level_db, motion):
    pulled = entry({"freq_hz": 1000, "q": 2, "motion": motion, "range_db": 6}, {"freq_hz": 5000})
    sound = sound_of(wavering(level_db))

    settings, said = bands_laid(Trial(sound, [pulled]), [0])

    assert list(settings) == ["bands.0.threshold_db"]
    made = pulled.model_copy(update={"settings": parse_settings("dynamic_eq", settings_over(pulled, settings), "test")})
    rows = [gains for _, gains in Trial(sound, [made]).run(0, sound.facts.frames, block_frames=4096)]
    gain = np.concatenate([block[0] for block in rows])[RATE // 2 :] * (-1 if motion == "compress" else 1)
    assert 0.2 < np.mean(gain > 0.5) < 0.8  # at rest with the quieter part
    assert 1.0 < np.quantile(gain, 0.9) <= 6.0
    usual, most = (float(one.replace("−", "-")) for one in re.findall(r"([−\d.]+) dB", said))
    sign = -1 if motion == "compress" else 1
    assert sign * most == pytest.approx(gain.max(), abs=0.3)
    assert sign * usual == pytest.approx(np.median(gain[gain > HELD_DB]), abs=0.3)


def test_a_band_on_a_sound_that_hardly_changes_moves_all_the_same_and_that_is_said():
    t = np.arange(round(SECONDS * RATE)) / RATE
    steady = sound_of((0.1 + 0.002 * np.sin(2 * np.pi * t))[None] * np.sin(2 * np.pi * 1000 * t))
    pulled = entry({"freq_hz": 1000, "q": 2, "motion": "compress", "range_db": 6})

    _, said = bands_laid(Trial(steady, [pulled]), [0])

    assert float(re.search(r"usually −([\d.]+) dB", said)[1]) >= 0.8
    assert "nearly all the time, since its level hardly changes there" in said


def test_it_is_laid_by_the_key_it_follows_and_left_alone_where_nothing_sounds():
    t = np.arange(round(SECONDS * RATE)) / RATE
    still = sound_of(0.1 * np.sin(2 * np.pi * 1000 * t)[None])
    pulled = entry({"freq_hz": 1000, "motion": "compress", "range_db": 6, "key": {"source": "k"}})
    loud, quiet = (
        bands_laid(Trial(still, [pulled], {"k": sound_of(wavering(db))}), [0])[0]["bands.0.threshold_db"]
        for db in (0, -20)
    )
    assert loud - quiet == pytest.approx(20, abs=0.3)
    silent = entry({"freq_hz": 1000, "motion": "compress"})
    assert bands_laid(Trial(sound_of(np.zeros((1, RATE))), [silent]), [0]) == ({}, "")


def test_a_band_begins_to_move_only_where_it_was_still_and_no_level_is_given():
    before = entry({"freq_hz": 100}, {"freq_hz": 500, "motion": "compress"}).settings
    assert begin_to_move(before, {"bands.0.motion": "compress", "bands.0.range_db": 6}) == [0]
    assert begin_to_move(before, {"bands.1.motion": "expand"}) == []
    assert begin_to_move(before, {"bands.0.motion": "curve"}) == []
    assert begin_to_move(before, {"bands.0.motion": "compress", "bands.0.threshold_db": -20}) == []
    added = {"bands": [{"freq_hz": 100}, {"motion": "compress"}, {"motion": "expand"}]}
    assert begin_to_move(before, added) == [2]
    assert with_levels(added, {"bands.2.threshold_db": -31.0})["bands"][2] == {
        "motion": "expand",
        "threshold_db": -31.0,
    }
