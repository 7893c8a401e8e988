"""Sends effects: in the order in which they were written down, to the output or to whoever takes messages."""

from __future__ import annotations

import contextlib
from collections.abc import Callable

from brass_pebble.core.effects.kinds import BEYOND_POINTER
from brass_pebble.core.macro.timetable import Timetable
from brass_pebble.core.play.player import Effect, Player, Run
from brass_pebble.core.say.problem import Problem
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Problems, Tap
from brass_pebble.kinds.outputs.base import Output, OutputLost

from .switchboard import Switchboard


class Sender:
    """`out` are effects that are decided and have not left yet."""

    switchboard: Switchboard
    tap: Tap

    def __init__(self, player: Player, output: Output, news: News, problems: Problems, now: Callable[[], int]) -> None:
        self._player, self._news, self._problems, self._now = player, news, problems, now
        self.output = output
        self.out: list[Effect] = []

    def send(self, now: int) -> None:
        """Let everything in `out` leave."""
        out = self.out
        self.out = []
        try:
            if any(effect[0] >= BEYOND_POINTER for effect in out):
                self.switchboard.send(out, now)
            else:
                self.output.send(out, now)
        except OSError as error:
            log.error("the output failed: %s", error)
            self._player.stop_all(now, [])
            self._problems.add(Problem(f"what was sent did not arrive: {error.strerror}",
                                       hint=error.hint if isinstance(error, OutputLost) else
                                       "Every run was stopped. End the engine and start it again"))
        sent_at = self._now()
        if self.tap.busy:
            self.tap.note(out, sent_at)
        self._news.unnoted.append((sent_at, out))

    def send_rest(self) -> None:
        """Send what a request that failed has left: the player counts on its having gone out."""
        if self.out:
            self.send(self._now())

    def take_back(self, codes: tuple[int, ...], now: int) -> None:
        """Release keys that were sent down and belong to no run."""
        unknown = Run(0, Timetable(), now, None, None)
        self.output.send([(code, 0, now, unknown) for code in reversed(codes)], now)

    def release_rest(self, now: int) -> None:
        """Every run has ended: what the output still has down belongs to nobody and is released."""
        left = self.output.left_down()
        if left and not self._player.down:
            log.error("nobody released %s", left)
            with contextlib.suppress(OSError):
                self.take_back(tuple(reversed(left)), now)

    def send_last(self, out: list[Effect], now: int) -> None:
        """The way out after an error, or at the end: to whoever takes it, without a note of it."""
        if out:
            self.switchboard.send(out, now)
