"""What is called may be slow on purpose: “at most” holds all the same, and a stop frees everything at once."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import os
import signal
import socket
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from brass_pebble.client import EngineClient, start_engine
from brass_pebble.core.macro.asks import CatchUp, Errand, Finish, GaveUp, Question, reach_of_ask
from brass_pebble.core.macro.reader import parse
from brass_pebble.core.macro.timetable import Score
from brass_pebble.core.macro.value.kinds import Given
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.data_table import read_table
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keymap import keymap
from brass_pebble.demo import ENGINE_OPTIONS, know
from brass_pebble.kinds.errands import names
from brass_pebble.kinds.errands.base import World, fits, perform
from brass_pebble.kinds.errands.call import STOPPED, Call, Over
from brass_pebble.kinds.errands.helpers import Helpers
from brass_pebble.kinds.errands.http import origin, same_place
from brass_pebble.kinds.errands.lines import Line
from brass_pebble.kinds.errands.names import Names, NotFound
from brass_pebble.kinds.errands.pasting import Pasting
from brass_pebble.kinds.errands.table import POOLS, errand_kinds
from conftest import wait_for
from standstill import took
from test_network_steps import play

PAUSE = 0.2
# What the engine itself does at once.
HERE = {"show", "ring", "stop", "layer", "asleep", "secret"}


class Peer:
    """A server each of whose connections is treated by `talk(connection)`, on a thread, until the test is over."""

    def __init__(self, talk: Callable[[socket.socket], None]) -> None:
        self._talk = talk
        self._listener = socket.create_server(("127.0.0.1", 0), backlog=100)
        self.port: int = self._listener.getsockname()[1]
        self.over = threading.Event()
        self.closed = threading.Semaphore(0)
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while not self.over.is_set():
            try:
                connection, _ = self._listener.accept()
            except OSError:
                return
            threading.Thread(target=self._treat, args=(connection,), daemon=True).start()

    def _treat(self, connection: socket.socket) -> None:
        with connection:
            try:
                self._talk(connection)
                while connection.recv(65_536):
                    pass
            except OSError:
                pass
        self.closed.release()

    def close(self) -> None:
        self.over.set()
        self._listener.close()


def for_ever(connection: socket.socket, piece: bytes, pause: float = PAUSE) -> None:
    """Say something again and again, until nobody is there any more."""
    while True:
        connection.sendall(piece)
        time.sleep(pause)


def drips_its_head(connection: socket.socket) -> None:
    connection.sendall(b"HTTP/1.1 200 OK\r\nX-Slow: ")
    for_ever(connection, b"a")


def drips_its_body(connection: socket.socket) -> None:
    connection.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 100000\r\n\r\n")
    for_ever(connection, b"a")


def says_go_on_without_end(connection: socket.socket) -> None:
    for_ever(connection, b"HTTP/1.1 100 Continue\r\n\r\n", 0.001)


def ends_no_header(connection: socket.socket) -> None:
    connection.sendall(b"HTTP/1.1 200 OK\r\n")
    for_ever(connection, b"X-More: again\r\n")


def says_nothing(connection: socket.socket) -> None:
    """Silence."""


def shakes_hands(connection: socket.socket) -> None:
    head = b""
    while b"\r\n\r\n" not in head:
        head += connection.recv(65_536)
    key = next(line.split(b": ")[1] for line in head.split(b"\r\n") if line.lower().startswith(b"sec-websocket-key"))
    told = base64.b64encode(hashlib.sha1(key + b"258EAFA5-E914-47DA-95CA-C5AB0DC85B11").digest())
    connection.sendall(b"HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n"
                       b"Sec-WebSocket-Accept: " + told + b"\r\n\r\n")


def pings_without_end(connection: socket.socket) -> None:
    shakes_hands(connection)
    for_ever(connection, b"\x89\x00", 0.001)


def says_no_goodbye(connection: socket.socket) -> None:
    """It answers at once, and then neither closes nor hears that the other one does."""
    shakes_hands(connection)
    connection.sendall(b"\x81\x04warm")
    time.sleep(30)


def leads_elsewhere(connection: socket.socket) -> None:
    connection.recv(65_536)
    connection.sendall(b"HTTP/1.1 302 Found\r\nLocation: ws://127.0.0.1:9/admin\r\nContent-Length: 0\r\n\r\n")


HOSTILE: dict[str, tuple[Callable[[socket.socket], None], str]] = {
    "a head that drips": (drips_its_head, 'request get "http://127.0.0.1:{port}/"'),
    "a body that drips": (drips_its_body, 'request get "http://127.0.0.1:{port}/"'),
    "go on, without end": (says_go_on_without_end, 'request get "http://127.0.0.1:{port}/"'),
    "headers without end": (ends_no_header, 'request get "http://127.0.0.1:{port}/"'),
    "nothing": (says_nothing, 'request get "http://127.0.0.1:{port}/"'),
    "TLS that says nothing": (says_nothing, 'request get "https://127.0.0.1:{port}/"'),
    "a line that drips": (lambda there: for_ever(there, b"a"), 'send line "heat?" to "127.0.0.1:{port}"'),
    "a handshake that drips": (drips_its_head, 'send message "heat?" to "ws://127.0.0.1:{port}"'),
    "pings without end": (pings_without_end, 'send message "heat?" to "ws://127.0.0.1:{port}"'),
}


@pytest.fixture
def peer() -> Iterator[Callable[[Callable[[socket.socket], None]], Peer]]:
    made: list[Peer] = []

    def make(talk: Callable[[socket.socket], None]) -> Peer:
        made.append(Peer(talk))
        return made[-1]
    yield make
    for one in made:
        one.close()


@pytest.mark.parametrize("how", HOSTILE)
def test_at_most_holds_whatever_the_other_side_does(how: str, client: EngineClient,
                                                    peer: Callable[..., Peer]) -> None:
    talk, step = HOSTILE[how]
    there = peer(talk)
    began = time.monotonic()
    row = play(client, f"keep Ctrl down\n  {step.format(port=there.port)} into reply at most 400ms\n")
    assert took(began) < 2
    assert row["state"] == "stopped" and "did not answer within 0.4 s" in row["remarks"][0], row
    assert there.closed.acquire(timeout=2), "the connection is still there"


@pytest.mark.parametrize("how", HOSTILE)
def test_a_stop_ends_a_call_at_once(how: str, client: EngineClient, peer: Callable[..., Peer]) -> None:
    talk, step = HOSTILE[how]
    there = peer(talk)
    client.ask("write_macro", macro="slow", name="slow", text=f"keep Ctrl down\n  {step.format(port=there.port)} into "
               "reply at most 60s\n")
    client.ask("play", macro="slow")
    time.sleep(0.3)
    began = time.monotonic()
    assert client.ask("stop")["runs"] == 1
    assert there.closed.acquire(timeout=5)
    assert took(began) < 1


def test_a_pool_that_is_full_of_slow_calls_is_free_after_a_stop(client: EngineClient,
                                                                peer: Callable[..., Peer]) -> None:
    slow, oven = peer(drips_its_body), peer(lambda there: there.sendall(
        b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close\r\n\r\nok"))
    client.ask("write_macro", macro="slow", name="slow", text=f"again both\nrequest get "
               f'"http://127.0.0.1:{slow.port}/" into reply at most 60s\n')
    for _ in range(40):
        client.ask("play", macro="slow")
    # Of those that wait for their turn, too, none waits for longer than its own time.
    row = play(client, f'request get "http://127.0.0.1:{oven.port}/" into reply at most 300ms\n')
    assert "did not answer within 0.3 s" in row["remarks"][0]
    assert client.ask("stop")["runs"] == 40
    began = time.monotonic()
    row = play(client, f'request get "http://127.0.0.1:{oven.port}/" into reply at most 5s\nshow "{{reply}}"\n')
    assert "line 2: showed “ok”" in row["remarks"] and took(began) < 2


def test_a_goodbye_that_never_comes_is_not_waited_for(client: EngineClient, peer: Callable[..., Peer]) -> None:
    there = peer(says_no_goodbye)
    began = time.monotonic()
    row = play(client, f'send message "heat?" to "ws://127.0.0.1:{there.port}" into reply at most 3s\n'
                       'show "{reply}"\n')
    assert "line 2: showed “warm”" in row["remarks"] and took(began) < 2.5


def test_an_answer_that_came_in_time_counts_though_the_goodbye_does_not(client: EngineClient,
                                                                        peer: Callable[..., Peer]) -> None:
    there = peer(says_no_goodbye)
    row = play(client, f'send message "heat?" to "ws://127.0.0.1:{there.port}" into reply at most 1s\n'
                       'show "{reply}"\n')
    assert "line 2: showed “warm”" in row["remarks"], row


def no_length(connection: socket.socket) -> None:
    connection.sendall(b"HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n")
    for_ever(connection, b"part of it ")


@pytest.mark.parametrize(("talk", "step"), [
    (no_length, 'request get "http://127.0.0.1:{port}/"'),
    (lambda there: for_ever(there, b"half a line "), 'send line "heat?" to "127.0.0.1:{port}"'),
])
def test_a_part_of_an_answer_is_none(talk: Callable[[socket.socket], None], step: str, client: EngineClient,
                                     peer: Callable[..., Peer]) -> None:
    row = play(client, f"{step.format(port=peer(talk).port)} into reply at most 500ms\nshow \"{{reply}}\"\n")
    assert row["state"] == "stopped" and "did not answer within 0.5 s" in row["remarks"][0], row


@pytest.mark.parametrize(("at", "says"), [(0.49, "the mill did not answer within 0.5 s"),
                                          (0.1, "the mill could not be reached: timed out")])
def test_a_socket_that_gives_up_a_moment_before_its_time_was_too_late(at: float, says: str) -> None:
    now = [0.0]

    class Mill:
        fields, tells = (), False

        def whom(self, ask: object) -> str:
            return "the mill"

        def do(self, ask: object, call: Call) -> None:
            now[0] = at
            raise TimeoutError("timed out")
    assert perform(Mill(), object(), Call(0.5, Names(), lambda: now[0])) == (says, False)  # type: ignore[arg-type]


def world(tmp_path: Path) -> World:
    return World(Helpers(), Pasting(), lambda: tmp_path, lambda name: "HUNTER2", lambda: False, lambda *, begins: None)


def test_whatever_a_step_asks_has_a_kind_with_a_deadline(tmp_path: Path) -> None:
    """Over all examples of all steps: nothing is asked of the world that has no threads, no limit and no reach."""
    kinds, seen = errand_kinds(world(tmp_path)), set[str]()
    texts = [row[-1].replace("\\n", "\n") for table in ("steps.tsv", "conditions.tsv") for row in read_table(table)]
    texts += [f"read x from {what}" for what in ("clipboard", "window title", 'file "a"', 'shell "a"', 'command "a"')]
    texts += ['raise window "x"', 'minimise window "x"', 'run "x"', 'run shell "x"']
    for text in texts:
        draft = parse(text + "\n", id="x")
        timeline, laying = Score(draft.steps, *draft.times, keymap()).start(Given())
        answer: object = None
        with contextlib.suppress(StopIteration, Finish, GaveUp, ProblemError):
            for _ in range(100):
                ask = laying.send(answer)
                answer = None if isinstance(ask, CatchUp) else True
                if isinstance(ask, CatchUp | Question) or (isinstance(ask, Errand) and ask.kind in HERE):
                    continue
                word = ask.kind if isinstance(ask, Errand) else type(ask).__name__
                seen.add(word)
                kind = kinds[word]()
                assert kind.pool in POOLS and kind.reach and reach_of_ask(ask), word
                assert not isinstance(ask, Errand) or fits(kind.fields, ask.words), (word, ask.words)
                assert 0 < kind.limit(ask) <= 65_000_000_000 and kind.whom(ask), word
        timeline.finish()
    assert {*kinds} == seen, {*kinds} ^ seen


@pytest.mark.parametrize(("old", "new", "same"), [
    ("http://a.example/x", "https://a.example/y", True), ("https://a.example/x", "http://a.example/x", False),
    ("http://a.example:81/", "http://a.example:82/", False), ("https://A.example:443/", "https://a.example/", True),
])
def test_a_secret_stays_with_its_place(old: str, new: str, same: bool) -> None:
    assert same_place(origin(old), origin(new)) is same


def test_a_message_is_led_nowhere_else(client: EngineClient, peer: Callable[..., Peer]) -> None:
    there = peer(leads_elsewhere)
    row = play(client, f'send message "heat?" to "ws://127.0.0.1:{there.port}" into reply at most 3s\n')
    assert row["state"] == "stopped" and "/admin" not in str(row["why"]), row
    assert f"ws://127.0.0.1:{there.port} does not talk WebSocket" in row["remarks"][0]


# Names.

SLOW_NAMES = """
import socket, time
known = socket.getaddrinfo
def slow(host, *rest, **more):
    if str(host).endswith(".example"):
        time.sleep(20)
        raise socket.gaierror(-3, "Temporary failure in name resolution")
    return known("127.0.0.1" if host == "oven.test" else host, *rest, **more)
