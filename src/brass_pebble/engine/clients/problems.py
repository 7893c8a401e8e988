"""What is wrong, and what the person should know: collected, and told to clients."""

from __future__ import annotations

from collections.abc import Iterable

from brass_pebble.core.say.problem import Problem
from brass_pebble.engine.logs import log

from .server import Server

MOST = 50


class ProblemList:
    """`listed` is what is told now: what is wrong with the engine itself and with the desk, and what came since."""

    def __init__(self, server: Server) -> None:
        self._server = server
        self.listed: list[Problem] = []
        # What is told until the engine ends: what is wrong with it, and what the person should know.
        self._standing: list[Problem] = []
        self._notices: list[Problem] = []
        self._desk: list[Problem] = []
        self._parts: dict[str, list[Problem]] = {}

    def add(self, problem: Problem) -> None:
        """Tell the person of something wrong."""
        self.listed = [*self.listed[1 - MOST:], problem]
        self.tell()

    def mishap(self, error: Exception) -> None:
        """Something beside the way of a press failed: it is told, and everything goes on."""
        log.error("unexpected: %r", error, exc_info=error)
        self.add(Problem(f"something unexpected happened: {error!r}",
                         hint="Everything else works; the log has the details"))

    def stands(self, problem: Problem) -> None:
        """Tell of something that is wrong with the engine until it ends, before all else."""
        self._standing = [*self._standing, problem]
        self.listed = [problem, *self.listed]

    def notice(self, problem: Problem) -> None:
        """Tell something until the engine ends: a desk that is saved meanwhile does not hide it."""
        self._notices = [*self._notices, problem]
        self.add(problem)

    def of_desk(self, problems: Iterable[Problem]) -> None:
        """A desk was read: what is wrong with it takes the place of what was."""
        self._desk = list(problems)
        parts = [problem for listed in self._parts.values() for problem in listed]
        self.listed = [*self._standing, *self._desk, *parts, *self._notices]

    def of_part(self, part: str, problems: Iterable[Problem]) -> None:
        """What is wrong with a part now, in place of what was wrong with it."""
        listed = list(problems)
        if listed != self._parts.get(part, []):
            self._parts[part] = listed
            self.of_desk(self._desk)
            self.tell()

    def tell(self) -> None:
        """Tell clients."""
        if self._server.wanted("problem"):
            self._server.publish("problem", {"problems": [problem.as_dict() for problem in self.listed]})
