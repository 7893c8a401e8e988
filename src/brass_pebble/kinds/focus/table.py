"""Everybody who can tell which window has the focus.  A new one is a file beside this one, and a row here."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from brass_pebble.core.desk.layer_switch import FocusedWindow

from .sway import FocusOnSway
from .x11 import FocusOnX11

NOWHERE = ("no display is known here whose focus can be told. Let your compositor’s own scripts call: "
           "brass-pebble focus NAME")


class Teller(Protocol):
    """One way to tell the focus, at work until `stop` is readable."""

    source: str

    def run(self, tell: Callable[[FocusedWindow | None], None]) -> None:
        """Tell the window that has the focus, and every change, until stopped.  Raises: OutputError."""

    def list(self) -> list[FocusedWindow]:
        """The windows that are open now."""


class TellerKind(Protocol):
    """A class of them: made with the descriptor that stops it."""

    source: str

    def __call__(self, stop: int) -> Teller:
        """Raises: OutputError."""

    def works_here(self) -> bool:
        """Whether this machine is such a one as it is now."""


# The first that works is taken.
TELLERS: tuple[TellerKind, ...] = (FocusOnSway, FocusOnX11)


def teller() -> TellerKind | None:
    """Who tells the focus on this machine, or None."""
    return next((kind for kind in TELLERS if kind.works_here()), None)
