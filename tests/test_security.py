"""Who may talk to the server, how much may be sent, and what is never believed."""

import re
import socket
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace

import httpx
import numpy as np
import pytest
import soundfile
from starlette.testclient import TestClient, WebSocketDenialResponse
from uvicorn.middleware.proxy_headers import ProxyHeadersMiddleware

from miclane.core.errors import MicLaneError, UnusableDataError
from miclane.studio.passwords import TRIES, doorkeeper, set_password
from miclane.web.app import HOSTS, close_app, create_app
from miclane.web.security import LARGEST_BYTES


@pytest.fixture
def web(demo: SimpleNamespace) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=demo.address, timeout=120) as client:
        yield client


@pytest.mark.parametrize(
    "host",
    ["evil.example", "[", "evil.com@127.0.0.1", "127.0.0.1#.evil.com", "[::1", "127.0.0.1.evil.com", "", "[::1]:80"],
)
def test_other_host_names_are_refused(demo: SimpleNamespace, host: str) -> None:
    port = int(demo.address.rsplit(":", 1)[1])
    with socket.create_connection(("127.0.0.1", port)) as line:
        line.sendall(f"GET / HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n".encode())
        answer = b"".join(iter(lambda: line.recv(65536), b"")).decode()
    assert re.match(r"HTTP/1.1 4\d\d ", answer)
    assert "Mic Lane" not in answer


@pytest.mark.parametrize(
    "headers",
    [
        {"origin": "http://evil.example"},
        {"origin": "null"},
        {"origin": "http://["},
        {"origin": "://"},
        {"sec-fetch-site": "cross-site"},
        {"sec-fetch-site": "same-site"},
    ],
)
def test_changes_from_elsewhere_are_refused(web: httpx.Client, headers: dict[str, str]) -> None:
    answer = web.post("/s/salt-ferry/undo", headers=headers)
    assert answer.status_code == 403
    assert "default-src 'none'" in answer.headers["content-security-policy"]


def test_the_scheme_of_the_origin_counts(web: httpx.Client, demo: SimpleNamespace) -> None:
    own = demo.address
    edit = {"edits": []}
    assert web.post("/s/salt-ferry/edits", json=edit, headers={"origin": own}).status_code == 200
    other = own.replace("http:", "https:")
    assert web.post("/s/salt-ferry/edits", json=edit, headers={"origin": other}).status_code == 403


def test_other_sites_may_link_to_pages_but_make_nothing_render(web: httpx.Client) -> None:
    visit = {"sec-fetch-site": "cross-site", "sec-fetch-mode": "navigate"}
    assert web.get("/s/salt-ferry/lane/lead", headers=visit).status_code == 200
    for address in ("report?again=1", "body?stage=clean", "picture/peaks?start=0&stop=48000&first=0&last=48000"):
        assert web.get(f"/s/salt-ferry/lane/lead/{address}", headers=visit).status_code == 403
    sound = "/s/salt-ferry/sound?lane=lead&start=0&stop=48000"
    assert web.get(sound, headers={"sec-fetch-site": "cross-site", "sec-fetch-mode": "no-cors"}).status_code == 403
    assert web.get(sound, headers={"sec-fetch-site": "same-origin"}).status_code == 200


def test_every_answer_carries_the_headers(web: httpx.Client, demo: SimpleNamespace) -> None:
    def fail() -> None:
        raise ValueError("not the user's doing")

    demo.app.add_api_route("/fault", fail)
    for address, status in (("/", 200), ("/nowhere", 404), ("/s/nowhere", 404), ("/fault", 500)):
        answer = web.get(address)
        assert answer.status_code == status
        policy = answer.headers["content-security-policy"]
        assert "default-src 'none'" in policy
        assert "unsafe" not in policy
    assert "fault of Mic Lane's own" in web.get("/fault").text
    assert "not the user's doing" not in web.get("/fault").text


def test_a_body_that_is_too_large_is_refused_before_it_is_read(demo: SimpleNamespace) -> None:
    port = int(demo.address.rsplit(":", 1)[1])
    for path, length in (("/s/salt-ferry/import", LARGEST_BYTES + 1), ("/s/salt-ferry/edits", 1 << 24)):
        with socket.create_connection(("127.0.0.1", port)) as line:
            head = f"POST {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n"
            line.sendall(head.encode())
            assert line.recv(65536).startswith(b"HTTP/1.1 413 ")


def test_a_body_without_a_length_is_counted_while_it_is_read(web: httpx.Client) -> None:
    def body() -> Iterator[bytes]:
        for _ in range(16):
            yield b" " * (1 << 20)

    answer = web.post("/s/salt-ferry/edits", content=body())
    assert answer.status_code == 413
    assert web.get("/s/salt-ferry/version").status_code == 200


