"""Motions of the pointer as event codes, so that they keep their order among the keys.

The numbers behind are those of linux/input-event-codes.h: EV_REL codes from `RELATIVE`, EV_ABS codes from `ABSOLUTE`.
Buttons of the pointer are keys: BTN_LEFT, BTN_RIGHT, BTN_MIDDLE.
"""

from __future__ import annotations

POINTER = RELATIVE = 0x10000
ABSOLUTE = 0x20000
# In parts of the screen's width or height: 0 is its left or upper edge.
FULL = 32767
REL_X, REL_Y, REL_HWHEEL, REL_WHEEL = (RELATIVE + code for code in (0, 1, 6, 8))
ABS_X, ABS_Y = ABSOLUTE, ABSOLUTE + 1
# Pixels of the screen, for outputs that know it.
PIXEL_X, PIXEL_Y = ABSOLUTE + 0x100, ABSOLUTE + 0x101
# From here on effects are no motions of the pointer: EV_ABS codes of the virtual controller, messages (see
# core/effects/messages.py) by MIDI and by OSC, and notes that sound.
PAD = WIDE = 0x30000
MESSAGES, OSC_MESSAGES, SOUNDING = 0x100_0000, 0x200_0000, 0x400_0000
# Buttons of the virtual controller lie behind all notes that can sound.
PAD_BUTTON = 0x500_0000
# Stands in accounts for a key that nobody is to read.
HIDDEN = -1
BUTTONS = {"left": 0x110, "right": 0x111, "middle": 0x112}
NAMES = {REL_X: "pointer right", REL_Y: "pointer down", REL_WHEEL: "wheel up", REL_HWHEEL: "wheel right",
         ABS_X: "pointer to x", ABS_Y: "pointer to y", PIXEL_X: "pointer to pixel x", PIXEL_Y: "pointer to pixel y"}


def is_motion(code: int) -> bool:
    """Whether a code is a motion and no key."""
    return code >= POINTER
