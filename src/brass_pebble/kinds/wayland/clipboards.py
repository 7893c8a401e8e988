"""Clipboards by ext-data-control or wlr-data-control, by pywayland; in the helper's process.

A thread answers those who paste, for as long as nobody else copies something.
"""

from __future__ import annotations

import contextlib
import os
import select
import threading
import time
from collections.abc import Callable
from typing import Any

from brass_pebble.kinds.clipboard.base import ANSWERS_WITHIN, MOST, ClipboardError, Held
from brass_pebble.kinds.clipboard.wayland import is_text

TEXTS = ("text/plain;charset=utf-8", "text/plain", "UTF8_STRING", "STRING", "TEXT")
READS_WITHIN = 3.0
_PIPE = 65_536


class Lacks(Exception):
    """The compositor has no such protocol."""


class Holder:
    """A connection with its thread.  Everything that touches it runs there."""

    def __init__(self) -> None:
        from pywayland.client import Display
        from pywayland.protocol.ext_data_control_v1 import ExtDataControlManagerV1
        from pywayland.protocol.wayland import WlSeat

        from .data_control_protocol import Manager
        self.alive = True
        self._jobs: list[Callable[[], None]] = []
        self._wake = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        # What others offer: the forms of each offer, and which offer each selection is.
        self._forms: dict[Any, list[str]] = {}
        self._offers: dict[str, Any] = {}
        # What is offered here, by selection: the source, its forms, whether its fetching is watched.
        self._sources: dict[str, tuple[Any, dict[str, bytes], bool]] = {}
        self._told = threading.Condition()
        self._fetched_at = 0.0
        found: dict[str, tuple[int, Any]] = {}
        seat: list[Any] = []
        try:
            self._display = Display(os.environ.get("WAYLAND_DISPLAY"))
            self._display.connect()
        except (ValueError, RuntimeError, OSError) as error:
            raise ClipboardError(f"the compositor does not answer: {error}") from None
        registry = self._display.get_registry()

        def told(proxy: Any, number: int, interface: str, version: int) -> None:
            for kind in (ExtDataControlManagerV1, Manager):
                if interface == kind.name:
                    found[interface] = number, (kind, min(version, kind.version))
            if interface == WlSeat.name and not seat:
                seat.append(registry.bind(number, WlSeat, 1))
        registry.dispatcher["global"] = told
        self._display.roundtrip()
        chosen = found.get(ExtDataControlManagerV1.name) or found.get(Manager.name)
        if chosen is None or not seat:
            self._display.disconnect()
            raise Lacks
        number, (kind, version) = chosen
        self._manager = registry.bind(number, kind, version)
        self._device = self._manager.get_data_device(seat[0])
        self._device.dispatcher["data_offer"] = self._offer_comes
        self._device.dispatcher["selection"] = lambda proxy, offer: self._offers.__setitem__("clipboard", offer)
        self._device.dispatcher["primary_selection"] = lambda proxy, offer: self._offers.__setitem__("primary", offer)
        self._display.roundtrip()
        threading.Thread(target=self._serve, name="clipboard", daemon=True).start()

    # From other threads.

    def text(self) -> str | None:
        """What the clipboard holds as text."""
        held = self.keep("clipboard", only_text=True)
        name = next((name for name in held.forms if is_text(name)), "")
        return held.forms[name].decode("utf-8", "replace") if name else None

    def keep(self, selection: str, *, only_text: bool = False) -> Held:
        """What a selection holds, in every form."""
        if (own := self.offered(selection)) is not None:
            return Held(own)
        pipes: dict[str, int] = {}
        self._do(lambda: self._ask(selection, pipes, only_text=only_text))
        forms, lost = _read(pipes)
        if lost and not forms:
            raise ClipboardError("the program that holds the clipboard does not answer")
        rest = [name for name in lost if "/" in name]
        return Held(forms, f"of what the clipboard held, {', '.join(rest[:4])} cannot be put back" if rest else "")

    def offered(self, selection: str) -> dict[str, bytes] | None:
        """What is offered here now; None if somebody else offers something."""
        found = self._sources.get(selection)
        return None if found is None else dict(found[1])

    def offer(self, selection: str, text: str) -> None:
        """Offer a text."""
        self._do(lambda: self._put(selection, dict.fromkeys(TEXTS, text.encode()), watched=True))

    def fetched(self, since: float, seconds: float) -> bool:
        """Wait until somebody has fetched the text that was offered."""
        with self._told:
            return self._told.wait_for(lambda: self._fetched_at >= since or not self.alive, seconds) and self.alive

    def give_back(self, selection: str, held: Held) -> str:
        """Let it hold again what it held."""
        self._do(lambda: self._put(selection, held.forms, watched=False))
        return held.lost

    def close(self) -> None:
        """End the thread, and leave."""
        with contextlib.suppress(ClipboardError):
            self._do(lambda: setattr(self, "alive", False))

    def _do(self, job: Callable[[], None]) -> None:
        done = threading.Event()

        def work() -> None:
            try:
                job()
            finally:
                done.set()
        self._jobs.append(work)
        with contextlib.suppress(OSError):
            os.eventfd_write(self._wake, 1)
        if not self.alive or not done.wait(ANSWERS_WITHIN):
            raise ClipboardError("the compositor does not answer")

    # On the thread.

    def _serve(self) -> None:
        try:
            while self.alive:
                self._display.flush()
                ready, _, _ = select.select([self._display.get_fd(), self._wake], [], [])
                if self._wake in ready:
                    with contextlib.suppress(BlockingIOError):
                        os.eventfd_read(self._wake)
                if self._display.get_fd() in ready:
                    self._display.read()
                self._display.dispatch(block=False)
                while self._jobs:
                    self._jobs.pop(0)()
        except Exception:
            # The compositor went away, and with it everything that was held.
            pass
        self.alive = False
        with self._told:
            self._told.notify_all()
        with contextlib.suppress(Exception):
            self._display.disconnect()
        os.close(self._wake)

    def _offer_comes(self, proxy: Any, offer: Any) -> None:
        forms: list[str] = []
        self._forms[offer] = forms
        offer.dispatcher["offer"] = lambda proxy, name: forms.append(name)
        while len(self._forms) > 8:
            old = next(iter(self._forms))
            del self._forms[old]

    def _ask(self, selection: str, pipes: dict[str, int], *, only_text: bool) -> None:
        """Have every form of an offer written into a pipe of its own."""
        offer = self._offers.get(selection)
        if offer is None:
            return
        names = [name for name in self._forms.get(offer, ()) if not only_text or is_text(name)]
        for name in names[:1] if only_text else names:
            if is_text(name) and any(map(is_text, pipes)):
                # A text is the same under all its names.
                continue
            reading, writing = os.pipe2(os.O_CLOEXEC | os.O_NONBLOCK)
            os.set_blocking(writing, True)
            offer.receive(name, writing)
            self._display.flush()
            os.close(writing)
            pipes[name] = reading

    def _put(self, selection: str, forms: dict[str, bytes], *, watched: bool) -> None:
        choose = self._device.set_primary_selection if selection == "primary" else self._device.set_selection
        if not forms:
            self._sources.pop(selection, None)
            choose(None)
            self._display.flush()
            return
        if any(map(is_text, forms)):
            text = next(data for name, data in forms.items() if is_text(name))
            forms = {**dict.fromkeys(TEXTS, text), **forms}
        source = self._manager.create_data_source()
        for name in forms:
            source.offer(name)
        source.dispatcher["send"] = lambda proxy, name, fd: self._send(source, name, fd)
        source.dispatcher["cancelled"] = lambda proxy: self._cancelled(selection, source)
        self._sources[selection] = source, forms, watched
        choose(source)
        self._display.flush()

    def _send(self, source: Any, name: str, fileno: int) -> None:
        found = next((entry for entry in self._sources.values() if entry[0] is source), None)
        data = found[1].get(name, b"") if found is not None else b""
        watched = found is not None and found[2]
        # Who reads slowly holds nobody else up.
        threading.Thread(target=self._write, args=(fileno, data, watched), daemon=True).start()

    def _write(self, fileno: int, data: bytes, watched: bool) -> None:
        try:
            with contextlib.suppress(OSError), os.fdopen(fileno, "wb", buffering=0) as pipe:
                view = memoryview(data)
                while view:
                    view = view[pipe.write(view[:_PIPE]) or 0:]
        finally:
            if watched:
                with self._told:
                    self._fetched_at = time.monotonic()
                    self._told.notify_all()

    def _cancelled(self, selection: str, source: Any) -> None:
        if (found := self._sources.get(selection)) is not None and found[0] is source:
            del self._sources[selection]
        source.destroy()


def _read(pipes: dict[str, int]) -> tuple[dict[str, bytes], list[str]]:
    """What comes out of pipes, by form; and the forms of which nothing came in time."""
    forms: dict[str, bytes] = {}
    waiting, came = dict(pipes), {name: bytearray() for name in pipes}
    until = time.monotonic() + READS_WITHIN
    while waiting and (left := until - time.monotonic()) > 0 and sum(map(len, came.values())) <= MOST:
        ready, _, _ = select.select(list(waiting.values()), [], [], left)
        for name in [name for name, fileno in waiting.items() if fileno in ready]:
            try:
                data = os.read(waiting[name], 1 << 20)
            except BlockingIOError:
                continue
            came[name] += data
            if not data:
                forms[name] = bytes(came[name])
                os.close(waiting.pop(name))
    for fileno in waiting.values():
        os.close(fileno)
    return forms, list(waiting)
