"""Every desktop whose windows can be asked for.  A new one is a file beside this one, and a row here."""

from __future__ import annotations

from typing import Protocol

from brass_pebble.kinds.outputs.base import OutputError

from .base import Desktop
from .foreign import WindowsOfForeign
from .sway import WindowsOfSway
from .x11 import WindowsOfX11

NOWHERE = "no display is known here whose windows can be told"


class DesktopKind(Protocol):
    """A class of them."""

    source: str
    can: frozenset[str]

    def __call__(self) -> Desktop:
        """Raises: OutputError."""

    def works_here(self) -> bool:
        """Whether this machine is such a one as it is now."""


# The first that works is taken.
DESKTOPS: tuple[DesktopKind, ...] = (WindowsOfSway, WindowsOfForeign, WindowsOfX11)


def desktop_kind() -> DesktopKind | None:
    """What this machine has, or None."""
    return next((kind for kind in DESKTOPS if kind.works_here()), None)


def open_desktop() -> Desktop:
    """A connection to the desktop.

    Raises:
        OutputError: there is none, or it does not answer.
    """
    kind = desktop_kind()
    if kind is None:
        raise OutputError(NOWHERE)
    return kind()
