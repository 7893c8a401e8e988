"""One event node of the kernel, asked and steered by the calls of linux/input.h.

Names and places are bytes: the kernel cuts them at 80 wherever that is, also in the middle of a letter.
"""

from __future__ import annotations

import array
import contextlib
import ctypes
import fcntl
import os
import struct
import time

EVENT = struct.Struct("llHHi")
EV_SYN, EV_KEY, EV_REL, EV_ABS, EV_MSC, EV_LED, EV_FF = 0, 1, 2, 3, 4, 0x11, 0x15
SYN_REPORT, SYN_DROPPED = 0, 3
MSC_SCAN = 4
# How many codes each kind of event has (KEY_CNT and so on), for the length of its bit mask.
_COUNTS = {EV_KEY: 0x300, EV_REL: 0x10, EV_ABS: 0x40, EV_MSC: 0x08, EV_LED: 0x10, EV_FF: 0x80}
_PROPERTIES = 0x20
_LONGEST_NAME = 256
_ABSINFO = struct.Struct("6i")
_FF_EFFECT = 48


def _read(number: int, size: int) -> int:
    """_IOR('E', number, size) of asm-generic/ioctl.h."""
    return 2 << 30 | size << 16 | ord("E") << 8 | number


def _write(number: int, size: int) -> int:
    return 1 << 30 | size << 16 | ord("E") << 8 | number


EVIOCSCLOCKID = _write(0xA0, 4)
_EVIOCGRAB, _EVIOCSFF = _write(0x90, 4), _write(0x80, _FF_EFFECT)


def readable(name: bytes) -> str:
    """A name as text: what is not UTF-8 is written as \\xNN, so that two names never become one."""
    return name.decode("utf-8", "backslashreplace")


class EventNode:
    """An open event node, with times of CLOCK_MONOTONIC.

    Raises:
        OSError: it cannot be opened.
    """

    def __init__(self, path: str, *, write: bool = True) -> None:
        self.path = path
        self.fileno = os.open(path, (os.O_RDWR if write else os.O_RDONLY) | os.O_NONBLOCK | os.O_CLOEXEC)
        try:
            fcntl.ioctl(self.fileno, EVIOCSCLOCKID, struct.pack("i", time.CLOCK_MONOTONIC))
        except OSError:
            os.close(self.fileno)
            raise

    def _bits(self, number: int, count: int) -> set[int]:
        mask = bytearray(-(-count // 8))
        fcntl.ioctl(self.fileno, _read(number, len(mask)), mask)
        return {byte * 8 + bit for byte, value in enumerate(mask) if value for bit in range(8) if value >> bit & 1}

    def has(self, kind: int) -> set[int]:
        """The codes of a kind of event that it can send or take (EVIOCGBIT); none of a kind that it does not know."""
        return self._bits(0x20 + kind, _COUNTS[kind])

    def held(self) -> set[int]:
        """The keys that are down (EVIOCGKEY)."""
        return self._bits(0x18, _COUNTS[EV_KEY])

    def lit(self) -> set[int]:
        """The lamps that are lit (EVIOCGLED)."""
        return self._bits(0x19, _COUNTS[EV_LED])

    def properties(self) -> set[int]:
        """INPUT_PROP_ numbers (EVIOCGPROP)."""
        return self._bits(0x09, _PROPERTIES)

    def axis(self, code: int) -> tuple[int, int, int, int, int, int]:
        """Value, lowest, highest, fuzz, flat and resolution of an axis (EVIOCGABS)."""
        data = bytearray(_ABSINFO.size)
        fcntl.ioctl(self.fileno, _read(0x40 + code, len(data)), data)
        value, low, high, fuzz, flat, resolution = _ABSINFO.unpack(data)
        return value, low, high, fuzz, flat, resolution

    def ids(self) -> tuple[int, int, int, int]:
        """Bus, vendor, product and version (EVIOCGID)."""
        data = bytearray(8)
        fcntl.ioctl(self.fileno, _read(0x02, len(data)), data)
        bus, vendor, product, version = struct.unpack("4H", data)
        return bus, vendor, product, version

    def _text(self, number: int) -> bytes:
        data = bytearray(_LONGEST_NAME)
        try:
            fcntl.ioctl(self.fileno, _read(number, len(data)), data)
        except OSError:
            # ENOENT: the device has none.
            return b""
        return bytes(data).split(b"\0", 1)[0]

    @property
    def name(self) -> bytes:
        """What it is called (EVIOCGNAME)."""
        return self._text(0x06)

    @property
    def phys(self) -> bytes:
        """Where it is plugged in (EVIOCGPHYS)."""
        return self._text(0x07)

    def grab(self) -> None:
        """Keep its events from all others.

        Raises:
            OSError: somebody else has it, or it is gone.
        """
        fcntl.ioctl(self.fileno, _EVIOCGRAB, 1)

    def ungrab(self) -> None:
        """Let others have its events again; nothing happens if it is gone."""
        with contextlib.suppress(OSError):
            fcntl.ioctl(self.fileno, _EVIOCGRAB, 0)

    def write(self, kind: int, code: int, value: int) -> None:
        """Send it an event, such as a lamp's, with its report."""
        os.write(self.fileno, EVENT.pack(0, 0, kind, code, value) + EVENT.pack(0, 0, EV_SYN, SYN_REPORT, 0))

    def upload(self, effect: ctypes.Structure) -> int:
        """Give it a force feedback effect (EVIOCSFF); returns the number by which it is played."""
        data = array.array("B", bytes(effect).ljust(_FF_EFFECT, b"\0"))
        fcntl.ioctl(self.fileno, _EVIOCSFF, data)
        return int(struct.unpack_from("h", data, 2)[0])

    def close(self) -> None:
        """Close it; a grab ends with it.  Twice does no harm: its number may be another file's by then."""
        fileno, self.fileno = self.fileno, -1
        if fileno >= 0:
            with contextlib.suppress(OSError):
                os.close(fileno)
