"""What colour a terminal has behind its text: asked for by OSC 11, as xterm's control sequences describe it.

Not every terminal knows the question.  All of them answer a second one, for their device attributes (DA1 of ECMA-48),
so that nobody waits longer than an answer takes.
"""

from __future__ import annotations

import contextlib
import os
import re
import select
import termios
import time
import tty
from collections.abc import Iterator

QUESTION = b"\x1b]11;?\x1b\\\x1b[c"
# In s: over a slow connection an answer comes later than this, and is not waited for.
LONGEST = 0.3
_COLOUR = re.compile(rb"\x1b\]11;rgba?:([0-9a-fA-F]{1,4})/([0-9a-fA-F]{1,4})/([0-9a-fA-F]{1,4})")
_LAST = re.compile(rb"\x1b\[\?[0-9;]*c")


@contextlib.contextmanager
def asking_background(descriptor: int) -> Iterator[list[float]]:
    """Ask, do something else meanwhile, and look at the end: the list then holds the brightness, 0 black to 1 white.

    It stays empty if the terminal does not tell, or is none.  Its modes are as they were afterwards.
    """
    found: list[float] = []
    try:
        before = termios.tcgetattr(descriptor)
    except termios.error:
        yield found
        return
    try:
        tty.setcbreak(descriptor, termios.TCSANOW)
        # One that was opened for reading alone, or has just been closed, is not asked.
        asked = True
        try:
            os.write(descriptor, QUESTION)
        except OSError:
            asked = False
        yield found
        brightness = brightness_told(_answer(descriptor)) if asked else None
        found += [] if brightness is None else [brightness]
    finally:
        with contextlib.suppress(termios.error):
            termios.tcsetattr(descriptor, termios.TCSANOW, before)


def _answer(descriptor: int) -> bytes:
    told, end = b"", time.monotonic() + LONGEST
    while not _LAST.search(told):
        if not select.select([descriptor], [], [], max(0.0, end - time.monotonic()))[0]:
            break
        try:
            part = os.read(descriptor, 1024)
        except OSError:
            break
        if not part:
            break
        told += part
    return told


def brightness_told(answer: bytes) -> float | None:
    """How bright the colour of an answer is to the eye, 0 to 1 (the luma of ITU-R BT.709); None if it has none."""
    match = _COLOUR.search(answer)
    if match is None:
        return None
    red, green, blue = (int(part, 16) / float(16 ** len(part) - 1) for part in match.groups())
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue
