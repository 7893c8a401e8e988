"""What macros read from the world while they run: the clipboard, a window's title, a file, what a command says.  On
threads; each gives a remark for the trace, and the text or false."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from brass_pebble import file_access
from brass_pebble.core.macro.asks import Errand
from brass_pebble.core.macro.value.kinds import LONGEST_VALUE
from brass_pebble.core.play.player import Run
from brass_pebble.kinds.clipboard.base import ClipboardError
from brass_pebble.kinds.outputs.base import OutputError
from brass_pebble.kinds.windows.table import open_desktop

from .helpers import Helpers
from .pasting import Pasting

Read = tuple[str, str | bool]
MOST_READ = 4 * LONGEST_VALUE


class Reading:
    """`folder` is the desk's: files are looked for there, unless they are told from the root or from home."""

    def __init__(self, folder: Callable[[], Path], helpers: Helpers, pasting: Pasting) -> None:
        self._folder, self._helpers, self._pasting = folder, helpers, pasting

    def read(self, ask: Errand, run: Run | None = None) -> Read:
        """Read what is asked for."""
        source = ask.kind.removeprefix("read ")
        if source == "clipboard":
            return self.clipboard()
        if source == "title":
            return self._title()
        if source == "file":
            return self._file(ask.words[0], int(ask.words[1]))
        words = ["/bin/sh", "-c", ask.words[0]] if source == "shell" else list(ask.words)
        ended = self._helpers.run(words, ask.limit / 1e9, run, listen=True)
        return ended.remark, _text(ended.said) if ended.well else False

    def clipboard(self) -> Read:
        """What the clipboard holds, as text."""
        try:
            text = self._pasting.text()
        except ClipboardError as error:
            return f"the clipboard could not be read: {error}", False
        return ("", text[:LONGEST_VALUE]) if text is not None else ("the clipboard holds no text", False)

    def _title(self) -> Read:
        try:
            desktop = open_desktop()
        except OutputError as error:
            return str(error), False
        try:
            window = next((one for one in desktop.look() if one.focused), None)
        finally:
            desktop.close()
        return ("", window.title) if window is not None else ("no window has the focus", False)

    def _file(self, name: str, lines: int) -> Read:
        file = Path(os.path.expanduser(name))
        file = file if file.is_absolute() else self._folder() / file
        try:
            text = file_access.read_bytes(file, MOST_READ).decode("utf-8").removeprefix("\ufeff")
        except (OSError, UnicodeError) as error:
            return f"{name} cannot be read: {file_access.say(error)}", False
        if lines:
            text = "\n".join(text.splitlines()[:lines])
        if len(text) > LONGEST_VALUE:
            return f"{name} has more than {LONGEST_VALUE:,} characters", False
        return "", text


def _text(data: bytes) -> str:
    """Text as a value: what is no UTF-8 is replaced; the line's end behind it is not part of it."""
    return data.decode("utf-8", "replace").removesuffix("\n")[:LONGEST_VALUE]
