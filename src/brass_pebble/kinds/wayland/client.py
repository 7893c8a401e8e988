"""Asking the helper that speaks Wayland.  One that dies is started again with the next wish, and harms nothing else."""

from __future__ import annotations

import contextlib
import os
import select
import subprocess
import sys
import threading
import time
from importlib.util import find_spec

import msgspec

from brass_pebble.kinds.outputs.base import OutputError

from .messages import Call, Told

# A wish is answered within this, or the helper is ended, in s; beside what the wish itself waits for.
ANSWERS_WITHIN = 6.0
DIED = "the helper that speaks to the compositor has died; it is started again with the next step"


def available() -> bool:
    """Whether there is a compositor, and the library that speaks to it."""
    return bool(os.environ.get("WAYLAND_DISPLAY")) and find_spec("pywayland") is not None


class WaylandHelper:
    """A helper of one sort: "windows" or "clipboard".  From any thread; one wish at a time."""

    def __init__(self, sort: str) -> None:
        self._sort = sort
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        self._display = ""
        self._came = b""

    def ask(self, call: Call) -> Told:
        """What came of a wish.

        Raises:
            OutputError: the helper does not answer, or the display cannot be reached.
        """
        with self._lock:
            # One that has just died is not known to have: every wish can be said twice.
            line = self._try(call) or self._try(call)
        if not line:
            raise OutputError(DIED)
        try:
            told = msgspec.json.decode(line, type=Told)
        except msgspec.MsgspecError as error:
            raise OutputError(f"the helper that speaks to the compositor said something odd: {error}") from None
        if told.trouble == "display":
            raise OutputError(told.why)
        return told

    def _try(self, call: Call) -> bytes:
        process, began = self._running(), time.monotonic()
        assert process.stdin is not None and process.stdout is not None
        line = b""
        with contextlib.suppress(OSError):
            process.stdin.write(msgspec.json.encode(call) + b"\n")
            process.stdin.flush()
            line = self._line(process, ANSWERS_WITHIN + call.seconds)
        if not line:
            self._end()
            if time.monotonic() - began >= ANSWERS_WITHIN:
                raise OutputError("the compositor does not answer")
        return line

    def _running(self) -> subprocess.Popen[bytes]:
        display = os.environ.get("WAYLAND_DISPLAY", "")
        if self._process is not None and (self._process.poll() is not None or display != self._display):
            self._end()
        if self._process is None:
            self._display, self._came = display, b""
            # A session of its own: what ends the engine with its group does not end this; its input's end does.
            self._process = subprocess.Popen([sys.executable, "-m", "brass_pebble.kinds.wayland.helper", self._sort],
                                             stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                                             start_new_session=True)
        return self._process

    def _line(self, process: subprocess.Popen[bytes], seconds: float) -> bytes:
        assert process.stdout is not None
        until = time.monotonic() + seconds
        while b"\n" not in self._came:
            left = until - time.monotonic()
            if left <= 0 or not select.select([process.stdout.fileno()], [], [], left)[0]:
                return b""
            data = os.read(process.stdout.fileno(), 1 << 20)
            if not data:
                return b""
            self._came += data
        line, _, self._came = self._came.partition(b"\n")
        return line

    def _end(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            for stream in (self._process.stdin, self._process.stdout):
                if stream is not None:
                    stream.close()
            self._process = None

    def close(self) -> None:
        """End it."""
        with self._lock:
            self._end()
