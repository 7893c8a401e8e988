"""Every way to a clipboard.  A new one is a file beside this one, and a row here."""

from __future__ import annotations

from typing import Protocol

from .base import Clipboard
from .data_control import ClipboardOfDataControl
from .wayland import ClipboardOfWayland
from .x11 import ClipboardOfX11

NOWHERE = "no display is known here"


class ClipboardKind(Protocol):
    """A class of them."""

    def __call__(self) -> Clipboard:
        """One of them; the display is asked when it is used."""

    def works_here(self) -> bool:
        """Whether this machine is such a one as it is now."""


# The first that works is taken.
CLIPBOARDS: tuple[ClipboardKind, ...] = (ClipboardOfDataControl, ClipboardOfWayland, ClipboardOfX11)


def clipboard_here() -> Clipboard | None:
    """The clipboard of this machine, or None."""
    kind = next((kind for kind in CLIPBOARDS if kind.works_here()), None)
    return kind() if kind is not None else None
