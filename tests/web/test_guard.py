"""Nothing let in: the token beyond this machine, foreign hosts and sites, headers, bodies that are too much."""

import json
import re
import socket
import sqlite3
import stat

import pytest
from fastapi.testclient import TestClient
from starlette.testclient import WebSocketDenialResponse

from reins.errors import ConflictError, InputError
from reins.services.editing import new_session
from reins.services.opening import kept_token
from reins.services.shelf import list_shelf
from reins.web.app import AppSettings, create_app
from reins.web.guard import Guard
from reins.web.server import run_server

HOST = "studio.local"


@pytest.fixture
def outside(house, tmp_path):
    token, _ = kept_token(tmp_path / "data")
    with TestClient(Guard(create_app(AppSettings(), house), (HOST,), token), base_url=f"http://{HOST}") as client:
        client.token = token
        yield client


def test_without_the_token_every_route_and_the_socket_answer_401(house, outside):
    new_session(house, "Evening")
    session_id = list_shelf(house)[0]["id"]
    for path in ("/", f"/sessions/{session_id}", "/guide/compressor", "/static/x.js", "/?token=wrong", "/nowhere"):
        assert outside.get(path).status_code == 401, path
    answer = outside.get("/api/sessions/x")
    assert answer.status_code == 401 and "link that the server printed" in answer.json()["error"]
    assert outside.post("/api/sessions?token=" + outside.token, json={"name": "x"}).status_code == 401
    with (
        pytest.raises(WebSocketDenialResponse) as refused,
        outside.websocket_connect(f"/api/sessions/{session_id}/live", headers={"host": HOST}),
    ):
        pass
    assert refused.value.status_code == 401
    assert len(list_shelf(house)) == 1


def test_the_link_gives_a_cookie_that_opens_everything(house, outside):
    first = outside.get(f"/?token={outside.token}")
    cookie = first.headers["set-cookie"].lower()
    assert first.status_code == 200 and "httponly" in cookie and "samesite=strict" in cookie
    assert outside.token not in first.text  # nor stays the token in the address: the page leads on
    assert re.search('http-equiv="refresh" content="0;url=/"', first.text)

    assert "The shelf is empty" in outside.get("/").text
    session_id = outside.post("/api/sessions", json={"name": "Evening"}).json()["id"]
    shown = {"host": HOST, "cookie": f"reins={outside.token}"}
    with outside.websocket_connect(f"/api/sessions/{session_id}/live", headers=shown) as socket:
        socket.send_text("{}")
        assert "no command" in json.loads(socket.receive_text())["sentence"]


def test_the_token_is_kept_for_its_owner_alone_and_stays(house, tmp_path):
    token, said = kept_token(tmp_path / "data")
    path = tmp_path / "data" / "token"
    assert len(token) >= 40 and stat.S_IMODE(path.stat().st_mode) == 0o600
    path.chmod(0o644)
    assert kept_token(tmp_path / "data") == (token, said) == (token, "")
    assert stat.S_IMODE(path.stat().st_mode) == 0o600


@pytest.mark.parametrize("kept", [b"", b" \n", b"letmein", b"\xff\x00" * 40, b"two words of a token, long enough"])
def test_a_token_that_is_none_is_made_anew_and_said(house, tmp_path, kept):
    path = tmp_path / "data" / "token"
    path.write_bytes(kept)

    token, said = kept_token(tmp_path / "data")

    assert re.fullmatch(r"[\w-]{43}", token) and path.read_text() == token and "no token of ours" in said
    assert stat.S_IMODE(path.stat().st_mode) == 0o600 and not list(path.parent.glob(".token*"))


def test_an_empty_secret_opens_nothing(house):
    guarded = Guard(create_app(AppSettings(), house), (HOST,), "")
    with TestClient(guarded, base_url=f"http://{HOST}") as client:
        assert client.get("/?token=").status_code == 401
        assert client.get("/", headers={"cookie": "reins="}).status_code == 401


def test_the_page_that_leads_on_leads_to_this_desk(outside):
    for path in ("//evil.example/", "/\\evil.example/"):
        outside.cookies.clear()
        page = outside.get(f"http://{HOST}{path}?token={outside.token}").text
        assert re.search('url=/evil.example/"', page), page


@pytest.mark.parametrize(
    "host",
    ["elsewhere.example", "[", "[::1", "", "localhost@elsewhere", "evil@127.0.0.1", "evil@localhost", "192.168.0.7"],
)
def test_an_unknown_host_is_refused(client, host):
    answer = client.get("/api/sessions/x", headers={"host": host})
    assert answer.status_code == 403 and "answers only under the address" in answer.json()["error"]


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({}, 200),
        ({"sec-fetch-site": "same-origin"}, 200),
        ({"sec-fetch-site": "cross-site"}, 403),
        ({"sec-fetch-site": "same-site"}, 403),
        ({"origin": "http://localhost", "sec-fetch-site": "same-origin"}, 200),
        ({"origin": "null"}, 403),
        ({"origin": "http://["}, 403),
    ],
)
def test_another_site_changes_nothing_with_or_without_an_origin(client, house, headers, status):
    assert client.post("/api/sessions", json={"name": "x"}, headers=headers).status_code == status
    assert len(list_shelf(house)) == (status == 200)