def test_a_small_file_that_unpacks_to_a_huge_one_is_refused(web: httpx.Client, tmp_path: Path) -> None:
    path = tmp_path / "bomb.flac"
    with soundfile.SoundFile(path, "w", 384000, 2, "PCM_16", format="FLAC") as file:
        silence = np.zeros((384000 * 30, 2), np.int16)
        for _ in range(20):
            file.write(silence)
    files = {"file": ("bomb.flac", path.read_bytes())}
    answer = web.post("/s/salt-ferry/import", files=files)
    assert answer.status_code == 422
    assert "minutes" in answer.json()["error"]


def test_a_print_of_one_session_cannot_be_had_through_another(demo: SimpleNamespace, web: httpx.Client) -> None:
    soundless = web.post("/sessions", json={"name": "Other"}).json()["id"]
    made = web.post("/s/salt-ferry/prints", json={"targets": ["lane:lead"], "format": "flac-16"}).json()["id"]
    demo.app.state.printer.wait()
    assert web.get(f"/s/{soundless}/prints/{made}/0").status_code == 404
    assert web.post(f"/s/{soundless}/prints/{made}/cancel").status_code == 404


def behind(app: object) -> TestClient:
    """A browser that reaches the application through a proxy with TLS."""
    proxied = ProxyHeadersMiddleware(app, trusted_hosts="*")  # type: ignore[arg-type]
    return TestClient(proxied, "https://mix.example", headers={"x-forwarded-proto": "https"}, follow_redirects=False)


def test_behind_a_proxy_the_password_opens_and_a_cookie_keeps_open(tmp_path: Path) -> None:
    with pytest.raises(UnusableDataError, match="at least"):
        set_password(tmp_path, "short")
    set_password(tmp_path, "salt on the water")
    assert (tmp_path / "password.json").stat().st_mode & 0o777 == 0o600
    assert "salt on the water" not in (tmp_path / "password.json").read_text()
    app = create_app(tmp_path, HOSTS | {"mix.example"}, doorkeeper(tmp_path))
    try:
        web = behind(app)
        assert web.get("/", headers={"accept": "text/html"}).headers["location"] == "/login"
        assert web.get("/s/x/sound").status_code == 401
        assert web.post("/sessions", json={"name": "x"}, headers={"origin": "https://mix.example"}).status_code == 401
        with pytest.raises(WebSocketDenialResponse) as shut, web.websocket_connect("wss://mix.example/line?window=w"):
            pass
        assert shut.value.status_code == 401
        assert "password" in web.get("/login").text
        assert web.post("/login", data={"password": "wrong"}).status_code == 403
        answer = web.post("/login", data={"password": "salt on the water"}, headers={"origin": "https://mix.example"})
        assert answer.status_code == 303
        for part in ("HttpOnly", "SameSite=strict", "Secure"):
            assert part in answer.headers["set-cookie"]
        assert web.get("/").status_code == 200
        assert web.post("/sessions", json={"name": "x"}, headers={"origin": "https://mix.example"}).status_code == 201
        assert web.post("/sessions", json={"name": "x"}, headers={"origin": "http://mix.example"}).status_code == 403
        own = {"origin": "https://mix.example"}
        with web.websocket_connect("wss://mix.example/line?window=w", headers=own) as line:
            line.send_text('{"wish": 1, "address": "/s/x/version"}')
            assert b'"status": 404' in line.receive_bytes()
        with (
            pytest.raises(WebSocketDenialResponse),
            web.websocket_connect("wss://mix.example/line", headers={"origin": "http://mix.example"}),
        ):
            pass
        stranger = behind(app)
        for _ in range(TRIES):
            assert stranger.post("/login", data={"password": "guess"}).status_code == 403
        assert stranger.post("/login", data={"password": "salt on the water"}).status_code == 429
    finally:
        close_app(app)


def test_the_password_of_the_environment_counts(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    assert doorkeeper(tmp_path) is None
    monkeypatch.setenv("MICLANE_PASSWORD", "a ferry at night")
    keeper = doorkeeper(tmp_path)
    assert keeper is not None
    assert keeper.enter("a ferry by day", "x") is None
    token = keeper.enter("a ferry at night", "x")
    assert token
    assert keeper.knows(token)
    assert not keeper.knows(token + "x")
    (tmp_path / "password.json").write_text("{")
    monkeypatch.delenv("MICLANE_PASSWORD")
    with pytest.raises(MicLaneError, match="password again"):
        doorkeeper(tmp_path)


def test_data_is_for_its_owner_only(tmp_path: Path) -> None:
    app = create_app(tmp_path / "data")
    try:
        assert (tmp_path / "data").stat().st_mode & 0o777 == 0o700
        assert (tmp_path / "data" / "miclane.sqlite").stat().st_mode & 0o777 == 0o600
    finally:
        close_app(app)
