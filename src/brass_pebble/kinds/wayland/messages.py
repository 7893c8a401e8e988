"""What goes between a process and its helper that speaks Wayland: one message a line, JSON; bytes are base64."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta, Struct

Text = Annotated[str, Meta(max_length=1_000_000)]


class Call(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A wish.  `key` is a window's; `since` is in s of the monotonic clock."""

    do: Literal["look", "focus", "close", "minimise", "text", "keep", "offered", "offer", "fetched", "give back"]
    key: Annotated[int, Meta(ge=0, lt=2**32)] = 0
    selection: Literal["clipboard", "primary"] = "clipboard"
    text: Text = ""
    since: float = 0.0
    seconds: Annotated[float, Meta(ge=0, le=60)] = 0.0
    forms: dict[str, bytes] = {}


class WindowTold(Struct, frozen=True, kw_only=True):
    """A window."""

    title: str
    cls: str
    focused: bool
    key: int


class Told(Struct, frozen=True, kw_only=True):
    """What came of a wish.  `trouble` says what kind of thing went wrong: a window that is gone, something that cannot
    be done here, the clipboard, the display, or a protocol that the compositor lacks."""

    trouble: Literal["", "gone", "cannot", "clipboard", "display", "lacks"] = ""
    why: str = ""
    windows: list[WindowTold] = []
    forms: dict[str, bytes] | None = None
    text: str | None = None
    yes: bool = False
