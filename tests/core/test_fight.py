"""The fight: noises planted where they meet, at levels that are known; the demo's own faults; and what cannot be."""

import json

import numpy as np
import pytest
import soundfile
from typer.testing import CliRunner

from reins.cli import app
from reins.core.measure.spectra import MAP_HZ
from reins.core.trials.fight import counted, fight
from reins.demo import strings, voices
from reins.errors import ConflictError
from tests.conftest import RATE, sound_of


def band(low_hz, high_hz, db, seconds=6, seed=1):
    """Noise within a band at an RMS in dB."""
    frames = seconds * RATE
    spectrum = np.fft.rfft(np.random.default_rng(seed).standard_normal(frames))
    hz = np.fft.rfftfreq(frames, 1 / RATE)
    sound = np.fft.irfft(np.where((hz > low_hz) & (hz < high_hz), spectrum, 0), frames)
    return (10 ** (db / 20) * sound / sound.std())[None]


def test_a_band_counts_by_how_near_both_are_and_to_their_own_loudest():
    one, other = np.array([[0.0, -20.0, -20.0, -50.0]]), np.array([[-20.0, -5.0, -20.0, -50.0]])
    np.testing.assert_allclose(counted(one, other, 12.0), [[0.0, 0.5, 1.0, 0.0]])
    assert counted(np.full((1, 1), -80.0), np.full((1, 1), -80.0), 12.0) == 0.0  # both silent


def test_where_they_meet_is_found_with_share_and_difference():
    one = band(60, 4000, -20)
    other = band(900, 1200, -32, seed=2)
    other[:, 3 * RATE :] = 0.0  # half of the time
    found = fight(sound_of(one), sound_of(other)).regions[0]
    assert found.low_hz == pytest.approx(900, rel=0.12) and found.high_hz == pytest.approx(1200, rel=0.12)
    assert found.share == pytest.approx(0.5, abs=0.06)
    there = 10 * np.log10(300 / 3940)  # of the first's power, in the band
    assert found.level_difference_db == pytest.approx(-20 + there + 32, abs=1.5)
    turned = fight(sound_of(other), sound_of(one)).regions[0]
    assert turned.level_difference_db == pytest.approx(-found.level_difference_db, abs=0.01)


def test_its_picture_shows_where_and_when_as_the_map_has_it():
    one, other = band(60, 4000, -20), band(900, 1200, -32, seed=2)
    other[:, 3 * RATE :] = 0.0
    start, column_frames, codes = fight(sound_of(one), sound_of(other)).picture(50)
    assert codes.shape[1] == MAP_HZ.size and len(codes) <= 50
    middle_s = (start + column_frames * (np.arange(len(codes)) + 0.5)) / RATE
    inside, outside = np.abs(np.log2(MAP_HZ / 1040)) < 0.15, np.abs(np.log2(MAP_HZ / 1040)) > 0.6
    assert codes[middle_s < 2.8][:, inside].mean() > 240 and not codes[middle_s > 3.3].any()
    assert not codes[:, outside].any()


def test_what_lies_apart_or_comes_at_other_times_does_not_fight():
    assert fight(sound_of(band(100, 300, -20)), sound_of(band(2000, 4000, -20))).regions == []
    one, other = band(100, 4000, -20), band(100, 4000, -20, seed=3)
    one[:, ::] *= np.arange(one.shape[1]) < 3 * RATE
    other[:, ::] *= np.arange(one.shape[1]) > 3.3 * RATE
    assert fight(sound_of(one), sound_of(other)).regions == []


def test_the_worst_comes_first():
    one = band(200, 400, -20) + band(3000, 4000, -40, seed=2)
    other = band(200, 400, -22, seed=3) + band(3000, 4000, -42, seed=4)
    found = fight(sound_of(one), sound_of(other)).regions
    assert found[0].high_hz < 600
    assert [region.low_hz > 2000 for region in found].index(True) > 0


def test_the_guitars_cover_the_voice_between_2_and_4_khz_and_the_command_says_so(tmp_path):
    for name, sound in (("Guitar", strings.make_guitar(0)), ("Singer", voices.make_singer())):
        soundfile.write(tmp_path / f"{name}.wav", sound.T, RATE, subtype="PCM_24")
    files = [str(tmp_path / f"{name}.wav") for name in ("Guitar", "Singer")]
    said = CliRunner().invoke(app, ["fight", *files])
    assert said.exit_code == 0 and "Guitar" in said.stdout and "of the time" in said.stdout
    found = json.loads(CliRunner().invoke(app, ["fight", *files, "--json"]).stdout)["regions"]
    covered = [region for region in found[:4] if region["low_hz"] < 3000 < region["high_hz"]]
    assert covered and covered[0]["level_difference_db"] > 0 and 0.3 < covered[0]["share"] < 1.0
    assert set(found[0]) == {"low_hz", "high_hz", "share", "level_difference_db"}


def test_what_cannot_be_compared_says_so(tmp_path):
    with pytest.raises(ConflictError, match="too little"):
        fight(sound_of(np.zeros((1, 100))), sound_of(np.zeros((1, RATE))))
    assert fight(sound_of(np.zeros((1, RATE))), sound_of(np.zeros((1, RATE)))).regions == []
    wrong = CliRunner().invoke(app, ["fight", str(tmp_path / "none.wav"), str(tmp_path / "none.wav")])
    assert wrong.exit_code != 0 and "cannot be opened" in str(wrong.exception)
