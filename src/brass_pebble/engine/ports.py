"""What a part of the engine may ask for.  No part sees the engine: `assemble.py` alone knows them all.

`Ports` is the ground that every part stands on: the loop, alarms, the desk, and the way to tell clients and the person
of something.  What a part needs of other parts it names as attributes at its top; `assemble.py` plugs them in.  Where
two parts need one another, one of them sees the other through a protocol from here.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any, Protocol

from brass_pebble.core.desk.model import Desk
from brass_pebble.core.play.player import Effect, Run
from brass_pebble.core.play.router import Router
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.problem import Problem
from brass_pebble.kinds.inputs.base import Input

from .alarms import Alarms
from .loop import Loop, Worker


class Publisher(Protocol):
    """Tells clients."""

    def wanted(self, topic: str) -> bool:
        """Whether anybody listens to a topic."""

    def publish(self, topic: str, fields: dict[str, Any]) -> None:
        """Send news to everybody who listens to the topic."""


class Problems(Protocol):
    """Tells the person of what is wrong."""

    @property
    def listed(self) -> list[Problem]:
        """What is told now."""

    def add(self, problem: Problem) -> None:
        """Tell of something wrong."""

    def of_part(self, part: str, problems: Iterable[Problem]) -> None:
        """What is wrong with a part now, in place of what was wrong with it."""


@dataclass
class Ports:
    """The ground of every part.  Times are in ns of the clock's own count."""

    loop: Loop
    worker: Worker
    alarms: Alarms
    publisher: Publisher
    problems: Problems
    router: Router
    now: Callable[[], int]

    @property
    def desk(self) -> Desk:
        """The desk in use."""
        return self.router.desk

    def wall_offset(self) -> int:
        """What to add to the clock, in ns, for the time of day; it changes with every suspend."""
        return time.time_ns() - self.now()


class PressPath(Protocol):
    """The way of a press, for those who feed it or change what feeds it."""

    def listen_to(self, surface_id: str, source: Input) -> None:
        """Route what arrives from an input, as its surface wants it now."""

    def press(self, surface_id: str, code: int, value: int, arrived: int, node: str = "") -> Trace | None:
        """A control went down or up: answer it."""

    def move(self, surface_id: str, signal: int, value: int, arrived: int) -> None:
        """What turns, slides or tilts reported something."""

    def press_failed(self, surface_id: str, error: Exception) -> None:
        """A press could not be answered: what its surface started ends."""

    def let_go(self, surface_id: str) -> None:
        """Release every control of a surface."""


class RunControl(Protocol):
    """Ends runs and lets them go on."""

    def stop_runs(self, meant: Callable[[Run], bool]) -> int:
        """End the runs that are meant.  Returns how many."""

    def stop_runs_of(self, surface_id: str) -> None:
        """End the runs that a surface's presses started."""

    def stop_latches_of(self, surface_id: str) -> None:
        """Let go what a surface's controls latched down."""

    def resume_run(self, run: Run, outcome: object) -> None:
        """What a run asked of the world is known now: it goes on."""


class LiveDesk(Protocol):
    """The desk in use, for those who change it or have something to say of it."""

    def tell_desk(self) -> None:
        """Tell clients of the desk and of the devices as they are now."""

    def take_loaded(self, result: object) -> None:
        """A desk was read on the worker: use it, or keep the last good one."""

    def tell_once(self, word: str, problem: Problem) -> None:
        """Tell something that has to be said a single time, ever."""


class HeardAside(Protocol):
    """Who hears a surface's presses instead of the router."""

    def heard_by(self, surface_id: str) -> int:
        """The client that hears them; 0 for none."""


class FollowsSurface(Protocol):
    """Wants to know when a surface has got its device."""

    def follow(self, surface_id: str) -> None:
        """It has got it."""


class Follows(Protocol):
    """Wants to know when what it depends on has changed."""

    def follow(self) -> None:
        """It has changed."""


class Tap(Protocol):
    """Hears what leaves, while it records."""

    @property
    def busy(self) -> bool:
        """Whether it records."""

    def note(self, effects: list[Effect], now: int) -> None:
        """These left at `now`."""


class HearsSurface(Protocol):
    """Hears the presses of a surface that is set aside."""

    def hear_surface(self, surface_id: str, code: int, value: int, at: int, node: str = "") -> None:
        """One of them."""


class Sessions(Protocol):
    """Receivers of MIDI over the network."""

    def session(self, name: str) -> SessionReceiver | None:
        """The one of that name."""


class SessionReceiver(Protocol):
    """Takes MIDI messages."""

    def send(self, message: bytes) -> None:
        """Send one."""


# What is told of traces that have changed, of a control that went down or up (surface, code, value, arrival), …
TracesTold = Callable[[Iterable[Trace]], object]
ControlTold = Callable[[str, int, int, int], object]
