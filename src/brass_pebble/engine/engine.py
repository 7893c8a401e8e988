"""The engine: one running desk, put together by `assemble.py`.  It holds its parts, runs, and ends in order."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from brass_pebble.core.play.player import Player
from brass_pebble.kinds.outputs.base import Output

from .clients.problems import ProblemList
from .clients.requests import Requests
from .devices.ownership import Devices
from .hot.press_path import PressWay
from .logs import log
from .ports import Ports
from .setup import Setup


@dataclass
class Engine:
    """What `main`, tests and benchmarks speak to.  `ends` are called in turn when it ends, whatever fails."""

    ports: Ports
    setup: Setup
    player: Player
    output: Output
    devices: Devices
    problems: ProblemList
    requests: Requests
    path: PressWay
    ends: Sequence[Callable[[], object]]

    def run(self) -> None:
        """Serve until `quit`; afterwards nothing is down and nothing is grabbed."""
        try:
            self.ports.loop.run()
        finally:
            for call in self.ends:
                try:
                    call()
                except Exception as error:
                    log.error("could not end in order: %r", error, exc_info=error)

    def quit(self) -> None:
        """End after this round of the loop."""
        self.ports.loop.stop()
