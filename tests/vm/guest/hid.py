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
# Three pedals that send A, B and C.
PEDALS = bytes.fromhex("05010906a10105071904290615012503750895068100c0")
# Twelve keys (report 1) and a dial (report 3): the kernel makes two nodes of it.
KEYPAD = bytes.fromhex("05010906a1018501" "05071904290f1501250c750895068100c0"
                       "05010908a101850309371581257f750895018106c0")
# Volume keys, as most keyboards have them on an interface of their own.
MEDIA_KEYS = bytes.fromhex("050c0901a101850209e909ea09e215002501750195038102750595018103c0")
# As KEYBOARD, with the lamps num, caps and scroll.
LIT_KEYBOARD = bytes.fromhex(
    "05010906a101050719e029e715002501750195088102950175088101"
    "05081901290315002501750195039102750595019103" "050795067508150026ff000507190029ff8100c0")

# A game controller: twelve buttons, a hat, two sticks' axes X and Y, two triggers Z and Rz, each of 8 bits.
CONTROLLER = bytes.fromhex("05010905a101" "05091901290c150025017501950c8102" "750495018103"
                           "050109391500250735004 63b0165147504950181 42".replace(" ", "")
                           + "6500750495018103" "09300931150026ff00350046ff00750895028102"
                           "09320935750895028102c0")

# A mouse: five buttons, motion, a wheel.
MOUSE = bytes.fromhex("05010902a1010901a100" "05091901290515002501950575018102" "950175038103"
                      "0501093009310938" "1581257f750895038106" "c0c0")

USAGES = {"A": 0x04, "B": 0x05, "C": 0x06, "D": 0x07, "H": 0x0B, "I": 0x0C, "num": 0x53, "slash": 0x54, "times": 0x55,
          "minus": 0x56, "plus": 0x57, "enter": 0x58, **{str(n): 0x58 + n for n in range(1, 10)}, "0": 0x62,
          "dot": 0x63, "ctrl": 0xE0, "shift": 0xE1}


def _six(down: list[int]) -> bytes:
    return bytes([*down, *[0] * 6][:6])


def _modifiers(down: list[int]) -> int:
    return sum(1 << (usage - 0xE0) for usage in down if usage >= 0xE0)


# How a press is reported: what is down, as the descriptor wants it.
REPORTS = {
    KEYBOARD: lambda down: bytes([_modifiers(down), 0]) + _six([usage for usage in down if usage < 0xE0]),
    NUMPAD: lambda down: _six([usage - 0x52 for usage in down]),
    PEDALS: lambda down: _six([usage - 0x03 for usage in down]),
    KEYPAD: lambda down: b"\1" + _six([usage - 0x03 for usage in down]),
    MEDIA_KEYS: lambda down: b"\2\0",
    LIT_KEYBOARD: lambda down: b"\0\0" + _six(down),
    MOUSE: lambda down: bytes(4),
    CONTROLLER: lambda down: b"\0\0\x08\x80\x80\0\0",
}
MEDIA = {"louder": 1, "softer": 2, "mute": 4}


class HidDevice:
    """A plugged-in device: press and release keys, pull it out."""

    def __init__(self, name: str, phys: str, descriptor: bytes, vendor: int, product: int) -> None:
        self._reports = REPORTS[descriptor]
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
                    node = Path("/dev/input", entry.name)
                    # Its file appears a moment after its entry.
                    if (entry / "device/phys").read_bytes().strip() == self.phys.encode() and node.exists():
                        return str(node)
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

    def media(self, key: str) -> None:
        """Tap a media key of a device that has them on a node of their own."""
        for bits in (MEDIA[key], 0):
            self._send(bytes([2, bits]))

    def turn(self, steps: int) -> None:
        """Turn the dial."""
        self._send(struct.pack("Bb", 3, steps))

    def _report(self) -> None:
        self._send(self._reports(self._down))

    def _send(self, report: bytes) -> None:
        os.write(self._fd, struct.pack("<IH4096s", _INPUT2, len(report), report))

    def pull_out(self) -> None:
        if self._fd >= 0:
            os.write(self._fd, struct.pack("<I", _DESTROY))
            os.close(self._fd)
            self._fd = -1


def twin_numpad(side: str) -> HidDevice:
    return HidDevice("Marram numeric pad", f"usb-bench-{side}/input0", NUMPAD, 0x4D52, 0x0011)


def main_keyboard() -> HidDevice:
    return HidDevice("Harbour keyboard", "usb-bench-main/input0", KEYBOARD, 0x4842, 0x0001)


def three_pedals() -> HidDevice:
    return HidDevice("Tern three-pedal board", "usb-bench-floor/input0", PEDALS, 0x7E42, 0x0003)


class HidPair:
    """A device of two interfaces, as most keyboards are: its keys, and its media keys."""

    def __init__(self, name: str, port: str, descriptor: bytes, vendor: int, product: int) -> None:
        self.keys = HidDevice(name, f"{port}/input0", descriptor, vendor, product)
        self.extra = HidDevice(f"{name} Consumer Control", f"{port}/input1", MEDIA_KEYS, vendor, product)
        self.tap, self.press, self.release = self.keys.tap, self.keys.press, self.keys.release
        self.turn, self.media = self.keys.turn, self.extra.media

    def pull_out(self) -> None:
        self.keys.pull_out()
        self.extra.pull_out()


HAT = {"": 8, "up": 0, "right": 2, "down": 4, "left": 6}


class Controller(HidDevice):
    """A game controller: its sticks, triggers, hat and buttons."""

    def __init__(self) -> None:
        self._state = {"x": 128, "y": 128, "z": 0, "rz": 0}
        self._buttons, self._hat = 0, ""
        super().__init__("Skerry controller", "usb-bench-far/input0", CONTROLLER, 0x534B, 0x0021)

    def move(self, **axes: int) -> None:
        """Set axes, 0 to 255."""
        self._state |= axes
        self._tell()

    def hat(self, way: str) -> None:
        """Push the direction pad, or let it go."""
        self._hat = way
        self._tell()

    def button(self, number: int, *, down: bool) -> None:
        """A button, counted from 0."""
        self._buttons = self._buttons | 1 << number if down else self._buttons & ~(1 << number)
        self._tell()

    def _tell(self) -> None:
        self._send(struct.pack("<HBBBBB", self._buttons, HAT[self._hat], *self._state.values()))


class Mouse(HidDevice):
    """A mouse: moved, and its buttons."""

    def __init__(self) -> None:
        super().__init__("Sanderling mouse", "usb-bench-hand/input0", MOUSE, 0x5341, 0x0001)

    def move(self, across: int, down: int, buttons: int = 0) -> None:
        """Move by counts, -127 to 127."""
        self._send(struct.pack("Bbbb", buttons, across, down, 0))


def keypad_with_knob() -> HidPair:
    return HidPair("Kettle keypad", "usb-bench-front", KEYPAD, 0x4B54, 0x0006)


def big_keyboard() -> HidPair:
    return HidPair("Lantern keyboard", "usb-bench-back", LIT_KEYBOARD, 0x4C41, 0x0002)
