"""Texts that macros paste: offered through the clipboard, which then holds again what it held."""

from __future__ import annotations

from typing import ClassVar

from brass_pebble.core.macro.asks import Ask, Errand

from .base import Done, World, usual_limit
from .call import Call


class _Clipboard:
    pool: ClassVar[str] = "clipboard"
    tells: ClassVar[bool] = False
    reach: ClassVar[str] = "pastes a text"

    def __init__(self, world: World) -> None:
        self._pasting = world.pasting

    def limit(self, ask: Ask) -> int:
        return usual_limit(ask)

    def whom(self, ask: Ask) -> str:
        return "the program that holds the clipboard"


class Paste(_Clipboard):
    """A text is offered; the answer is the chord that the focused program pastes by."""

    fields: ClassVar[tuple[str, ...]] = ("text", "chord")

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Errand)
        return self._pasting.offer(ask, call)


class Restore(_Clipboard):
    """The text was fetched: what the clipboard held comes back."""

    fields: ClassVar[tuple[str, ...]] = ()

    def do(self, ask: Ask, call: Call) -> Done:
        return self._pasting.settle()
