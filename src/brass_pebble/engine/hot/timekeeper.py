"""What is due: the next moment at which something has to happen, and what happens then."""

from __future__ import annotations

import time

from brass_pebble.core.play.player import Player
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.durations import MS, say_duration
from brass_pebble.core.signals.keys import key_table
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.devices.network import Network
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports
from brass_pebble.engine.runs.control import Control
from brass_pebble.engine.runs.errands import Errands
from brass_pebble.kinds.inputs.bystanders import Bystanders

from .filters import Filters
from .press_path import PressWay
from .sender import Sender

# A shorter suspend than this is none, in ns.
SUSPENDED = 50 * MS


class Timekeeper:
    """The rounds of the loop."""

    sender: Sender
    filters: Filters
    path: PressWay
    bystanders: Bystanders
    network: Network
    errands: Errands
    control: Control

    def __init__(self, ports: Ports, player: Player, news: News) -> None:
        self._ports, self._player, self._router, self._news = ports, player, ports.router, news
        # How far the clock that counts suspends is ahead of the engine's.
        self._ahead = time.clock_gettime_ns(time.CLOCK_BOOTTIME) - time.monotonic_ns()

    def deadline(self) -> int | None:
        """The next moment at which something is due, in ns."""
        dues = []
        for debouncer in self.filters.debouncers.values():
            if (lasted := debouncer.next_deadline()) is not None:
                dues.append(lasted)
        for due in (self._player.next_deadline(), self.sender.output.next_deadline(), self._news.due,
                    self._ports.alarms.next_deadline(),
                    self._router.next_deadline() if self._router.recognising else None):
            if due is not None:
                dues.append(due)
        return min(dues) if dues else None

    def on_time(self, now: int) -> None:
        """Something is due."""
        self._notice_sleep()
        if self._router.recognising:
            self._decide_gestures(now)
        sender = self.sender
        self._player.advance(now, sender.out)
        if sender.out:
            self._notice_mixing(now)
            sender.send(now)
        if self.filters.debouncers:
            self.filters.believe_releases(now)
        sender.output.advance(now)
        if self._news.due is not None and self._news.due <= now:
            self._news.due = None
            self._ports.alarms.call(self._news.tell, now)
        self._ports.alarms.ring(now)

    def after(self) -> None:
        """At the end of each round of the loop."""
        if self.network.to_flush:
            self.network.flush()
        if self._player.errands:
            self.errands.take()
        self._news.book()

    def panic(self, error: Exception) -> None:
        """A mistake of the program on the way of a press: everything stops and is released, the engine goes on."""
        self.control.panic(error)

    def _notice_mixing(self, now: int) -> None:
        """A modifier that is held on the main keyboard in the middle of a text changes what is typed: it is told."""
        for _, value, _, run in self.sender.out:
            if not (value and run.types):
                continue
            mixed = tuple(code for code in self.bystanders.modifiers() if code not in run.mixed)
            if mixed and isinstance(run.owner, Trace):
                run.mixed += mixed
                names = "+".join(key_table().name(code) for code in mixed)
                run.owner.remark(f"{names} was held on the main keyboard after {say_duration(now - run.start)} and got "
                                 "mixed in")
                self._news.touch(run.owner)
            return

    def _notice_sleep(self) -> None:
        """After a suspend, of which the engine's clock knows nothing, runs do not go on as if nothing had been."""
        now = time.monotonic_ns()
        ahead = time.clock_gettime_ns(time.CLOCK_BOOTTIME) - now
        lost, self._ahead = ahead - self._ahead, ahead
        if lost > SUSPENDED:
            log.info("the computer was suspended for %.1f s", lost / 1e9)
            self._player.slept(lost, self._ports.now(), self.sender.out)

    def _decide_gestures(self, now: int) -> None:
        """Gestures whose time is over.  What has arrived meanwhile comes first: it may be the release in time."""
        due = self._router.next_deadline()
        if due is None or due > now:
            return
        self._ports.loop.serve_ready()
        self._router.advance(now, self.sender.out)
        if self.sender.out:
            self.sender.send(now)
        self.path.take_fresh()
