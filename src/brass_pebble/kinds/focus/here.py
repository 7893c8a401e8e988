"""Who tells which window has the focus, on this machine as it is now."""

from __future__ import annotations

import os

from .sway import FocusOnSway, socket_of_compositor
from .x11 import FocusOnX11

NOWHERE = ("no display is known here whose focus can be told. Let your compositor’s own scripts call: "
           "brass-pebble focus NAME")


def teller() -> type[FocusOnSway] | type[FocusOnX11] | None:
    """The kind of watcher that works here, or None."""
    if socket_of_compositor():
        return FocusOnSway
    # Under Wayland an X display shows only some of the windows, and never who has the focus.
    if os.environ.get("DISPLAY") and not os.environ.get("WAYLAND_DISPLAY"):
        return FocusOnX11
    return None
