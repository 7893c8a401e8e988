"""Talking to an engine: finding it, starting one, asking it things.  docs/protocol.md describes the messages."""

from __future__ import annotations

import contextlib
import json
import os
import socket
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from . import paths
from .protocol.conversation import Came, Conversation, EngineError, Message

__all__ = ["EngineClient", "EngineError", "Message", "StartError", "StartingEngine", "find_engine", "running_sockets",
           "start_engine"]
# Whether whatever an engine says is held against its declared type: for tests.
CHECKS = bool(os.environ.get("BRASS_PEBBLE_CHECKS"))

LONGEST_WAIT = 10.0


class StartError(Exception):
    """An engine could not be started; `code` is its exit code."""

    def __init__(self, what: str, code: int) -> None:
        super().__init__(what)
        self.code = code


class EngineClient:
    """A connection that waits for each reply.  News that arrive in between are kept for `news`."""

    def __init__(self, path: Path, name: str = "brass-pebble") -> None:
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            self._socket.connect(str(path))
        except OSError as error:
            self._socket.close()
            raise EngineError(f"no engine responds at {path}", "Start one with: brass-pebble run", "none") from error
        self._lines = self._socket.makefile("rb")
        self._conversation = Conversation(checks=CHECKS)
        self._news: list[Message] = []
        self.hello: Message = {}
        self._socket.settimeout(LONGEST_WAIT)
        try:
            self.hello = self.ask("hello", **self._conversation.greeting(name))
        except EngineError:
            self.close()
            raise

    def ask(self, do: str, **fields: object) -> Message:
        """Send a request and wait for its reply.

        Raises:
            EngineError: the engine refused, went away, or did not answer for ten seconds.
        """
        number, line = self._conversation.ask(do, fields)
        try:
            self._socket.sendall(line)
        except OSError:
            raise EngineError("the engine has ended", "Start it again with: brass-pebble run", "gone") from None
        while True:
            try:
                came = self._next()
            except TimeoutError:
                raise EngineError(f"the engine does not respond (process {self.hello.get('pid', 'not known')})",
                                  "Wait a moment. If it does not recover, end that process", "silent") from None
            if came.number is None:
                self._news.append(came.message)
            elif came.number in (number, 0):
                if came.error is not None:
                    raise came.error
                return came.message

    def news(self) -> Iterator[Message]:
        """What the engine tells about the topics followed, for as long as it lives."""
        while True:
            while self._news:
                yield self._news.pop(0)
            try:
                came = self._next()
                if came.number is None:
                    yield came.message
            except EngineError:
                return

    def set_timeout(self, seconds: float | None) -> None:
        """Let waiting end with TimeoutError after so long."""
        self._socket.settimeout(seconds)

    def _next(self) -> Came:
        try:
            line = self._lines.readline()
        except TimeoutError:
            raise
        except OSError:
            line = b""
        if not line:
            raise EngineError("the engine has ended", "Start it again with: brass-pebble run", "gone")
        return self._conversation.take(line)

    def close(self) -> None:
        """Leave."""
        self._lines.close()
        self._socket.close()

    def __enter__(self) -> EngineClient:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def running_sockets() -> list[Path]:
    """Sockets on which an engine answers."""
    alive = []
    for path in sorted(paths.runtime_folder().glob("*.sock")):
        with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe:
            probe.connect(str(path))
            alive.append(path)
    return alive


def find_engine(desk: Path | None) -> Path:
    """The socket of the engine that runs `desk`, or of the only one there is.

    Raises:
        EngineError: there is none, or more than one.
    """
    if desk is not None:
        path = paths.socket_path(desk)
        if path not in running_sockets():
            raise EngineError(f"no engine runs the desk {desk}", f"Start it with: brass-pebble run --desk {desk}",
                              "none")
        return path
    found = running_sockets()
    if not found:
        raise EngineError("no engine is running", "Start one with: brass-pebble run, or try: brass-pebble demo", "none")
    if len(found) > 1:
        desks = []
        for path in found:
            with contextlib.suppress(EngineError), EngineClient(path) as client:
                desks.append(client.hello["folder"])
        raise EngineError(f"{len(found)} engines are running", "Say which with --desk, one of: " + ", ".join(desks),
                          "several")
    return found[0]


class StartingEngine:
    """An engine that has been started for a desk, and is not ready yet."""

    def __init__(self, desk: Path, *options: str) -> None:
        near, far = os.pipe()
        self._near = near
        # A session of its own: Ctrl+C in the terminal is for the screen, which then lets the engine end in order.
        self.process = subprocess.Popen(
            [sys.executable, "-m", "brass_pebble.engine.main", "--desk", str(desk), "--ready-fd", str(far),
             "--started-by", str(os.getpid()), *options],
            pass_fds=[far], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            start_new_session=True)
        os.close(far)

    def wait(self) -> Path:
        """Its socket, when it is ready.

        Raises:
            StartError: it could not start; the text says why and what to do.
        """
        with os.fdopen(self._near, "rb") as stream:
            line = stream.readline()
        if not line:
            code = self.process.wait()
            raise StartError(f"the engine ended at once (exit code {code}). The log has the details: "
                             f"{paths.state_folder() / 'engine.log'}", 1)
        message = json.loads(line)
        if "error" in message:
            self.process.wait()
            raise StartError(message["error"], message["code"])
        return Path(message["ready"])


def start_engine(desk: Path, *options: str) -> tuple[Path, subprocess.Popen[bytes]]:
    """Start an engine for a desk and wait until it is ready.

    Raises:
        StartError: it could not start; the text says why and what to do.
    """
    starting = StartingEngine(desk, *options)
    return starting.wait(), starting.process
