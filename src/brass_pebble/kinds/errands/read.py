"""What macros read from the world while they run: the clipboard, a window's title, a file, what a command says."""

from __future__ import annotations

import os
from pathlib import Path
from typing import ClassVar

from brass_pebble import file_access
from brass_pebble.core.macro.asks import Ask, Errand
from brass_pebble.core.macro.value.kinds import LONGEST_VALUE
from brass_pebble.kinds.clipboard.base import ClipboardError

from . import desktop
from .base import SLACK, Done, World, usual_limit
from .call import Call
from .helpers import name_of
from .pasting import Pasting

MOST_READ = 4 * LONGEST_VALUE


class _Reads:
    tells: ClassVar[bool] = False

    def __init__(self, world: World) -> None:
        self._world = world

    def limit(self, ask: Ask) -> int:
        return usual_limit(ask)


class Clipboard(_Reads):
    """The text that the clipboard holds."""

    fields: ClassVar[tuple[str, ...]] = ()
    pool: ClassVar[str] = "clipboard"
    reach: ClassVar[str] = "reads the clipboard"

    def whom(self, ask: Ask) -> str:
        return "the program that holds the clipboard"

    def do(self, ask: Ask, call: Call) -> Done:
        return clipboard(self._world.pasting, call)


def clipboard(pasting: Pasting, call: Call) -> tuple[str, str | bool]:
    """What the clipboard holds, as text."""
    try:
        text = pasting.text(call)
    except ClipboardError as error:
        return f"the clipboard could not be read: {error}", False
    return ("", text[:LONGEST_VALUE]) if text is not None else ("the clipboard holds no text", False)


class Title(_Reads):
    """The title of the window that has the focus."""

    fields: ClassVar[tuple[str, ...]] = ()
    pool: ClassVar[str] = "window"
    reach: ClassVar[str] = "reads a window’s title"

    def whom(self, ask: Ask) -> str:
        return "the desktop"

    def do(self, ask: Ask, call: Call) -> Done:
        return desktop.title(call)


class File(_Reads):
    """A file; looked for in the desk's folder, unless it is told from the root or from home."""

    fields: ClassVar[tuple[str, ...]] = ("file", "lines")
    pool: ClassVar[str] = "read"
    reach: ClassVar[str] = "reads a file"

    def whom(self, ask: Ask) -> str:
        assert isinstance(ask, Errand)
        return ask.words[0]

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Errand)
        name, lines = ask.words[0], int(ask.words[1])
        file = Path(os.path.expanduser(name))
        file = file if file.is_absolute() else self._world.folder() / file
        try:
            text = file_access.read_bytes(file, MOST_READ).decode("utf-8").removeprefix("\ufeff")
        except (OSError, UnicodeError) as error:
            return f"{name} cannot be read: {file_access.say(error)}", False
        if lines:
            text = "\n".join(text.splitlines()[:lines])
        if len(text) > LONGEST_VALUE:
            return f"{name} has more than {LONGEST_VALUE:,} characters", False
        return "", text


class Command(_Reads):
    """What a command, or a line for the shell, says."""

    fields: ClassVar[tuple[str, ...]] = ("program", "argument…")
    pool: ClassVar[str] = "program"
    tells: ClassVar[bool] = True
    reach: ClassVar[str] = "reads what a command says"

    def limit(self, ask: Ask) -> int:
        return usual_limit(ask) + SLACK

    def whom(self, ask: Ask) -> str:
        return name_of(self._words(ask))

    @staticmethod
    def _words(ask: Ask) -> tuple[str, ...]:
        assert isinstance(ask, Errand)
        return ("/bin/sh", "-c", ask.words[0]) if ask.kind == "read shell" else ask.words

    def do(self, ask: Ask, call: Call) -> Done:
        ended = self._world.helpers.run(self._words(ask), usual_limit(ask) / 1e9, call, listen=True)
        # What is no UTF-8 is replaced; the line's end behind it is not part of it.
        said = ended.said.decode("utf-8", "replace").removesuffix("\n")[:LONGEST_VALUE]
        return ended.remark, said if ended.well else False
