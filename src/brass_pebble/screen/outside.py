"""What views need of the machine beside the engine: read only, never on the screen's own loop."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Literal, Protocol

from msgspec import Struct

from brass_pebble.core.desk.look.drawn import BareSurface
from brass_pebble.core.parcel.look import Look, Reaching
from brass_pebble.core.parcel.merge import Mine
from brass_pebble.core.say.finding import Finding
from brass_pebble.core.signals.keymap import Typist


class Reopen(Exception):
    """The screen ends so that the program can begin again with other words of the command line."""

    def __init__(self, *words: str) -> None:
        super().__init__(*words)
        self.words = words


# How labels stand on caps: large where a whole surface has room for it, large wherever it can be, or plain.
Letters = Literal["by room", "large", "plain"]
Signs = Literal["plain", "full"]
# No colour at all, the terminal's own sixteen, 256, or any.
Colours = Literal["none", "sixteen", "256", "all"]


class ScreenMemory(Struct, frozen=True, kw_only=True):
    """What the screen remembers from one time to the next; `signs` were chosen, by the key of a terminal."""

    theme: str = ""
    letters: Letters = "by room"
    signs: dict[str, Signs] = {}
    # Whether the tour of the first time is still to be shown.
    tour: bool = True


class TerminalLook(Struct, frozen=True, kw_only=True):
    """What the terminal of a screen can draw; `key` is by what it is found again, `dark` whether its own ground is.

    `late`: it may still answer what it was asked before the screen was opened.
    """

    key: str = ""
    signs: Signs = "full"
    colours: Colours = "all"
    dark: bool | None = None
    late: bool = False


class Outside(Protocol):
    """Handed to the application by who starts it."""

    def recall(self) -> ScreenMemory:
        """What was remembered; what cannot be read is as if it had never been."""

    def remember(self, memory: ScreenMemory) -> None:
        """Remember this; a disk that fails is not a reason to disturb anybody."""

    def exports(self) -> Path:
        """The folder for what is saved for people: it may not be there yet."""

    def typist(self, keyboard: str) -> Typist:
        """Who knows how to type with a keyboard layout.  Raises: ProblemError."""

    def checkup(self, desk: Path) -> Iterator[Finding]:
        """Everything that is looked at on this machine, one finding after the other."""

    def look_at(self, file: Path, desk: str) -> Look:
        """A file that somebody gave, as it stands to the desk in a folder.  Raises: ProblemError, OSError."""

    def drawn(self, look: Look, desk: str) -> tuple[dict[str, BareSurface], Mine]:
        """Its surfaces as rows to draw, and what the desk itself has."""

    def pack(self, desk: str, surfaces: list[str], macros: list[str]) -> tuple[bytes, list[Reaching]]:
        """A file to give on, and what whoever gets it can read.  Without surfaces and macros the whole desk.

        Raises:
            ProblemError: the desk is broken at the moment.
        """
