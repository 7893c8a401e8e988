"""HTTP, lines and WebSocket messages from macros: real servers beside the engine, answers as values, limits."""

from __future__ import annotations

import contextlib
import json
import socket
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from brass_pebble import paths
from brass_pebble.client import EngineClient
from brass_pebble.secret_file import SecretError, read_one, write_one
from conftest import wait_for
from standstill import took

Row = dict[str, Any]


class Oven(BaseHTTPRequestHandler):
    """An oven that tells how hot it is, to who knows the word."""

    heard: list[tuple[str, str, str]]

    def answer(self) -> None:
        body = self.rfile.read(int(self.headers.get("Content-Length") or 0)).decode()
        self.server.heard.append((self.command, self.headers.get("Authorization", ""), body))  # type: ignore[attr-defined]
        if self.path == "/slow":
            time.sleep(3)
        if self.path == "/away":
            self.send_response(302)
            self.send_header("Location", f"http://localhost:{self.server.server_port}/heat")  # type: ignore[attr-defined]
            self.end_headers()
            return
        data = b"x" * 2_000_000 if self.path == "/endless" else json.dumps(
            {"heat": 230.5, "doors": [{"name": "left"}, {"name": "right"}], "on": True}).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    do_GET = do_POST = answer

    def log_message(self, *_: object) -> None:
        """Quiet."""


@pytest.fixture
def oven() -> Iterator[Any]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Oven)
    server.heard = []  # type: ignore[attr-defined]
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()


def play(client: EngineClient, text: str) -> Row:
    client.ask("write_macro", macro="trial", name="trial", text=text)
    trace = client.ask("play", macro="trial")["trace"]

    def row() -> Row:
        return next(dict(row) for row in client.ask("traces")["traces"] if row["id"] == trace)
    wait_for(lambda: row()["state"] not in ("playing", "queued"), 20)
    return row()


def test_json_is_read_back_into_values(client: EngineClient, oven: Any) -> None:
    row = play(client, f'request get "http://127.0.0.1:{oven.server_port}/heat" header "Accept" "application/json" '
                       'into reply at most 2s\nlet heat be decimal(json(reply, "heat"))\n'
                       'show "{heat}"\nlet door be json(reply, "doors.1.name")\nshow "{door}"\n'
                       'if heat > 230 and json(reply, "on") = "yes"\n  show "hot"\n')
    assert row["state"] == "done", row
    assert [remark for remark in row["remarks"] if "showed" in remark] == [
        "line 3: showed “230.5”", "line 5: showed “right”", "line 7: showed “hot”"]


def test_a_secret_header_stands_in_no_trace_and_goes_to_no_other_host(client: EngineClient, oven: Any) -> None:
    write_one(paths.secrets_file(), "oven word", "Bearer crumbs")
    where = f"http://127.0.0.1:{oven.server_port}"
    row = play(client, f'request post "{where}/heat" with "240" header "Authorization" secret "oven word" into reply\n')
    assert row["state"] == "done" and oven.heard == [("POST", "Bearer crumbs", "240")]
    assert "crumbs" not in json.dumps(client.ask("traces"))
    # The desk lets redirects go elsewhere: the secret stays behind.
    folder = Path(client.hello["folder"])
    (folder / "desk.toml").write_text((folder / "desk.toml").read_text().replace(
        "format = 1\n", 'format = 1\nredirects = "anywhere"\n', 1))
    wait_for(lambda: client.ask("desk")["desk"]["settings"].get("redirects") == "anywhere")
    oven.heard.clear()
    row = play(client, f'request get "{where}/away" header "Authorization" secret "oven word" into reply\n')
    assert row["state"] == "done" and oven.heard == [("GET", "Bearer crumbs", ""), ("GET", "", "")]
    row = play(client, f'request get "{where}/heat" header "Authorization" secret "no such" into reply\n')
    assert "there is no secret “no such”" in row["remarks"][0] and row["state"] == "stopped"


def test_what_does_not_answer_ends_the_wait_or_takes_the_other_way(client: EngineClient, oven: Any) -> None:
    where = f"http://127.0.0.1:{oven.server_port}"
    began = time.monotonic()
    row = play(client, f'request get "{where}/slow" into reply at most 300ms\notherwise\n  show "cold"\n')
    assert took(began) < 2 and "line 3: showed “cold”" in row["remarks"]
    row = play(client, f'request get "{where}/endless" into reply\n')
    assert "answered with more than 1,000,000 bytes" in row["remarks"][0]
    assert row["why"] == "line 1: there was no answer for “reply”"


