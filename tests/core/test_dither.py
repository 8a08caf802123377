"""Integers: rounded to the nearest, dithered where it helps; S. P. Lipshitz, R. A. Wannamaker, J. Vanderkooy,
"Quantization and Dither: A Theoretical Survey", J. Audio Eng. Soc. 40(5), 1992: with triangular dither of two steps the
error's mean is zero and its power a quarter of a squared step, whatever the signal.
"""

import numpy as np
import pytest
import soundfile

from reins.core.audio import AudioWriter
from reins.core.dsp.dither import Rounder
from reins.errors import InputError
from tests.conftest import RATE


def written(path, sound, bits="16", dither=None, file_format="wav", block=1000):
    with AudioWriter(
        path, channels=len(sound), sample_rate=RATE, file_format=file_format, bits=bits, dither=dither
    ) as writer:
        for first in range(0, sound.shape[1], block):
            writer.write(sound[:, first : first + block])
    return soundfile.read(path, dtype="int32", always_2d=True)[0].T >> (16 if bits == "16" else 8)


def tone(level_db=-80.0, seconds=8):
    return 10 ** (level_db / 20) * np.sin(2 * np.pi * 997 * np.arange(seconds * RATE) / RATE)[None]


@pytest.mark.parametrize("bits", ["16", "24"])
def test_wav_and_flac_round_alike_to_the_nearest(tmp_path, bits):
    top = 1 << (int(bits) - 1)
    steps = np.array([[0.4, 0.6, -0.4, -0.6, 1.5, 2.5, top + 5.0, -top - 5.0, 0.0, 12345.2]])
    expected = [0, 1, 0, -1, 2, 2, top - 1, -top, 0, 12345]  # halves to the even one, as IEEE 754 rounds

    for file_format in ("wav", "flac"):
        made = written(tmp_path / f"x.{file_format}", steps / top, bits, "none", file_format)
        assert made[0].tolist() == expected
    noise = 0.1 * np.random.default_rng(1).standard_normal((1, RATE))
    error = written(tmp_path / "n.wav", noise, bits, "none") - noise * top
    assert abs(error.mean()) < 0.01  # it was half a step


def test_dither_makes_the_error_independent_of_the_sound():
    for level in (0.0, 0.25, 0.5, 0.9):
        rounder = Rounder(16, 1)
        rounder.dithering = True
        steps = np.full((200_000, 1), level)
        error = (rounder.round(steps / 32768) >> 16) - level
        assert abs(error.mean()) < 0.006
        assert error.var() == pytest.approx(0.25, abs=0.006)


def harmonics_over_noise_db(samples):
    """The highest of the harmonics 2 to 9 of 997 Hz, against the mean of what lies around."""
    size = samples.size
    power = np.abs(np.fft.rfft(samples * np.blackman(size))) ** 2
    found = []
    for k in range(2, 10):
        at = round(997 * k * size / RATE)
        around = np.r_[power[at - 200 : at - 20], power[at + 20 : at + 200]]
        found.append(10 * np.log10(power[at - 2 : at + 3].max() / around.mean()))
    return max(found)


def test_a_tone_at_minus_80_has_no_harmonic_above_the_noise(tmp_path):
    plain, dithered = (written(tmp_path / f"{how}.wav", tone(), dither=how)[0] for how in ("none", "tpdf"))

    assert harmonics_over_noise_db(plain.astype(float)) > 20
    assert harmonics_over_noise_db(dithered.astype(float)) < 13  # the highest of 40 exponential draws and more


def test_by_itself_16_bits_are_dithered_unless_all_lies_on_the_grid_and_24_are_not(tmp_path):
    grid = np.rint(tone(-30, 1) * 32768) / 32768
    assert (written(tmp_path / "grid.wav", grid)[0] == np.rint(grid[0] * 32768)).all()
    late = grid.copy()
    late[0, -500] += 0.3 / 32768  # off the grid near the end: all of it is dithered, from the first sample on
    made = written(tmp_path / "late.wav", late)[0]
    np.testing.assert_array_equal(made, written(tmp_path / "all.wav", late, dither="tpdf")[0])
    assert (made[: RATE // 2] != np.rint(late[0, : RATE // 2] * 32768)).mean() > 0.2  # a quarter moves by a step
    noise = tone(-30, 1)
    np.testing.assert_array_equal(
        written(tmp_path / "a.wav", noise, "24")[0], written(tmp_path / "b.wav", noise, "24", "none")[0]
    )


def test_dither_is_the_same_every_time_however_it_is_cut(tmp_path):
    sound = np.repeat(tone(-60, 1), 2, axis=0)
    first = written(tmp_path / "a.wav", sound, block=1000)
    np.testing.assert_array_equal(first, written(tmp_path / "b.flac", sound, file_format="flac", block=777))
    assert (first[0] != first[1]).any()  # each channel has its own


def test_dither_that_makes_no_sense_is_refused(tmp_path):
    with pytest.raises(InputError, match="dither"):
        written(tmp_path / "x.wav", tone(), dither="loud")
