"""What a desktop can be asked about its windows.  Not for the engine's loop: each question is answered by another
process."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from brass_pebble.core.desk.layer_switch import fits

LOOK_EVERY = 0.05
# A window that was asked to have the focus has it within this, in s.
FOCUS_WITHIN = 1.5
# Beside these: telling where the pointer is and how the screen looks.
POINTER = "pointer"
FOCUS, RAISE, CLOSE, MINIMISE, PLACE = EVERYTHING = "focus", "raise", "close", "minimise", "place"


class WindowGone(Exception):
    """The window is not there any more."""


class CannotDo(Exception):
    """This desktop cannot do that; the text says what works instead."""


@dataclass(frozen=True)
class SeenWindow:
    """A window as its program names it.  `key` is known to this desktop only, for as long as the window is there;
    `pid` is its process, 0 where that is not told."""

    title: str
    cls: str
    focused: bool
    key: int = 0
    pid: int = 0


@dataclass(frozen=True)
class Area:
    """A place on the desktop, in pixels."""

    x: int
    y: int
    width: int
    height: int


class Desktop(Protocol):
    """One way to ask.  `can` is what it is able to do."""

    source: str
    can: frozenset[str]

    def look(self) -> list[SeenWindow]:
        """The windows that are there now."""

    def screens(self) -> list[Area]:
        """The screens, from left to right and from top to bottom."""

    def focus(self, key: int) -> None:
        """Bring a window to the front, and give it the focus.  Raises: WindowGone, CannotDo."""

    def raise_up(self, key: int) -> None:
        """Bring a window to the front without giving it the focus.  Raises: WindowGone, CannotDo."""

    def close_window(self, key: int) -> None:
        """Ask its program to close a window.  Raises: WindowGone, CannotDo."""

    def minimise(self, key: int) -> None:
        """Put a window out of sight.  Raises: WindowGone, CannotDo."""

    def place(self, key: int, area: Area) -> None:
        """Move and resize a window.  Raises: WindowGone, CannotDo."""

    def area_of(self, key: int) -> Area:
        """Where a window is, without its frame.  Raises: WindowGone, CannotDo."""

    def pointer(self) -> tuple[int, int, bool]:
        """Where the pointer is, and whether its left button is down.  Raises: CannotDo."""

    def window_at(self, x: int, y: int) -> int:
        """The key of the window that is seen at a place; 0 if there is none.  Raises: CannotDo."""

    def colour(self, area: Area) -> tuple[int, int, int]:
        """How a region looks on the whole: red, green, blue, 0 to 255.  Raises: CannotDo."""

    def pause(self, seconds: float) -> None:
        """Wait until something may have changed, but not longer."""

    def abandon(self) -> None:
        """Have whoever waits for the desktop wait no longer.  May be called on any thread; waits for nothing."""

    def close(self) -> None:
        """Leave the desktop."""


class TellsNoPlaces:
    """What no Wayland compositor tells a program."""

    def pointer(self) -> tuple[int, int, bool]:
        """Refused.  Raises: CannotDo."""
        raise CannotDo("a Wayland compositor does not tell where the pointer is")

    def window_at(self, x: int, y: int) -> int:
        """Refused.  Raises: CannotDo."""
        raise CannotDo("a Wayland compositor does not tell which window is seen at a place")

    def colour(self, area: Area) -> tuple[int, int, int]:
        """Refused.  Raises: CannotDo."""
        raise CannotDo("a Wayland compositor does not tell how the screen looks")


def find(desktop: Desktop, pattern: str, *, by_class: bool) -> SeenWindow | None:
    """The window that is meant: the focused one if several are."""
    found = [window for window in desktop.look() if fits(pattern, window.cls if by_class else window.title)]
    return next((window for window in found if window.focused), found[0] if found else None)


def wait_for_window(desktop: Desktop, pattern: str, *, by_class: bool, focused: bool, seconds: float,
                    given_up: Callable[[], bool], gone: bool = False) -> bool:
    """Wait until a window is there (or focused, or gone); false when the time is over or `given_up` says so."""
    end = time.monotonic() + seconds
    while True:
        window = find(desktop, pattern, by_class=by_class)
        if window is None if gone else window is not None and (window.focused or not focused):
            return True
        left = end - time.monotonic()
        if left <= 0 or given_up():
            return False
        desktop.pause(min(left, LOOK_EVERY))


def focus_and_wait(desktop: Desktop, key: int) -> bool:
    """Give a window the focus, and wait until it has it.  Raises: WindowGone, CannotDo."""
    def has_it() -> bool:
        found = next((window for window in desktop.look() if window.key == key), None)
        if found is None:
            raise WindowGone
        return found.focused
    if has_it():
        return True
    desktop.focus(key)
    end = time.monotonic() + FOCUS_WITHIN
    while not has_it():
        if time.monotonic() > end:
            return False
        desktop.pause(LOOK_EVERY)
    return True
