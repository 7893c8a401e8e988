"""The focused window, and the layers that follow it.

It is told by the X display, by a compositor with the sway protocol, by the stage, or by a script of the person's own
compositor (`brass-pebble focus NAME`).  A thread waits for the display; only the latest news count.
"""

from __future__ import annotations

import os
import select
import threading
from collections.abc import Callable

from brass_pebble.core.desk.layer_switch import FocusedWindow
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports
from brass_pebble.kinds.focus.table import NOWHERE, teller
from brass_pebble.kinds.outputs.base import HasWindows, Output, OutputError

# While a display is gone, it is looked for this often, in s; never while it is there.
TRY_AGAIN = 1.0


class Focus:
    """Has the layers follow the focus, once any layer of the desk does."""

    output: Output

    def __init__(self, ports: Ports) -> None:
        self._ports = ports
        self._thread: threading.Thread | None = None
        self._stop = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._news = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._newest: FocusedWindow | None = None
        self._waiting: Callable[[FocusedWindow], None] | None = None
        self.source = ""
        self.trouble = ""
        self._ports.loop.watch(self._news, self._take)

    def wanted(self) -> bool:
        """Whether any layer follows the focus."""
        return any(layer.follows for surface in self._ports.desk.surfaces.values() for layer in surface.layers)

    @property
    def _own(self) -> HasWindows | None:
        """The output's own programs as windows; an engine that lacks the desk's output has a stage without any."""
        return self.output.ability(HasWindows) if self._ports.desk.output == "stage" else None

    def follow(self) -> None:
        """The desk may have changed: begin to watch if a layer follows the focus."""
        if self._own is not None:
            self._look_at_own()
        elif self._thread is None and self.wanted():
            self.watch()

    def watch(self) -> None:
        """Watch the display on a thread."""
        if self._thread is None and teller() is not None:
            self._thread = threading.Thread(target=self._run, name="focus", daemon=True)
            self._thread.start()
        elif teller() is None:
            self.trouble = NOWHERE

    def _run(self) -> None:
        kind = teller()
        assert kind is not None
        said = ""
        while not select.select([self._stop], [], [], 0)[0]:
            try:
                watcher = kind(self._stop)
                self.source, self.trouble, said = watcher.source, "", ""
                watcher.run(self._tell)
            except Exception as error:
                if not isinstance(error, OutputError) or str(error) != said:
                    log.warning("the focus cannot be told: %s", error)
                said = str(error)
                self.trouble = f"the focus cannot be told: {error}"
            self._tell(None)
            select.select([self._stop], [], [], TRY_AGAIN)

    def _tell(self, window: FocusedWindow | None) -> None:
        self._newest = window
        os.eventfd_write(self._news, 1)

    def _take(self, events: int) -> None:
        try:
            os.eventfd_read(self._news)
        except BlockingIOError:
            return
        self.told(self._newest)

    def told(self, window: FocusedWindow | None, source: str = "") -> None:
        """The window that has the focus now."""
        if source:
            self.source, self.trouble = source, ""
        self._ports.router.layers.focus(window)
        self._ports.router.follow_layers()
        if window is not None and self._waiting is not None:
            waiting, self._waiting = self._waiting, None
            self._ports.alarms.cancel("next window")
            waiting(window)

    def pin(self, *, pinned: bool) -> None:
        """Leave the layers as they are, or follow again."""
        self._ports.router.layers.pin(pinned=pinned)
        self._ports.router.follow_layers()

    def next_window(self, seconds: float, then: Callable[[FocusedWindow | None], None]) -> None:
        """Call `then(window)` with the next window that gets the focus, or None when the time is over."""
        if self._own is None:
            self.watch()
        before = self._ports.router.layers.window

        def got(window: FocusedWindow) -> None:
            if window == before:
                self._waiting = got
            else:
                then(window)

        def over(now: int) -> None:
            self._waiting = None
            then(None)
        self._waiting = got
        self._ports.alarms.at("next window", self._ports.now() + int(seconds * 1e9), over)

    def windows(self) -> list[FocusedWindow]:
        """The windows that are open now.  Not for the loop, unless the stage is the output.

        Raises:
            OutputError: they cannot be told; the text says what works instead.
        """
        if (own := self._own) is not None:
            return own.windows()
        kind = teller()
        if kind is None:
            raise OutputError(NOWHERE)
        return kind(self._stop).list()

    def _look_at_own(self) -> None:
        own = self.output.ability(HasWindows)
        if own is not None and (window := own.focused_window()) is not None:
            self.told(window, "the stage")

    def focus_stage(self, name: str) -> None:
        """Give a stage program the focus."""
        if (own := self.output.ability(HasWindows)) is not None:
            own.focus(name)
            self._look_at_own()

    def close(self) -> None:
        """End the thread."""
        os.eventfd_write(self._stop, 1)
        if self._thread is not None:
            self._thread.join(timeout=3)
        self._ports.loop.forget(self._news)
