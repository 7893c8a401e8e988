"""Which window has the focus under a Wayland compositor (or window manager) that speaks the sway/i3 protocol.

sway-ipc(7): messages of "i3-ipc", length and type in the machine's byte order, then JSON.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import socket
import struct
from collections.abc import Callable, Iterator
from typing import Any

from brass_pebble.core.desk.layer_switch import FocusedWindow
from brass_pebble.kinds.outputs.base import OutputError

_MAGIC = b"i3-ipc"
_HEAD = struct.Struct("=6sII")
_SUBSCRIBE, _GET_TREE = 2, 4
_EVENT = 1 << 31
_EVENT_WINDOW, _EVENT_SHUTDOWN = _EVENT | 3, _EVENT | 6
_LONGEST_MESSAGE = 32 << 20


def socket_of_compositor() -> str:
    """Where the compositor listens, or an empty text."""
    return os.environ.get("SWAYSOCK") or os.environ.get("I3SOCK") or ""


class SwayConnection:
    """A connection to the compositor.  Reading ends when `stop` is readable.

    Raises:
        OutputError: it cannot be reached.
    """

    def __init__(self, stop: int) -> None:
        self._stop = stop
        self._socket = socket.socket(socket.AF_UNIX)
        self._data = b""
        try:
            self._socket.connect(socket_of_compositor())
            self._socket.settimeout(5)
        except OSError as error:
            self._socket.close()
            raise OutputError(f"the compositor does not answer at {socket_of_compositor()}: {error.strerror}") from None

    def send(self, kind: int, text: str) -> None:
        """Send a message."""
        data = text.encode()
        self._socket.sendall(_HEAD.pack(_MAGIC, len(data), kind) + data)

    def message(self) -> tuple[int, Any]:
        """The next message: its type and content; type -1 when this is to stop."""
        while True:
            if len(self._data) >= _HEAD.size:
                magic, length, kind = _HEAD.unpack_from(self._data)
                if magic != _MAGIC or length > _LONGEST_MESSAGE:
                    raise ValueError("what it sends is not the sway protocol")
                end = _HEAD.size + length
                if len(self._data) >= end:
                    content = json.loads(self._data[_HEAD.size:end])
                    self._data = self._data[end:]
                    return kind, content
            ready, _, _ = select.select([self._socket.fileno(), self._stop], [], [])
            if self._stop in ready:
                return -1, None
            data = self._socket.recv(65536)
            if not data:
                raise OSError("it closed the connection")
            self._data += data

    def close(self) -> None:
        """Leave."""
        self._socket.close()


class FocusOnSway:
    """`run(tell)` calls `tell(window)` for the window that has the focus and for every change, until `stop` is
    readable or the compositor goes away.

    Raises:
        OutputError: the compositor cannot be reached.
    """

    source = "the compositor (sway protocol)"

    @staticmethod
    def works_here() -> bool:
        """Whether such a compositor is named."""
        return bool(socket_of_compositor())

    def __init__(self, stop: int) -> None:
        self._connection = SwayConnection(stop)

    def run(self, tell: Callable[[FocusedWindow | None], None]) -> None:
        """Tell until stopped."""
        try:
            self._connection.send(_SUBSCRIBE, '["window", "workspace", "shutdown"]')
            self._connection.send(_GET_TREE, "")
            told: FocusedWindow | None = FocusedWindow("\0")
            while True:
                kind, content = self._connection.message()
                if kind == _EVENT_SHUTDOWN or kind < 0:
                    return
                if kind == _GET_TREE:
                    window = next((named(node) for node in walk(content) if node.get("focused")
                                   and is_window(node)), None)
                elif kind == _EVENT_WINDOW and content.get("change") in ("focus", "title"):
                    node = content.get("container", {})
                    if not node.get("focused"):
                        continue
                    window = named(node)
                elif kind & _EVENT:
                    # A window closed, or a workspace came that may be empty: ask who has the focus now.
                    self._connection.send(_GET_TREE, "")
                    continue
                else:
                    continue
                if window != told:
                    tell(window)
                    told = window
        except (OSError, ValueError) as error:
            raise OutputError(f"the compositor went away: {error}") from None
        finally:
            self._connection.close()

    def list(self) -> list[FocusedWindow]:
        """The windows that are open now."""
        with contextlib.closing(self._connection):
            self._connection.send(_GET_TREE, "")
            _, content = self._connection.message()
            return [named(node) for node in walk(content) if is_window(node)]


def walk(node: Any) -> Iterator[dict[str, Any]]:
    """Every node of the tree."""
    yield node
    for child in (*node.get("nodes", ()), *node.get("floating_nodes", ())):
        yield from walk(child)


def is_window(node: dict[str, Any]) -> bool:
    """Whether a node is a window."""
    return bool(node.get("app_id") or node.get("window_properties") or node.get("window")) and not node.get("nodes")


def named(node: dict[str, Any]) -> FocusedWindow:
    """A window as its program names it."""
    properties = node.get("window_properties") or {}
    return FocusedWindow(str(node.get("app_id") or properties.get("class") or ""), str(node.get("name") or "")[:4096])
