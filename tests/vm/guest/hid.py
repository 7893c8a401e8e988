"""Real HID devices without hardware: report descriptors and reports given to the kernel through uhid.

Structures and event numbers: linux/uhid.h.  Usages: HID Usage Tables, page 0x07 (keyboard).
"""

from __future__ import annotations

import os
import struct
import time
from pathlib import Path

_DESTROY, _CREATE2, _INPUT2 = 1, 11, 12
_BUS_USB = 3

# A keyboard as every computer has one: eight bits of modifiers, a reserved byte, six keys at a time.
KEYBOARD = bytes.fromhex(
    "05010906a101050719e029e71500250175019508810295017508810195067508150026ff000507190029ff8100c0")
# A numeric pad: six keys at a time out of usages 0x53 to 0x63, so that the kernel makes a node with 17 keys.
NUMPAD = bytes.fromhex("05010906a10105071953296315012511750895068100c0")

USAGES = {"A": 0x04, "B": 0x05, "C": 0x06, "H": 0x0B, "I": 0x0C, "num": 0x53, "slash": 0x54, "times": 0x55,
          "minus": 0x56, "plus": 0x57, "enter": 0x58, **{str(n): 0x58 + n for n in range(1, 10)}, "0": 0x62,
          "dot": 0x63}


class HidDevice:
    """A plugged-in device: press and release keys, pull it out."""

    def __init__(self, name: str, phys: str, descriptor: bytes, vendor: int, product: int) -> None:
        self._array = descriptor is NUMPAD
        self._down: list[int] = []
        self.phys = phys
        self._fd = os.open("/dev/uhid", os.O_RDWR | os.O_CLOEXEC)
        os.write(self._fd, struct.pack("<I128s64s64sHHIIII4096s", _CREATE2, name.encode(), phys.encode(), b"",
                                       len(descriptor), _BUS_USB, vendor, product, 0, 0, descriptor))
        self.node = self._wait_for_node()

    def _wait_for_node(self) -> str:
        end = time.monotonic() + 20
        while time.monotonic() < end:
            for entry in Path("/sys/class/input").glob("event*"):
                try:
                    if (entry / "device/phys").read_text().strip() == self.phys:
                        return f"/dev/input/{entry.name}"
                except OSError:
                    continue
            time.sleep(0.02)
        raise TimeoutError(f"no node appeared for {self.phys}")

    def press(self, key: str) -> None:
        self._down.append(USAGES[key])
        self._report()

    def release(self, key: str) -> None:
        self._down.remove(USAGES[key])
        self._report()

    def let_go(self) -> None:
        """Release whatever an earlier test left down."""
        if self._down:
            self._down.clear()
            self._report()

    def tap(self, key: str, seconds: float = 0.03) -> None:
        self.press(key)
        time.sleep(seconds)
        self.release(key)

    def _report(self) -> None:
        keys = [usage - 0x53 + 1 if self._array else usage for usage in self._down]
        slots = bytes([*keys, *[0] * 6][:6])
        report = slots if self._array else b"\0\0" + slots
        os.write(self._fd, struct.pack("<IH4096s", _INPUT2, len(report), report))

    def pull_out(self) -> None:
        if self._fd >= 0:
            os.write(self._fd, struct.pack("<I", _DESTROY))
            os.close(self._fd)
            self._fd = -1


def twin_numpad(side: str) -> HidDevice:
    return HidDevice("Northwind numeric pad", f"usb-bench-{side}/input0", NUMPAD, 0x4E57, 0x0011)


def main_keyboard() -> HidDevice:
    return HidDevice("Harbour keyboard", "usb-bench-main/input0", KEYBOARD, 0x4842, 0x0001)
