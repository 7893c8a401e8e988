"""The kinds of errands that there are, and the threads that they are done on."""

from __future__ import annotations

from collections.abc import Callable

from .base import ErrandKind, World

# How many errands of a pool go on at once, how many more may wait, and what is told then.
POOLS = {
    "program": (64, 32, "programs run"), "request": (32, 32, "requests wait for an answer"),
    "osc": (8, 64, "messages wait"), "speak": (1, 8, "texts wait to be spoken"), "clipboard": (1, 16, "pastes wait"),
    "window": (8, 16, "runs wait for a window"), "read": (8, 16, "files are read"),
}


def errand_kinds(world: World) -> dict[str, Callable[[], ErrandKind]]:
    """Every kind, by the word of its errands, or the class of what is asked.  What is slow to import is imported when
    it is first asked for."""
    from . import paste, programs, read, speak, windows

    def request() -> ErrandKind:
        from .http import Request
        return Request(world.secret, world.anywhere)

    def line() -> ErrandKind:
        from .lines import Line
        return Line()

    def osc() -> ErrandKind:
        from .osc import Osc
        return Osc()
    return {
        "request": request, "line": line, "osc": osc,
        "speak": lambda: speak.Speak(world),
        "run": lambda: programs.Run(world), "shell": lambda: programs.Run(world),
        "start": lambda: programs.Start(world), "open": lambda: programs.Start(world),
        "close program": lambda: programs.Close(world), "Program": lambda: programs.IsThere(world),
        "paste": lambda: paste.Paste(world), "restore": lambda: paste.Restore(world),
        "read clipboard": lambda: read.Clipboard(world), "read title": lambda: read.Title(world),
        "read file": lambda: read.File(world), "read command": lambda: read.Command(world),
        "read shell": lambda: read.Command(world),
        **dict.fromkeys(("window focus", "window raise", "window close", "window minimise", "window place",
                         "window where"), lambda: windows.Deed(world)),
        "pointer": lambda: windows.Pointer(world), "Window": lambda: windows.WindowIsThere(world),
        "Look": lambda: windows.LooksLike(world),
    }
