"""The tempo that a session's takes have in common is told as they come in."""

import soundfile

from tests.conftest import RATE
from tests.core.test_common_tempo import strokes
from tests.web.conftest import bring_in


def test_it_is_found_without_anything_being_opened(client, session_id, tmp_path):
    soundfile.write(tmp_path / "kick.wav", strokes(104), RATE, subtype="PCM_24")
    bring_in(client, session_id, tmp_path / "kick.wav")

    told = client.get(f"/api/sessions/{session_id}/tempo").json()

    assert told["sure"] is True and min(abs(told["found_bpm"] / bpm - 1) for bpm in (52, 104, 208)) < 0.005


def test_a_session_without_takes_has_none_and_one_that_is_not_there_is_not_found(client, session_id):
    assert client.get(f"/api/sessions/{session_id}/tempo").json() == {"found_bpm": None, "sure": False}
    assert client.get("/api/sessions/nobody/tempo").status_code == 404
