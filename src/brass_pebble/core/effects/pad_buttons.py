"""The buttons of the virtual controller: BTN_SOUTH to BTN_THUMBR of linux/input-event-codes.h."""

from __future__ import annotations

from .pointer import PAD_BUTTON

FIRST = 0x130
_NAMES = ("south", "east", "c", "north", "west", "z", "shoulder-left", "shoulder-right", "trigger-left",
          "trigger-right", "select", "start", "mode", "stick-left", "stick-right")
# By name, the code of the effect; the kernel's is FIRST and its place.
PAD_BUTTONS = {name: PAD_BUTTON + place for place, name in enumerate(_NAMES)}


def say_button(code: int, value: int) -> str:
    """A button in words."""
    return f"controller {_NAMES[code - PAD_BUTTON]}" if code - PAD_BUTTON < len(_NAMES) else "controller button"
