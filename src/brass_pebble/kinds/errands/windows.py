"""What macros do to windows and ask of them, of places of the screen, and of the pointer."""

from __future__ import annotations

from typing import ClassVar

from brass_pebble.core.macro.asks import Ask, Errand, Look, Window

from . import desktop
from .base import SLACK, USUAL, Done, World, usual_limit
from .call import Call


class _Desktop:
    """Something about the desktop, which may hang."""

    pool: ClassVar[str] = "window"
    tells: ClassVar[bool] = False

    def __init__(self, world: World) -> None: ...

    def limit(self, ask: Ask) -> int:
        return usual_limit(ask)

    def whom(self, ask: Ask) -> str:
        return "the desktop"


class Deed(_Desktop):
    """A window is focused, raised, closed, minimised or placed, or a place of it is told."""

    fields: ClassVar[tuple[str, ...]] = ("window", "by", "detail…")
    reach: ClassVar[str] = "moves a window"

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Errand)
        return desktop.do_to_window(ask, call)


class Pointer(_Desktop):
    """Where the pointer is."""

    fields: ClassVar[tuple[str, ...]] = ()
    reach: ClassVar[str] = "looks for the pointer"

    def do(self, ask: Ask, call: Call) -> Done:
        return desktop.where_the_pointer_is(call)


class WindowIsThere(_Desktop):
    """Whether a window is there, focused, or gone."""

    fields: ClassVar[tuple[str, ...]] = ()
    reach: ClassVar[str] = Window.reach

    def limit(self, ask: Ask) -> int:
        assert isinstance(ask, Window)
        return max(ask.limit + SLACK, USUAL if not ask.limit else 0)

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Window)
        return desktop.wait_for(ask, call)


class LooksLike(_Desktop):
    """Whether a place of the screen has a colour."""

    fields: ClassVar[tuple[str, ...]] = ()
    reach: ClassVar[str] = Look.reach

    def limit(self, ask: Ask) -> int:
        assert isinstance(ask, Look)
        return max(ask.limit + SLACK, USUAL if not ask.limit else 0)

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Look)
        return desktop.wait_for_look(ask, call)