def test_lines_by_tcp_and_udp_with_their_answers(client: EngineClient) -> None:
    listener = socket.create_server(("127.0.0.1", 0))
    heard: list[bytes] = []

    def serve() -> None:
        for _ in range(2):
            connection, _ = listener.accept()
            heard.append(connection.recv(100))
            connection.sendall(b"warm\r\nmore\n")
            connection.close()
    threading.Thread(target=serve, daemon=True).start()
    port = listener.getsockname()[1]
    row = play(client, f'let heat be 240\nsend line "heat {{heat}}" to "127.0.0.1:{port}" into reply\n'
                       'show "{reply}"\n'
                       f'send line "bye" to "127.0.0.1:{port}"\n')
    assert "line 3: showed “warm”" in row["remarks"]
    wait_for(lambda: heard == [b"heat 240\n", b"bye\n"])
    udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    udp.bind(("127.0.0.1", 0))
    udp.settimeout(10)

    def echo() -> None:
        data, sender = udp.recvfrom(100)
        udp.sendto(data.upper(), sender)
    threading.Thread(target=echo, daemon=True).start()
    row = play(client, f'send line "rye" to "127.0.0.1:{udp.getsockname()[1]}" by udp into reply\nshow "{{reply}}"\n')
    assert "line 2: showed “RYE”" in row["remarks"]
    listener.close()
    row = play(client, f'send line "x" to "127.0.0.1:{port}" into reply\notherwise\n  show "nobody"\n')
    assert "could not be reached" in row["remarks"][0] and row["remarks"][1] == "line 3: showed “nobody”"


def test_websocket_messages_with_their_answers(client: EngineClient) -> None:
    from websockets.sync.server import serve
    heard: list[object] = []

    def talk(connection: Any) -> None:
        for message in connection:
            heard.append(message)
            connection.send(json.dumps({"said": message}))
    with serve(talk, "127.0.0.1", 0) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        port = server.socket.getsockname()[1]
        row = play(client, f'send message "oven on" to "ws://127.0.0.1:{port}/x" into reply at most 5s\n'
                           'let said be json(reply, "said")\nshow "{said}"\n')
        assert "line 3: showed “oven on”" in row["remarks"] and heard == ["oven on"]
        server.shutdown()
    row = play(client, f'send message "x" to "ws://127.0.0.1:{port}" into reply at most 1s\notherwise\n  show "gone"\n')
    assert "line 3: showed “gone”" in row["remarks"]


def test_fifty_slow_helpers_hold_nobody_up_and_end_at_once(client: EngineClient, oven: Any) -> None:
    client.ask("write_macro", macro="slow", name="slow", text='again both\nrun "sleep" "30"\nwait 100ms\n')
    for _ in range(50):
        client.ask("play", macro="slow")
    began = time.monotonic()
    row = play(client, f'run "true"\nrequest get "http://127.0.0.1:{oven.server_port}/heat" into reply\nshow "there"\n')
    assert "line 3: showed “there”" in row["remarks"] and took(began) < 3
    assert not [remark for remark in row["remarks"] if "late" in remark]

    def sleeping() -> int:
        found = 0
        for folder in Path("/proc").glob("[0-9]*"):
            # It may end while it is looked at.
            with contextlib.suppress(OSError):
                found += (folder / "cmdline").read_bytes() == b"sleep\x0030\x00"
        return found
    wait_for(lambda: sleeping() >= 50)
    began = time.monotonic()
    client.ask("stop")
    wait_for(lambda: sleeping() == 0)
    assert took(began) < 1


@pytest.mark.parametrize(("text", "kept"), [
    ("tok\r", "tok"), ("tok\r\n", "tok"), ("tok\n\n", "tok"), ("a b", "a b"), ("a\nb", None), ("a\tb", None),
    ("\n", None), ("a\x1b[31m", None),
])
def test_a_secret_is_one_line(text: str, kept: str | None) -> None:
    file = paths.secrets_file()
    if kept is None:
        with pytest.raises(SecretError, match=r"one line|1 to 4,000"):
            write_one(file, "word", text)
    else:
        write_one(file, "word", text)
        assert read_one(file, "word") == kept


@pytest.mark.parametrize("secret", ["žluťoučký", "HUNTER2\nsecond-line", "x" * 3_000 + "\r"])
def test_no_sentence_of_a_library_tells_a_secret(secret: str, client: EngineClient, oven: Any) -> None:
    """In a file from before, or written by hand, it may be anything."""
    write_one(paths.secrets_file(), "word", "known")
    paths.secrets_file().write_text(json.dumps({"word": secret}))
    row = play(client, f'request get "http://127.0.0.1:{oven.server_port}/heat" header "Authorization" secret "word" '
                       'into reply\n')
    told = json.dumps(client.ask("traces"), ensure_ascii=False) + row["why"]
    assert secret[:6] not in told and "second-line" not in told and "ž" not in told
    assert row["state"] == "stopped" and "could not be reached" in row["remarks"][0]
