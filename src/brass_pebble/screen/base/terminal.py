"""The terminal that the screen is drawn on, which may be closed at any moment.

Closing the window hangs the terminal up: whatever is written from then on fails.  The toolkit's writer ends with the
first failure, and whoever ends the screen would wait for it for ever; here what nobody can see any more is dropped.  A
terminal can also go without a signal (a session that was left, a broken connection): the kernel's POLLHUP tells it.
"""

from __future__ import annotations

import os
import re
import select
import threading
import time
from codecs import getincrementaldecoder
from collections.abc import Callable
from typing import IO, Any

from textual._xterm_parser import XTermParser
from textual.drivers.linux_driver import LinuxDriver


class Writable:
    """The stream of a terminal: writing to one that is gone is told once, and is not an error."""

    def __init__(self, stream: IO[str], gone: Callable[[], None]) -> None:
        self._stream, self._gone = stream, gone
        self.lost = False

    def write(self, text: str) -> int:
        """Write what is drawn; returns how many characters were taken."""
        self._try(lambda: self._stream.write(text))
        return len(text)

    def flush(self) -> None:
        """Send what was written."""
        self._try(self._stream.flush)

    def fileno(self) -> int:
        """The descriptor of the terminal."""
        return self._stream.fileno()

    def _try(self, act: Callable[[], object]) -> None:
        if self.lost:
            return
        try:
            act()
        except (OSError, ValueError):
            # ValueError: the stream was closed.
            self.lost = True
            self._gone()


# SGR of ECMA-48: the parameters that set colours, some with more behind them.
_SGR = re.compile(r"\x1b\[([0-9;:]*)m")
_EXTENDED, _PLAIN = ("38", "48", "58"), re.compile(r"[349][0-79]|10[0-7]|59")


def uncoloured(text: str) -> str:
    """What is written to a terminal without a single colour; bold, reverse and the like stay."""
    return _SGR.sub(_without_colours, text)


def _without_colours(match: re.Match[str]) -> str:
    given = match[1].split(";")
    kept, at = [], 0
    while at < len(given):
        word = given[at]
        if word in _EXTENDED:
            # 5 and a number, or 2 and three of them.
            at += 3 if given[at + 1:at + 2] == ["5"] else 5
            continue
        if not (_PLAIN.fullmatch(word) or ":" in word):
            kept.append(word)
        at += 1
    return f"\x1b[{';'.join(kept)}m" if kept or not match[1] else ""


# In s: what a terminal was asked before the screen was opened is answered by then, however far away it is.
ANSWERS_WITHIN = 10.0
# OSC and DCS up to their end, and the device attributes: what no key sends.
_ANSWER = re.compile(r"\x1b(?:\][^\x07\x1b]*(?:\x07|\x1b\\)|P[^\x1b]*\x1b\\|\[\?[0-9;]*c)")
_BEGUN = re.compile(r"\x1b(?:[\]P][^\x07\x1b]*\x1b?|\[\?[0-9;]*|\[|)$")
_LONGEST_ANSWER = 4096


class LateAnswers:
    """Takes answers out of what is typed: as keys they would be commands that nobody gave."""

    def __init__(self) -> None:
        self._begun = ""
        # The last of them, which every terminal gives, has come.
        self.ended = False

    def take_out(self, text: str) -> str:
        """What was typed; what may be the beginning of an answer waits for the rest of it."""
        text = self._begun + text
        self.ended = self.ended or any(found[0].endswith("c") for found in _ANSWER.finditer(text))
        text = _ANSWER.sub("", text)
        begun = _BEGUN.search(text)
        self._begun = begun[0] if begun and len(begun[0]) < _LONGEST_ANSWER else ""
        return text[:len(text) - len(self._begun)]

    def rest(self, *, key: bool = False) -> str:
        """What waits: nobody answers any more; with `key` only an Escape, behind which nothing came."""
        if key and self._begun != "\x1b":
            return ""
        begun, self._begun = self._begun, ""
        return begun


class TerminalDriver(LinuxDriver):
    """The toolkit's driver, which ends the screen when its terminal is gone, and sends no colours to who wants none."""

    def write(self, data: str) -> None:
        """Write what is drawn."""
        super().write(uncoloured(data) if self._app.no_color else data)

    def __init__(self, *arguments: Any, **options: Any) -> None:
        super().__init__(*arguments, **options)
        self._file: Any = Writable(self._file, self._terminal_gone)
        self._watched = False

    def start_application_mode(self) -> None:
        """Begin to draw, and watch for the end of the terminal."""
        if not self._watched and self.input_tty:
            self._watched = True
            threading.Thread(target=self._watch, name="terminal-watch", daemon=True).start()
        self._app.shown.forget()  # type: ignore[attr-defined]
        super().start_application_mode()  # type: ignore[no-untyped-call]

    def run_input_thread(self) -> None:
        """Wait for what is typed.  A terminal that has not answered yet does so between the keys."""
        if self._app.look.late:  # type: ignore[attr-defined]
            self._read_late_answers(time.monotonic() + ANSWERS_WITHIN)
        super().run_input_thread()

    def _read_late_answers(self, until: float) -> None:
        parser, answers, decode = XTermParser(self._debug), LateAnswers(), getincrementaldecoder("utf-8")().decode
        while not (self.exit_event.is_set() or answers.ended) and (left := until - time.monotonic()) > 0:
            if select.select([self.fileno], [], [], min(0.1, left))[0]:
                text = decode(os.read(self.fileno, 4096))
                if not text:
                    return
                text = answers.take_out(text)
            else:
                text = answers.rest(key=True)
            for event in (*parser.feed(text), *parser.tick()) if text else parser.tick():
                self.process_message(event)
        for event in parser.feed(rest) if (rest := answers.rest()) else ():
            self.process_message(event)

    def _watch(self) -> None:
        poller = select.poll()
        # No event is asked for: a hang-up and an error are always told.
        poller.register(self.fileno, 0)
        poller.poll()
        self._terminal_gone()

    def _terminal_gone(self) -> None:
        if not self._loop.is_closed():
            # The reader would find an end of file over and over, as fast as it can.
            self.exit_event.set()
            self._loop.call_soon_threadsafe(self._app.exit)
