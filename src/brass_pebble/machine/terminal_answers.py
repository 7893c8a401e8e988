"""What a terminal tells of itself: its ground, its name, and how many colours it takes.

Asked for with control sequences that xterm's documentation describes: OSC 11 (the ground), XTVERSION (its name), and
a colour of 24 bits that is set, read back by DECRQSS and reset.  Not every terminal knows them.  All of them answer a
last question, for their device attributes (DA1 of ECMA-48), so that nobody waits longer than an answer takes.
"""

from __future__ import annotations

import contextlib
import os
import re
import select
import termios
import time
import tty
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Literal, get_args

from brass_pebble.core.say.data_table import read_table
from brass_pebble.screen.outside import Colours, ScreenMemory, Signs, TerminalLook

# A colour that no palette has, so that a terminal that rounds it is found out.
_PROBE = b"\x1b[48;2;1;2;3m\x1bP$qm\x1b\\\x1b[0m"
_FIRST, _LAST_ASKED = b"\x1b]11;?\x1b\\\x1b[>0q\x1b]4;255;?\x1b\\", b"\x1b[c"
# What an old terminal shows of a question that it does not know is wiped out again.
_WIPE = b"\r\x1b[K"
# In s: over a slow connection an answer comes later than this, and is not waited for.
LONGEST = 0.3
# A name longer than this, or an answer with more bytes, is none.
LONGEST_NAME, LONGEST_ANSWER = 80, 4096
_GROUND = re.compile(rb"\x1b\]11;rgba?:([0-9a-fA-F]{1,4})/([0-9a-fA-F]{1,4})/([0-9a-fA-F]{1,4})")
_NAME = re.compile(rb"\x1bP>\|([ -~]*)\x1b\\")
_STYLE = re.compile(rb"\x1bP1\$r([0-9;:]*)m\x1b\\")
_LAST_OF_256 = re.compile(rb"\x1b\]4;255;rgba?:")
_WHOLE = re.compile(r"\b48[;:]2[;:]+1[;:]2[;:]3\b")
_NUMBERED = re.compile(r"\b48[;:]5[;:]\d+\b")
_LAST = re.compile(rb"\x1b\[\?[0-9;]*c")



@dataclass(frozen=True)
class TerminalAnswers:
    """What was answered: `brightness` of the ground from 0 black to 1 white, or None; what is not known is empty.

    `late`: the last answer was not there in time, so that some may still come.
    """

    brightness: float | None = None
    name: str = ""
    colours: Colours | Literal[""] = ""
    late: bool = False


def question(environment: Mapping[str, str]) -> bytes:
    """What is asked.

    A device control string (DCS) is left out inside a terminal that hands it on as text to the one around it, and then
    has another idea of where the cursor is: the rest of the screen would stand in the wrong place.
    """
    hands_on = environment.get("TERM", "").startswith("screen") and "TMUX" not in environment
    return _FIRST + (b"" if hands_on else _PROBE) + _WIPE + _LAST_ASKED


@contextlib.contextmanager
def asking_terminal(descriptor: int) -> Iterator[list[TerminalAnswers]]:
    """Ask, do something else meanwhile, and look at the end: the list then holds what was answered.

    It stays empty if there is no terminal that can be asked.  Its modes are as they were afterwards.
    """
    found: list[TerminalAnswers] = []
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
            os.write(descriptor, question(os.environ))
        except OSError:
            asked = False
        yield found
        if asked:
            found.append(read_answers(_answer(descriptor)))
    finally:
        with contextlib.suppress(termios.error):
            termios.tcsetattr(descriptor, termios.TCSANOW, before)


def _answer(descriptor: int) -> bytes:
    told, end = b"", time.monotonic() + LONGEST
    while not _LAST.search(told) and len(told) < LONGEST_ANSWER:
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


def read_answers(answer: bytes) -> TerminalAnswers:
    """The answers of a terminal, whatever else was sent between them."""
    ground, name = _GROUND.search(answer), _NAME.search(answer)
    return TerminalAnswers(_brightness(ground) if ground else None,
                           name[1].decode()[:LONGEST_NAME] if name else "", _colours(answer),
                           late=not _LAST.search(answer))


def _brightness(match: re.Match[bytes]) -> float:
    """How bright a colour is to the eye, 0 to 1 (the luma of ITU-R BT.709)."""
    red, green, blue = (int(part, 16) / float(16 ** len(part) - 1) for part in match.groups())
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def _colours(answer: bytes) -> Colours | Literal[""]:
    style = _STYLE.search(answer)
    given = style[1].decode() if style else ""
    if _WHOLE.search(given):
        return "all"
    if _NUMBERED.search(given) or _LAST_OF_256.search(answer):
        return "256"
    return "sixteen" if style else ""


def known_terminal(name: str) -> tuple[str, str]:
    """The signs that a terminal of this name (XTVERSION, or TERM) draws for sure, and its colours; empty: not known."""
    for begins, signs, colours in read_table("terminals.tsv"):
        if name.casefold().startswith(begins):
            return signs.strip("-"), colours.strip("-")
    return "", ""


def colours_of(told: TerminalAnswers | None, environment: Mapping[str, str]) -> Colours:
    """How many colours are sent: what somebody said, else what the terminal took; its name decides last."""
    if environment.get("NO_COLOR"):
        return "none"
    asked = environment.get("BRASS_PEBBLE_COLOURS")
    if (said := next((count for count in get_args(Colours) if count == asked), None)) is not None:
        return said  # type: ignore[no-any-return]
    if environment.get("COLORTERM", "").strip().lower() in ("truecolor", "24bit") or (told and told.colours == "all"):
        return "all"
    if told and told.colours:
        return told.colours
    term = environment.get("TERM", "")
    for name in (told.name if told else "", term):
        if name and (colours := known_terminal(name)[1]):
            return colours  # type: ignore[return-value]
    return "all" if term.endswith("-direct") else "256" if "256color" in term else "sixteen"


def terminal_key(told: TerminalAnswers | None, environment: Mapping[str, str]) -> str:
    """By what a choice made in this terminal is found again: its name without its version, else what TERM says."""
    name = re.split(r"[ (/\d]", told.name)[0] if told else ""
    return (name or environment.get("TERM", "")).casefold()


def signs_of(told: TerminalAnswers | None, environment: Mapping[str, str], chosen: Mapping[str, Signs]) -> Signs:
    """Which signs are drawn: what was chosen for this terminal; full ones only if it is known to draw them all."""
    asked = environment.get("BRASS_PEBBLE_SIGNS")
    if asked in ("plain", "full"):
        return "plain" if asked == "plain" else "full"
    if (key := terminal_key(told, environment)) in chosen:
        return chosen[key]
    known = known_terminal(told.name if told and told.name else environment.get("TERM", ""))[0]
    return "full" if known == "full" else "plain"


def look_of(told: TerminalAnswers | None, environment: Mapping[str, str], memory: ScreenMemory) -> TerminalLook:
    """All that the screen has to know of its terminal."""
    dark = None if told is None or told.brightness is None else told.brightness <= 0.5
    return TerminalLook(key=terminal_key(told, environment), signs=signs_of(told, environment, memory.signs),
                        colours=colours_of(told, environment), dark=dark, late=told is not None and told.late)