def test_every_answer_carries_the_headers(client):
    for path in ("/", "/api/nothing", "/nowhere"):
        headers = client.get(path).headers
        assert headers["cross-origin-opener-policy"] == headers["cross-origin-resource-policy"] == "same-origin"
        assert "microphone=()" in headers["permissions-policy"]


def test_unknown_paths_answer_in_our_own_form(client):
    api, page = client.get("/api/nothing"), client.get("/nowhere")
    assert (api.status_code, page.status_code) == (404, 404)
    assert "nothing at this address" in api.json()["error"] and "nothing at this address" in page.text
    assert client.put("/api/sessions").json()["error"] == "This address is not used that way."


def nested(depth):
    return "[" * depth + "]" * depth


@pytest.mark.parametrize(
    ("body", "status", "said"),
    [
        (nested(100_000), 422, "nested too deeply"),
        ('{"name": ' + "9" * 5000 + "}", 422, "digits"),
        ('{"name": 99999999999999999999}', 422, "64 bits"),
        ('{"name": "\\ud800"}', 422, "surrogate"),
        ('{"\\udfff": 1}', 422, "surrogate"),
        (b'{"name": "\xff"}', 422, "UTF-8"),
        ("{", 422, "not JSON"),
        ('{"name": "' + "x" * (1 << 20) + '"}', 413, "MiB"),
    ],
)
def test_json_that_cannot_be_used_is_a_plain_4xx(client, house, body, status, said):
    answer = client.post("/api/sessions", content=body, headers={"content-type": "application/json"})
    assert answer.status_code == status and said in answer.json()["error"]
    assert list_shelf(house) == []


def test_a_body_without_end_is_stopped(client, house, session_id):
    def without_end():
        for _ in range(40):
            yield b"x" * (1 << 18)

    form = {"content-type": "multipart/form-data; boundary=b"}
    assert client.post("/api/sessions", content=without_end()).status_code == 413
    assert client.post(f"/api/sessions/{session_id}/takes", content=without_end(), headers=form).status_code == 413
    said = client.post("/api/sessions", content=b"{}", headers={"content-length": "9" * 30})
    assert said.status_code == 413
    assert len(list_shelf(house)) == 1


@pytest.mark.parametrize(
    ("method", "path", "body"),
    [
        ("post", "/history", {"number": 2**62}),
        ("post", "/strips/{t}/preview", {"desk": "d", "number": 1, "start": 2**62, "frames": 2**62, "columns": 10}),
        ("post", "/strips/{t}/map", {"desk": "d", "number": 1, "start": 2**62, "frames": 2**62, "columns": 10}),
        ("post", "/changes", {"kind": "set_strip", "strip_id": "{t}", "values": {"start_frame": 2**62}}),
        ("post", "/changes", {"kind": "add_track", "track_id": "a/b"}),
        ("post", "/changes", {"kind": "add_bus", "bus_id": "{t}", "name": "x", "members": []}),
    ],
)
def test_numbers_and_names_that_go_nowhere_get_a_sentence(client, session_id, track_id, method, path, body):
    body = json.loads(json.dumps(body).replace("{t}", track_id))
    answer = getattr(client, method)(f"/api/sessions/{session_id}{path.replace('{t}', track_id)}", json=body)
    assert 400 <= answer.status_code < 500 and answer.json()["error"]


def test_a_frame_that_is_no_json_gets_a_sentence_and_the_socket_stays(client, session_id, track_id):
    with client.websocket_connect(f"/api/sessions/{session_id}/live") as socket:
        for frame in ("{", "[1]", '"x"', nested(1000), '{"type": 99999999999999999999}', '{"type": "\\ud800"}'):
            socket.send_text(frame)
            told = json.loads(socket.receive_text())
            assert told["type"] == "error" and "Nothing was changed" in told["sentence"]
        socket.send_bytes(b"\xff\xfe")
        assert "not JSON" in json.loads(socket.receive_text())["sentence"]
        socket.send_text(json.dumps({"type": "play", "frame": 0}))
        assert json.loads(socket.receive_text())["type"] == "started"


def test_a_port_in_use_and_a_host_without_a_name_are_said_before_anything(tmp_path, capsys):
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        with pytest.raises(ConflictError, match="cannot be listened on"):
            run_server(tmp_path / "d", host="127.0.0.1", port=taken.getsockname()[1], demo=False)
    with pytest.raises(InputError, match="--name"):
        run_server(tmp_path / "d", host="0.0.0.0", port=1, demo=False)
    assert capsys.readouterr().out == "" and not (tmp_path / "d").exists()


def test_a_point_is_not_lost_while_the_database_is_locked(client, house, monkeypatch):
    body = {"type": "compressor", "name": "Mine", "settings": {"ratio": 3.0}}
    (point,) = client.post("/api/points", json=body).json()["points"]
    other = sqlite3.connect(house.folder.root / "reins.db", isolation_level=None)
    with house.database() as db:
        db.execute("PRAGMA busy_timeout = 10")
    other.execute("BEGIN IMMEDIATE")
    refused = client.delete(f"/api/points/{point['id']}")
    other.execute("ROLLBACK")
    other.close()
    assert refused.status_code == 507 and refused.json()["error"]
    assert client.delete(f"/api/points/{point['id']}").status_code == 200
