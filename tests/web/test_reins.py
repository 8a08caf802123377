"""What a rein's pictures show, over the wire."""

import numpy as np
import pytest
import soundfile

from reins.core.measure.beats import LEVELS_DB
from tests.conftest import RATE
from tests.web.conftest import bring_in

LOUD, QUIET = 0.5, 0.05


@pytest.fixture
def lopsided(client, session_id, tmp_path):
    """A track of one second of 1 kHz whose left side is 20 dB louder than its right."""
    tone = np.sin(2 * np.pi * 1000 * np.arange(RATE) / RATE)
    soundfile.write(tmp_path / "Lopsided.wav", np.stack([LOUD * tone, QUIET * tone], axis=1), RATE, subtype="FLOAT")
    return bring_in(client, session_id, tmp_path / "Lopsided.wav")["result"]["track_id"]


def followed(client, session_id, strip_id, source, rein_id="r", **more):
    by = {"kind": "key", "key": {"source": source}, "floor_db": -40.0, "ceiling_db": -10.0, "attack_ms": 0}
    body = {"desk": "d", "number": 1, "start": 0, "frames": RATE, "columns": 50}
    rein = {"id": rein_id, "moves": [{"what": "strip.fader_db", "to": -9.0}], "by": by}
    return client.post(f"/api/sessions/{session_id}/strips/{strip_id}/followed", json=body | {"rein": rein} | more)


def test_the_level_of_a_key_and_the_value_it_makes(client, session_id, track_id, lopsided):
    for source, level in (("self", LOUD), (f"{lopsided}/before", LOUD), (f"{lopsided}/before:right", QUIET)):
        strip = lopsided if source == "self" else track_id
        answer = followed(client, session_id, strip, source).json()
        level_db = 20 * np.log10(level)
        assert answer["key_db"][1:-1] == pytest.approx([level_db] * 48, abs=0.05), source
        # Halfway between floor and ceiling in dB is half the way there.
        assert max(answer["value"][10:]) == pytest.approx(min(1, (level_db + 40) / 30), abs=0.01), source


def test_an_absurd_part_a_long_id_and_a_rein_that_is_off_are_answered(client, session_id, track_id):
    far = followed(client, session_id, track_id, "self", frames=1 << 40, columns=64).json()
    assert far["key_db"][0] > -7 and far["key_db"][1:] == [-120.0] * 63
    assert followed(client, session_id, track_id, "self", start=1 << 39).json()["value"] == [0.0] * 50
    assert len(followed(client, session_id, track_id, "self", frames=3, columns=9).json()["value"]) == 9
    assert followed(client, session_id, track_id, "self", rein_id="r" * 5000).status_code == 200


def test_what_cannot_be_followed_is_said(client, session_id, track_id):
    for answer, sentence in (
        (followed(client, session_id, track_id, "ghost/after"), "key.source is “ghost/after”"),
        (followed(client, session_id, track_id, f"{track_id}/after"), "close a circle"),
        (followed(client, session_id, track_id, "self", columns=0), "allowed: 1 to"),
        (followed(client, session_id, track_id, "self", rein={"moves": [], "by": {"kind": "beat"}}), "moves"),
        (followed(client, session_id, track_id, "self", rein={"by": {"kind": "key", "floor_db": 300}}), "floor_db"),
    ):
        assert 400 <= answer.status_code < 500
        assert sentence in answer.json()["error"]


def test_a_sound_and_one_side_of_a_key_are_folded_over_the_beat(client, session_id, lopsided):
    body = {"desk": "d", "number": 1, "beats": 0.5, "key": f"{lopsided}/before:right"}

    fold = client.post(f"/api/sessions/{session_id}/strips/{lopsided}/folded", json=body).json()

    for name, level in (("source", LOUD), ("key", QUIET)):
        at = np.searchsorted(LEVELS_DB, 20 * np.log10(level), side="right") - 1
        shares = np.array(fold[name])
        assert (shares.argmax(axis=1) == at).mean() > 0.95, name
