"""The room: how long it sounds, how dull, that it ends, and what becomes of channels."""

import json

import numpy as np
import pytest
import scipy.signal
import soundfile
from typer.testing import CliRunner

from reins.cli import app
from reins.core.dsp.reverberating import lengths
from reins.core.processors import PROCESSORS
from reins.core.processors.base import alone
from tests.conftest import RATE

Room = PROCESSORS["room"]


def answer(seconds, channels=1, **settings):
    """What the room alone makes of a click, (2, frames)."""
    room = Room(Room.Settings(mix_pct=100.0, **settings), channels=channels, sample_rate=RATE)
    click = np.zeros((channels, round(seconds * RATE)))
    click[:, 0] = 1.0
    return room.process(alone(click, RATE))


def decay_s(sound, hz):
    """ISO 3382-1: the backward integral of an octave band of both sides, by its slope from -5 to -35 dB (T30)."""
    band = scipy.signal.butter(3, [hz / 2**0.5, hz * 2**0.5], "bandpass", fs=RATE, output="sos")
    energy = (scipy.signal.sosfilt(band, sound) ** 2).sum(axis=0)
    left = np.cumsum(energy[::-1])[::-1]
    level = 10 * np.log10(np.maximum(left / left[0], 1e-20))
    first, last = np.argmax(level < -5), np.argmax(level < -35)
    return -60.0 / np.polyfit(np.arange(first, last) / RATE, level[first:last], 1)[0]


@pytest.mark.parametrize("size_pct", [0.0, 40.0, 100.0])
@pytest.mark.parametrize(("decay", "highs_pct"), [(0.1, 100.0), (0.1, 50.0), (0.4, 20.0), (1.2, 50.0), (3.0, 30.0)])
def test_it_decays_as_set_within_five_percent(decay, highs_pct, size_pct):
    sound = answer(2.2 * decay + 0.1, decay_s=decay, highs_pct=highs_pct, size_pct=size_pct, predelay_ms=0.0)

    assert decay_s(sound, 1000) == pytest.approx(decay, rel=0.05)
    assert decay_s(sound, 8000) == pytest.approx(decay * highs_pct / 100.0, rel=0.2)


@pytest.mark.parametrize("rate", [44100, 96000, 192000])
def test_the_shortest_decay_is_as_set_at_other_rates(rate, monkeypatch):
    monkeypatch.setitem(globals(), "RATE", rate)
    for highs_pct in (50.0, 100.0):
        sound = answer(0.4, decay_s=0.1, highs_pct=highs_pct, predelay_ms=0.0)
        assert decay_s(sound, 1000) == pytest.approx(0.1, rel=0.05)


@pytest.mark.parametrize(
    ("highs_pct", "least_db", "most_db"), [(100, -0.5, 0.5), (50, -4, -2), (20, -6.5, -5.5), (10, -9, -8)]
)
def test_the_rooms_power_is_as_told(highs_pct, least_db, most_db):
    rng = np.random.default_rng(1)
    noise = 0.1 * rng.standard_normal((2, 4 * RATE)) * (np.arange(4 * RATE) < 2 * RATE)
    for decay in (0.5, 1.5):
        room = Room(Room.Settings(mix_pct=100.0, decay_s=decay, highs_pct=highs_pct), channels=2, sample_rate=RATE)
        made = room.process(alone(noise, RATE))
        assert least_db < 10 * np.log10((made**2).sum() / (noise**2).sum()) < most_db


def test_the_longest_decay_is_as_set_too():
    sound = answer(9.0, decay_s=12.0, highs_pct=50.0, predelay_ms=0.0)

    assert decay_s(sound, 1000) == pytest.approx(12.0, rel=0.05)


def test_it_ends_in_silence_to_the_bit_and_answers_again():
    room = Room(Room.Settings(decay_s=0.1, predelay_ms=0.0), channels=2, sample_rate=RATE)
    click = np.zeros((2, RATE))
    click[:, 0] = 1.0
    first, second = room.process(alone(click, RATE)), room.process(alone(click, RATE))
    end = round(Room.tail_s(Room.Settings(decay_s=0.1, predelay_ms=0.0)) * RATE)

    assert not first[:, end + 1 :].any() and np.abs(first[:, : end // 2]).max() > 0
    np.testing.assert_array_equal(first, second)


def test_predelay_is_what_comes_before_it_and_size_sets_the_echoes_apart():
    plain, later = (answer(0.5, predelay_ms=ms) for ms in (0.0, 100.0))
    np.testing.assert_array_equal(later[:, 4800:], plain[:, :-4800])
    first = [np.argmax(np.abs(answer(0.5, size_pct=pct, predelay_ms=0.0)[0]) > 0) for pct in (0.0, 100.0)]
    assert first[1] > 2 * first[0] > 0
    found = lengths(4000)
    assert len(set(found)) == 16 and all(m % k for m in found for k in range(2, int(m**0.5) + 1))


def test_width_goes_from_the_same_on_both_sides_to_all_around():
    alike, wide = (answer(0.5, width_pct=pct) for pct in (0.0, 100.0))

    np.testing.assert_allclose(alike[0], alike[1], atol=1e-15)
    assert abs(np.corrcoef(wide)[0, 1]) < 0.2


def test_a_longer_room_is_not_louder_of_steady_sound():
    noise = 0.1 * np.random.default_rng(1).standard_normal((1, 6 * RATE))
    powers = []
    for decay in (0.3, 3.0):
        room = Room(Room.Settings(decay_s=decay, mix_pct=100.0, highs_pct=100.0), channels=1, sample_rate=RATE)
        powers.append(np.mean(room.process(alone(noise, RATE))[:, 4 * RATE :] ** 2))

    assert abs(10 * np.log10(powers[1] / powers[0])) < 1.5 and abs(10 * np.log10(powers[0] / 0.01)) < 3.0


@pytest.mark.parametrize("channels", [1, 2])
def test_the_command_keeps_length_and_channels(tmp_path, channels):
    click = np.zeros((RATE // 2, channels))
    click[0] = 0.5
    soundfile.write(tmp_path / "in.wav", click, RATE, subtype="FLOAT")
    chain = {"format": "reins-chain", "version": 1, "processors": [{"type": "room", "settings": {"mix_pct": 100}}]}
    (tmp_path / "chain.json").write_text(json.dumps(chain))

    run = CliRunner().invoke(
        app,
        ["process", str(tmp_path / "in.wav"), "-o", str(tmp_path / "out.wav"), "--chain", str(tmp_path / "chain.json")],
    )

    assert run.exit_code == 0, run.output
    made, _ = soundfile.read(tmp_path / "out.wav", always_2d=True)
    assert made.shape == click.shape
    expected = 0.5 * answer(0.5, channels)
    np.testing.assert_allclose(made.T, expected if channels == 2 else expected.mean(axis=0, keepdims=True), atol=1e-6)
