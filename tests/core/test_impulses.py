"""A room with a recorded response: as scipy convolves it, however it is cut, from a chain file and in a session."""

import json

import numpy as np
import pytest
import soundfile
from scipy.signal import fftconvolve
from typer.testing import CliRunner

from reins.cli import app
from reins.core.changes.impulses import RemoveImpulse
from reins.core.checking import checked
from reins.core.dsp.convolving import LATENCY_FRAMES
from reins.core.impulses import Impulse, looked_for_in
from reins.core.processors import PROCESSORS
from reins.core.processors.base import alone
from reins.core.sessions import Document
from reins.errors import ConflictError, InputError, SettingsError, StorageError
from tests.conftest import RATE

Room = PROCESSORS["room"]
RNG = np.random.default_rng(12)


def recorded(seconds, channels=2):
    frames = round(seconds * RATE)
    return RNG.standard_normal((channels, frames)) * 10 ** (-3 * np.arange(frames) / frames)


def as_loud(response):
    """As the room takes it: the louder side has the energy of a click."""
    return response / np.sqrt((response**2).sum(axis=1).max())


def through(response, sound, cuts, **settings):
    with looked_for_in({"hall": Impulse(response, RATE)}.get):
        chosen = Room.Settings(impulse="hall", **{"mix_pct": 100.0, "predelay_ms": 0.0} | settings)
        room, parts, at = Room(chosen, channels=sound.shape[0], sample_rate=RATE), [], 0
        while at < sound.shape[1]:
            count = min(cuts, sound.shape[1] - at)
            parts.append(room.process(alone(np.ascontiguousarray(sound[:, at : at + count]), RATE)))
            at += count
        return np.concatenate(parts, axis=1)


@pytest.mark.parametrize("seconds", [0.004, 0.07, 0.5])
@pytest.mark.parametrize("channels", [1, 2])
def test_it_is_what_scipy_convolves(seconds, channels):
    response, sound = recorded(seconds), 0.2 * RNG.standard_normal((channels, RATE // 2))
    made = through(response, sound, 1000, predelay_ms=20.0)
    wanted = fftconvolve(np.broadcast_to(sound, (2, sound.shape[1])), as_loud(response), axes=1)

    late = LATENCY_FRAMES + 960
    np.testing.assert_allclose(made[:, late:], wanted[:, : made.shape[1] - late], atol=1e-6)
    assert np.abs(made[:, :late]).max() < 1e-9


def test_how_it_is_cut_makes_no_difference_and_it_ends_in_silence_to_the_bit():
    response = recorded(0.4, channels=1)
    sound = np.zeros((1, RATE))
    sound[:, : RATE // 8] = RNG.standard_normal(RATE // 8)
    whole = through(response, sound, RATE)
    for cuts in (1024, 777):
        np.testing.assert_array_equal(through(response, sound, cuts), whole)
    with looked_for_in({"hall": Impulse(response, RATE)}.get):
        end = RATE // 8 + LATENCY_FRAMES + round(Room.tail_s(Room.Settings(impulse="hall", predelay_ms=0.0)) * RATE)
    assert whole[:, end - 30000 : end - 18000].any() and not whole[:, end:].any()


def test_one_that_is_gone_is_said_and_one_at_another_rate_is_brought_to_the_sounds():
    room = Room(Room.Settings(impulse="nobody"), channels=1, sample_rate=RATE)
    with pytest.raises(StorageError, match="not there"):
        room.process(alone(np.ones((1, 64)), RATE))

    slow = np.zeros((1, 4410))
    slow[:, 2205] = 1.0
    click = np.zeros((1, RATE // 4))
    click[:, 0] = 1.0
    with looked_for_in({"hall": Impulse(slow, 44100)}.get):
        settings = Room.Settings(impulse="hall", predelay_ms=0.0, mix_pct=100.0)
        made = Room(settings, channels=1, sample_rate=RATE).process(alone(click, RATE))
    assert np.argmax(np.abs(made[0])) == LATENCY_FRAMES + RATE // 20


def process(folder, impulse):
    settings = {"impulse": impulse, "mix_pct": 100, "predelay_ms": 0}
    chain = {"format": "reins-chain", "version": 1, "processors": [{"type": "room", "settings": settings}]}
    (folder / "chain.json").write_text(json.dumps(chain))
    files = [str(folder / name) for name in ("in.wav", "out.wav", "chain.json")]
    return CliRunner().invoke(app, ["process", files[0], "-o", files[1], "--chain", files[2], "--bits", "32f"])


def test_a_chain_file_names_an_audio_file_beside_it(tmp_path):
    response, sound = recorded(0.3), 0.2 * RNG.standard_normal((2, RATE // 2))
    (tmp_path / "rooms").mkdir()
    soundfile.write(tmp_path / "rooms" / "hall.flac", 0.1 * response.T, RATE, subtype="PCM_24")
    kept, _ = soundfile.read(tmp_path / "rooms" / "hall.flac", always_2d=True)
    soundfile.write(tmp_path / "in.wav", sound.T, RATE, subtype="FLOAT")

    run = process(tmp_path, "rooms/hall.flac")
    assert run.exit_code == 0, run.output
    made, _ = soundfile.read(tmp_path / "out.wav", always_2d=True)
    wanted = fftconvolve(sound, as_loud(kept.T), axes=1)[:, : made.shape[0]]
    np.testing.assert_allclose(made.T, wanted, atol=1e-6)


@pytest.mark.parametrize(
    ("impulse", "sentence"),
    [
        ("../hall.wav", "inside the folder"),
        ("/etc/hall.wav", "inside the folder"),
        ("nothing.wav", "nothing.wav"),
        ("chain.json", "chain.json"),
        ("long.wav", "up to 20 s"),
        ("x" * 201, "200"),
    ],
)
def test_a_wrong_response_is_a_sentence_and_writes_nothing(tmp_path, impulse, sentence):
    soundfile.write(tmp_path / "in.wav", np.ones((480, 1)), RATE)
    soundfile.write(tmp_path / "long.wav", np.zeros((21 * 8000, 1)), 8000)
    run = process(tmp_path, impulse)

    assert isinstance(run.exception, InputError) and sentence in str(run.exception)
    assert not (tmp_path / "out.wav").exists()


def document(**impulses):
    room = {"id": "r", "type": "room", "settings": {"impulse": "hall"}}
    return Document(name="x", impulses=impulses, tracks={"a": {"name": "Snare", "chain": [room]}}, order=["a"])


def test_a_session_has_the_responses_its_rooms_use():
    kept = document(hall="Ferry hall", plate="Deck plate")
    with pytest.raises(SettingsError, match=r"Snare: the response “hall” is not in this session"):
        checked(kept.model_copy(update={"impulses": {}}), kept)
    with pytest.raises(ConflictError, match="used by a room of Snare"):
        RemoveImpulse(kind="remove_impulse", take_id="hall").apply(kept)
    assert RemoveImpulse(kind="remove_impulse", take_id="plate").apply(kept)[0].impulses == {"hall": "Ferry hall"}
