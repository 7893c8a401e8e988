"""Programs that macros run, start, open and close."""

from __future__ import annotations

import subprocess
import threading
import time
from collections.abc import Callable
from typing import ClassVar

from brass_pebble import paths
from brass_pebble.core.macro.asks import Ask, Errand, Program

from . import desktop
from .base import SLACK, Done, World, usual_limit
from .call import Call
from .helpers import name_of

# A program that was started to stay and ends with a failure within this was never there, in s.
FAILS_WITHIN = 5.0
# Ending one by force takes so much more, in ns.
BY_FORCE = 2_500_000_000


class Run:
    """A program that is waited for, or a line for the shell."""

    fields: ClassVar[tuple[str, ...]] = ("program", "argument…")
    pool: ClassVar[str] = "program"
    reach: ClassVar[str] = "runs a program"
    tells: ClassVar[bool] = True

    def __init__(self, world: World) -> None:
        self._helpers = world.helpers

    def limit(self, ask: Ask) -> int:
        return usual_limit(ask) + SLACK

    def whom(self, ask: Ask) -> str:
        return name_of(_words(ask))

    def do(self, ask: Ask, call: Call) -> Done:
        ended = self._helpers.run(_words(ask), usual_limit(ask) / 1e9, call)
        return ended.remark, ended.well


class Start:
    """A program that stays; opened, only if it does not run already."""

    fields: ClassVar[tuple[str, ...]] = ("program", "argument…")
    pool: ClassVar[str] = "program"
    reach: ClassVar[str] = "starts a program"
    tells: ClassVar[bool] = True

    def __init__(self, world: World) -> None:
        # Told later, by the one who waits for it: that it ended at once.
        self.later: Callable[[str], None] = lambda remark: None

    def limit(self, ask: Ask) -> int:
        return usual_limit(ask)

    def whom(self, ask: Ask) -> str:
        return name_of(_words(ask))

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Errand)
        words, name = _words(ask), name_of(_words(ask))
        try:
            if ask.kind == "open" and (found := desktop.bring_to_front(words[0], ask.words[0])) is not None:
                return found
            child = desktop.start_to_stay(words, paths.usual_umask)
        except (OSError, ValueError) as error:
            reason = error.strerror if isinstance(error, OSError) else str(error)
            return f"{name} could not be started: {reason}", False
        # Waited for by a thread that nobody waits for, so that it leaves no dead process behind.
        threading.Thread(target=lambda: self._watch(name, child), daemon=True).start()
        return f"started {name}", True

    def _watch(self, name: str, child: subprocess.Popen[bytes]) -> None:
        began = time.monotonic()
        code = child.wait()
        if code and time.monotonic() - began < FAILS_WITHIN:
            self.later(f"{name} ended at once, with exit code {code}")


class Close:
    """A program is asked to end, and then ended by force."""

    fields: ClassVar[tuple[str, ...]] = ("program", "which")
    pool: ClassVar[str] = "window"
    reach: ClassVar[str] = "ends a program"
    tells: ClassVar[bool] = True

    def __init__(self, world: World) -> None: ...

    def limit(self, ask: Ask) -> int:
        return usual_limit(ask) + BY_FORCE

    def whom(self, ask: Ask) -> str:
        assert isinstance(ask, Errand)
        return ask.words[0]

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Errand)
        return desktop.close_program(ask, call)


class IsThere:
    """Whether a program runs."""

    fields: ClassVar[tuple[str, ...]] = ()
    pool: ClassVar[str] = "window"
    reach: ClassVar[str] = Program.reach
    tells: ClassVar[bool] = True

    def __init__(self, world: World) -> None: ...

    def limit(self, ask: Ask) -> int:
        assert isinstance(ask, Program)
        return ask.limit + SLACK

    def whom(self, ask: Ask) -> str:
        assert isinstance(ask, Program)
        return ask.name

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Program)
        return desktop.wait_for_program(ask, call)


def _words(ask: Ask) -> tuple[str, ...]:
    assert isinstance(ask, Errand)
    if ask.kind in ("shell", "read shell"):
        return "/bin/sh", "-c", ask.words[0]
    return ask.words[1:] if ask.kind == "open" else ask.words
