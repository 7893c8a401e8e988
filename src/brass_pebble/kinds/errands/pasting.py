"""Pasting for macros, on the thread of the clipboard: what it held is kept, the text offered, fetched by the program
that pastes, and what was there comes back."""

from __future__ import annotations

import contextlib
import time

from brass_pebble.core.desk.pasting import CLIPBOARD, paste_rule
from brass_pebble.core.macro.asks import Errand
from brass_pebble.kinds.clipboard.base import FETCHES_WITHIN, Clipboard, ClipboardError, Held
from brass_pebble.kinds.clipboard.table import NOWHERE, clipboard_here
from brass_pebble.kinds.outputs.base import OutputError
from brass_pebble.kinds.windows.base import CannotDo, WindowGone
from brass_pebble.kinds.windows.table import desktop_kind, open_desktop

from .call import Call

# A program that was told of a text asks for it once more at times.
ONCE_MORE = 0.08
USUAL = "Ctrl+V"
NOT_FETCHED = "nobody fetched the pasted text within 2 s; what the clipboard held is back"


class Pasting:
    """One clipboard.  `looks_at_windows` is false where programs are simulated."""

    def __init__(self) -> None:
        self._clipboard: Clipboard | None = None
        # What was held before, by selection, while a text of ours is offered.
        self._held: dict[str, Held] = {}
        self._offered_at = 0.0
        self.looks_at_windows = True

    def _here(self) -> Clipboard:
        if self._clipboard is None:
            self._clipboard = clipboard_here()
        if self._clipboard is None:
            raise ClipboardError(NOWHERE)
        return self._clipboard

    @property
    def pending(self) -> bool:
        """Whether a text of ours is in the clipboard in place of what it held."""
        return bool(self._held)

    def text(self, call: Call) -> str | None:
        """What the clipboard holds as text.  Raises: ClipboardError."""
        return self._here().text(call)

    def offer(self, ask: Errand, call: Call) -> tuple[str, str | bool]:
        """Offer a text; the chord that the focused program pastes by, or false."""
        text, chord = ask.words
        if not self.looks_at_windows:
            return "the programs of the stage have no clipboard", chord or USUAL
        rule = paste_rule(self._focused_class())
        selection = CLIPBOARD if chord else rule.selection
        try:
            clipboard = self._here()
            if selection not in self._held:
                # Pastes in quick succession bring back what was there before the first.
                self._held[selection] = clipboard.keep(selection, call)
            clipboard.offer(selection, text)
        except ClipboardError as error:
            lost = self._put_back(selection) if selection in self._held else ""
            return "; ".join(filter(None, (f"the clipboard could not be used: {error}", lost))), False
        self._offered_at = time.monotonic()
        return "", chord or rule.chord

    def _focused_class(self) -> str:
        if not self.looks_at_windows or desktop_kind() is None:
            return ""
        with contextlib.suppress(OutputError, WindowGone, CannotDo, OSError):
            desktop = open_desktop()
            try:
                return next((window.cls for window in desktop.look() if window.focused), "")
            finally:
                desktop.close()
        return ""

    def settle(self) -> tuple[str, bool]:
        """Wait until the text was fetched, and let the clipboard hold again what it held."""
        if self._clipboard is None or not self._held:
            return "", True
        fetched = self._clipboard.fetched(self._offered_at, FETCHES_WITHIN)
        if fetched:
            time.sleep(ONCE_MORE)
        said = self.give_back()
        return "; ".join(filter(None, ("" if fetched else NOT_FETCHED, said))), True

    def give_back(self) -> str:
        """Let the clipboard hold again what it held before a paste; what is wrong, if anything."""
        return "; ".join(filter(None, map(self._put_back, list(self._held))))

    def _put_back(self, selection: str) -> str:
        held = self._held.pop(selection)
        try:
            return self._here().give_back(selection, held)
        except ClipboardError as error:
            return f"what the clipboard held could not be put back: {error}"

    def close(self) -> None:
        """Put back what was there, and leave the clipboard to others."""
        self.give_back()
        if self._clipboard is not None:
            self._clipboard.close()