socket.getaddrinfo = slow
"""


@pytest.fixture
def slow_names(desk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[EngineClient]:
    """An engine on a computer whose name server does not answer for “….example”."""
    (tmp_path / "here").mkdir()
    (tmp_path / "here" / "sitecustomize.py").write_text(SLOW_NAMES)
    monkeypatch.setenv("PYTHONPATH", str(tmp_path / "here"))
    socket_path, process = start_engine(desk, *(word for word in ENGINE_OPTIONS if word != "--until-left"))
    with EngineClient(socket_path, "test") as connected:
        connected.set_timeout(10)
        yield connected
    process.send_signal(signal.SIGTERM)
    assert process.wait(timeout=15) == 0


def test_a_name_that_nobody_knows_takes_no_longer_than_allowed(slow_names: EngineClient,
                                                               peer: Callable[..., Peer]) -> None:
    began = time.monotonic()
    row = play(slow_names, 'request get "http://deck.example/" into reply at most 400ms\n')
    assert took(began) < 2 and "did not answer within 0.4 s" in row["remarks"][0]
    # Ten look-ups that hang hold up nobody who asks for another name, nor one in numbers.
    slow_names.ask("write_macro", macro="hangs", name="hangs",
                   text='again both\nsend osc "/a" to "deck.example:9000"\nsend line "x" to "mill.example:9" into r '
                        'at most 30s\n')
    for _ in range(10):
        slow_names.ask("play", macro="hangs")
    oven = peer(lambda there: there.sendall(b"warm\n"))
    for host in ("oven.test", "127.0.0.1"):
        began = time.monotonic()
        row = play(slow_names, f'send line "heat?" to "{host}:{oven.port}" into reply at most 3s\nshow "{{reply}}"\n')
        assert "line 2: showed “warm”" in row["remarks"] and took(began) < 2, row
    began = time.monotonic()
    slow_names.ask("stop")
    assert took(began) < 1


@pytest.fixture
def sender(display: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[EngineClient]:
    """The same with an output that leaves OSC to datagrams."""
    (tmp_path / "here").mkdir()
    (tmp_path / "here" / "sitecustomize.py").write_text(SLOW_NAMES)
    monkeypatch.setenv("PYTHONPATH", str(tmp_path / "here"))
    desk = tmp_path / "desk"
    desk.mkdir()
    (desk / "desk.toml").write_text('format = 1\nname = "Far"\noutput = "x11"\n[surface.pad]\nlayout = "grid-3x2"\n'
                                    'device = { port = "bench hub" }\n[surface.pad.layer.base.press]\n'
                                    '1 = { set = "osc /a to deck.example:9000 at 50 %" }\n2 = { tap = "F13" }\n')
    (tmp_path / "bench.toml").write_text(
        '[[device]]\nid = "bench/pad"\nname = "Pad"\nport = "bench hub"\nlayout = "grid-3x2"\n')
    know(desk)
    socket_path, process = start_engine(desk, "--bench", str(tmp_path / "bench.toml"), "--bench-only")
    with EngineClient(socket_path, "test") as connected:
        connected.set_timeout(10)
        yield connected
    process.send_signal(signal.SIGTERM)
    assert process.wait(timeout=15) == 0


def test_no_key_waits_for_the_name_of_a_receiver(sender: EngineClient) -> None:
    """Levels by OSC to names: one that nobody answers for, and one that is known; and an invitation by name."""
    longest = 0.0
    for _ in range(20):
        began = time.monotonic()
        for control, down in (("1", True), ("2", True), ("2", False), ("1", False)):
            sender.ask("press", surface="pad", control=control, down=down)
        longest = max(longest, took(began))
    assert longest < 1
    said = [row["what"] for row in sender.ask("desk")["problems"]]
    assert "deck.example:9000 cannot be sent to: the address of “deck.example” is not known" in said, said
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as heard:
        heard.bind(("127.0.0.1", 0))
        heard.settimeout(0.2)
        sender.ask("write_macro", macro="near", name="near",
                   text=f"again both\nlevel osc /b to oven.test:{heard.getsockname()[1]} at 50\n")

        def came() -> bool:
            sender.ask("play", macro="near")
            try:
                return heard.recv(1000).startswith(b"/b")
            except TimeoutError:
                return False
        wait_for(came, 10)
    sender.ask("open_network", what="midi", port=26_400)
    began = time.monotonic()
    sender.ask("invite", host="deck.example", port=5004, name="Deck")
    sender.ask("stop")
    assert took(began) < 1


def test_a_name_is_looked_up_once_for_all_who_want_it(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []
    go = threading.Event()

    def slow(host: str, *_: object, **__: object) -> list[Any]:
        asked.append(host)
        go.wait(10)
        return [(socket.AF_INET, 0, 0, "", ("192.0.2.7", 0)), (socket.AF_INET6, 0, 0, "", ("2001:db8::7", 0, 0, 0))]
    monkeypatch.setattr(socket, "getaddrinfo", slow)
    here = Names()
    found: list[tuple[str, ...]] = []
    waiting = [threading.Thread(target=lambda: found.append(here.addresses("deck", threading.Event(), 5)))
               for _ in range(3)]
    for thread in waiting:
        thread.start()
    wait_for(lambda: asked == ["deck"])
    time.sleep(0.1)
    go.set()
    for thread in waiting:
        thread.join()
    assert found == [("192.0.2.7", "2001:db8::7")] * 3 and asked == ["deck"]
    assert here.addresses("192.0.2.9", threading.Event(), 0) == ("192.0.2.9",) and asked == ["deck"]


def test_no_more_than_so_many_names_are_looked_up_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    go = threading.Event()
    monkeypatch.setattr(socket, "getaddrinfo", lambda *_, **__: go.wait(10) and [])
    here = Names()
    for number in range(names.MOST):
        here.begin(f"deck-{number}", threading.Event())
    with pytest.raises(NotFound, match="16 other names do not answer"):
        here.begin("another", threading.Event())
    go.set()


def test_a_call_that_is_over_connects_to_nobody(peer: Callable[..., Peer]) -> None:
    there = peer(says_nothing)
    call = Call(5, Names())
    call.end(STOPPED)
    call.end("a second reason counts for nothing")
    with pytest.raises(Over):
        call.connect("127.0.0.1", there.port)
    assert perform(Line(), Errand(1, "line", ("tcp", "x", f"127.0.0.1:{there.port}", "yes")), call) == (
        f"127.0.0.1:{there.port} was being called when it was stopped", False)
    # Descriptors are let go of.
    before = len(os.listdir("/proc/self/fd"))
    for _ in range(5):
        perform(Line(), Errand(1, "line", ("tcp", "x", f"127.0.0.1:{there.port}", "")), Call(1, Names()))
    assert len(os.listdir("/proc/self/fd")) <= before + 5


def test_what_others_tell_is_kept_in_part() -> None:
    trace = Trace(1, 0, 0)
    trace.remark("x" * 60_000)
    for number in range(200):
        trace.remark(f"remark {number}")
    assert len(trace.remarks) == 201 and max(map(len, trace.remarks)) == 1_001
    for number in range(200):
        trace.remark(f"{number} {'y' * 500}")
    assert trace.remarks[-1] == "more was said, and is not kept"
    assert 39_000 < sum(map(len, trace.remarks)) < 40_500
