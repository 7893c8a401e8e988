"""Devices of the kernel's input interface, taken over with an exclusive grab.

Records are `struct input_event` of linux/input.h; constants from linux/input.h and input-event-codes.h
(LED_NUML, LED_CAPSL, LED_SCROLLL).
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import struct
import time
from collections.abc import Iterable, Sequence
from typing import Any

from brass_pebble.core.identity import DeviceFacts
from brass_pebble.core.midi_in import FULL_STRENGTH
from brass_pebble.core.signal import AXIS, HAT, MOVING, WHEEL

from .base import DeviceGone, InputError, KeyEvent

EVENT = struct.Struct("llHHi")
EVIOCSCLOCKID = 0x400445A0
_EV_SYN, _EV_KEY, _EV_REL, _EV_ABS, _EV_LED, _EV_FF = 0, 1, 2, 3, 0x11, 0x15
# ABS_HAT0X; BTN_DPAD_LEFT, RIGHT, UP, DOWN; FF_RUMBLE
_HAT = 0x10
_PAD_WAYS = (0x222, 0x223, 0x220, 0x221)
_RUMBLE = 0x50
LAMP_CODES = {"num": 0, "caps": 1, "scroll": 2}
_SYN_REPORT, _SYN_DROPPED = 0, 3
_READ = EVENT.size * 64


def read_records(fileno: int) -> bytes:
    """The records that wait on a descriptor; none is an empty text.

    Raises:
        DeviceGone: the device or the other end is closed.
    """
    try:
        data = os.read(fileno, _READ)
    except BlockingIOError:
        return b""
    except OSError as error:
        raise DeviceGone(str(error)) from None
    if not data:
        raise DeviceGone("end of stream")
    return data


class KeyStream:
    """Key events from records on a file descriptor, with recovery when the kernel's buffer ran over."""

    def __init__(self, fileno: int) -> None:
        self.fileno = fileno
        self.down: set[int] = set()
        self._dropping = False

    def read(self) -> list[KeyEvent]:
        """What has arrived; repeats of a held key are left out.

        Raises:
            DeviceGone: the device or the other end is closed.
        """
        events: list[KeyEvent] = []
        for seconds, micros, kind, code, value in EVENT.iter_unpack(read_records(self.fileno)):
            if kind == _EV_KEY and not self._dropping:
                if value == 1:
                    self.down.add(code)
                    events.append((code, 1, seconds * 1_000_000_000 + micros * 1000))
                elif value == 0:
                    self.down.discard(code)
                    events.append((code, 0, seconds * 1_000_000_000 + micros * 1000))
            elif kind == _EV_SYN:
                if code == _SYN_DROPPED:
                    self._dropping = True
                elif code == _SYN_REPORT and self._dropping:
                    self._dropping = False
                    events.extend(self._catch_up())
        return events

    def forget_waiting(self) -> None:
        """Drop what came before the device was taken over: it went to other programs and is no command."""
        with contextlib.suppress(BlockingIOError):
            while os.read(self.fileno, _READ):
                continue
        self.down.clear()
        self._dropping = False

    def held_now(self) -> Iterable[int]:
        """Codes that the device itself says are down."""
        return self.down

    def _catch_up(self) -> list[KeyEvent]:
        """The difference between what was told and what is so."""
        held, now = set(self.held_now()), time.monotonic_ns()
        ups = [(code, 0, now) for code in self.down - held]
        downs = [(code, 1, now) for code in held - self.down]
        self.down = held
        return ups + downs


class MovingStream(KeyStream):
    """The same with axes and wheels; a hat is told as the buttons of a direction pad.

    `wanted` are the axes' signals that mean something: others are dropped at once.
    """

    def __init__(self, fileno: int) -> None:
        super().__init__(fileno)
        self.wanted: frozenset[int] = frozenset()
        self._hats: dict[int, int] = {}

    def read(self) -> list[KeyEvent]:
        events: list[KeyEvent] = []
        for seconds, micros, kind, code, value in EVENT.iter_unpack(read_records(self.fileno)):
            at = seconds * 1_000_000_000 + micros * 1000
            if kind == _EV_SYN:
                if code == _SYN_DROPPED:
                    self._dropping = True
                elif code == _SYN_REPORT and self._dropping:
                    self._dropping = False
                    events.extend(self._catch_up())
                    events.extend((AXIS.first + axis, now, at) for axis, now in self.places().items())
            elif self._dropping:
                continue
            elif kind == _EV_KEY:
                if value in (0, 1):
                    (self.down.add if value else self.down.discard)(code)
                    events.append((code, value, at))
            elif kind == _EV_ABS and _HAT <= code < _HAT + 8:
                self._turn_hat(code - _HAT, value, at, events)
            elif kind in (_EV_ABS, _EV_REL):
                signal = (AXIS if kind == _EV_ABS else WHEEL).first + code
                if signal in self.wanted:
                    events.append((signal, value, at))
        return events

    def places(self) -> dict[int, int]:
        """Where the axes are, as the device itself says; the stream lost count."""
        return {}

    def _turn_hat(self, axis: int, value: int, at: int, events: list[KeyEvent]) -> None:
        now = (value > 0) - (value < 0)
        before, self._hats[axis] = self._hats.get(axis, 0), now
        for side, press in ((before, 0), (now, FULL_STRENGTH)):
            if side and before != now:
                events.append((_hat_signal(axis, side), press, at))


def _hat_signal(axis: int, side: int) -> int:
    """The first hat is the direction pad (BTN_DPAD_UP and so on); others have signals of their own."""
    way = axis % 2 * 2 + (side > 0)  # left, right, up, down
    return _PAD_WAYS[way] if axis < 2 else HAT.first + axis // 2 * 4 + way


class _Node(MovingStream):
    """One event node, opened through the evdev package."""

    def __init__(self, path: str) -> None:
        import evdev
        self.device = evdev.InputDevice(path)
        # Rumble effects that were uploaded, by strength and length.
        self.effects: dict[tuple[float, int], int] = {}
        super().__init__(self.device.fd)
        fcntl.ioctl(self.device.fd, EVIOCSCLOCKID, struct.pack("i", time.CLOCK_MONOTONIC))

    def held_now(self) -> Iterable[int]:
        return list(self.device.active_keys())

    def read(self) -> list[KeyEvent]:
        # Keyboards, which most are, take the shorter way.
        return MovingStream.read(self) if self.wanted or self.hats else KeyStream.read(self)

    @property
    def hats(self) -> bool:
        """Whether it has a direction pad that is told as axes."""
        if self._has_hats is None:
            self._has_hats = any(_HAT <= code < _HAT + 8 for code, _ in self.axes())
        return self._has_hats

    _has_hats: bool | None = None

    @property
    def can_rumble(self) -> bool:
        """Whether it shakes."""
        if self._can_rumble is None:
            self._can_rumble = _RUMBLE in self.device.capabilities().get(_EV_FF, ())
        return self._can_rumble

    _can_rumble: bool | None = None

    def axes(self) -> list[tuple[int, tuple[int, int]]]:
        """Its axes: EV_ABS code, lowest and highest value."""
        if self._axes is None:
            listed: Any = self.device.capabilities().get(_EV_ABS, ())
            self._axes = [(code, (info.min, info.max)) for code, info in listed]
        return self._axes

    _axes: list[tuple[int, tuple[int, int]]] | None = None

    def places(self) -> dict[int, int]:
        return {code: self.device.absinfo(code).value for code, _ in self.axes()
                if AXIS.first + code in self.wanted}

    def check(self, facts: DeviceFacts) -> None:
        """Make sure that this is what was listed: the kernel gives the number of a vanished node to the next device.

        Raises:
            InputError: it is another device.
        """
        port = self.device.phys.strip().split("/input")[0]
        if port.isascii() and facts.port.isascii() and port != facts.port:
            raise InputError(f"“{facts.shown}” was pulled out, and another device is at "
                             f"{os.fsdecode(self.device.path)} by now; it is looked for again in a moment")


class EvdevInput:
    """A device with all its nodes.

    A key that is down at the moment of the grab would stay down for ever in the programs that saw it go down.
    So the grab waits until the device's keys are up; until then its events go where they always went.

    `parts` are the devices that it consists of, when they are several.

    Raises:
        InputError: it cannot be opened, or another device got its place since it was listed.
    """

    def __init__(self, facts: DeviceFacts, parts: Sequence[DeviceFacts] = ()) -> None:
        self.facts = facts
        self._nodes: dict[int, _Node] = {}
        self._taken = False
        self._resting = False
        self._lamps: dict[str, bool] = {}
        self._before: dict[tuple[int, int], bool] = {}
        try:
            for part in parts or (facts,):
                for path in part.nodes:
                    node = _Node(path)
                    self._nodes[node.fileno] = node
                    node.check(part)
            self._take()
        except OSError as error:
            self.close()
            raise InputError(explain(error, facts)) from None
        except InputError:
            self.close()
            raise

    def _take(self) -> None:
        nodes = list(self._nodes.values())
        if any(node.held_now() for node in nodes):
            return
        for node in nodes:
            node.device.grab()
        if any(node.held_now() for node in nodes):
            # A key went down in between: programs saw it and must see it go up.
            for node in nodes:
                node.device.ungrab()
            return
        for node in nodes:
            node.forget_waiting()
        self._taken = True

    def filenos(self) -> Sequence[int]:
        return list(self._nodes)

    def node(self, fileno: int) -> str:
        return os.path.basename(str(self._nodes[fileno].device.path))

    def read(self, fileno: int) -> Sequence[KeyEvent]:
        node = self._nodes[fileno]
        events = node.read()
        if self._taken or self._resting:
            return events
        try:
            self._take()
        except OSError as error:
            raise DeviceGone(explain(error, self.facts)) from None
        return []

    def expect(self, wanted: frozenset[int], *, never_lets_go: bool) -> None:
        axes = frozenset(signal for signal in wanted if signal >= MOVING)
        for node in self._nodes.values():
            node.wanted = axes

    def ranges(self) -> dict[int, tuple[int, int]]:
        return {AXIS.first + code: ends for node in self._nodes.values() for code, ends in node.axes()}

    def answer(self, message: bytes) -> None:
        """The kernel's devices take no MIDI."""

    def rumble(self, strength: float, ms: int) -> bool:
        import evdev
        for node in self._nodes.values():
            if not node.can_rumble:
                continue
            with contextlib.suppress(OSError):
                if (strength, ms) not in node.effects:
                    # Uploaded once: the device keeps it, and plays it at a word.
                    size = max(0, min(0xFFFF, round(strength * 0xFFFF)))
                    shake = evdev.ff.Rumble(strong_magnitude=size, weak_magnitude=size)
                    node.effects[strength, ms] = node.device.upload_effect(evdev.ff.Effect(
                        _RUMBLE, -1, 0, evdev.ff.Trigger(0, 0), evdev.ff.Replay(ms, 0),
                        evdev.ff.EffectType(ff_rumble_effect=shake)))
                node.device.write(_EV_FF, node.effects[strength, ms], 1)
                return True
        return False

    def state(self) -> str:
        return "resting" if self._resting else "taken" if self._taken else "waiting"

    def rest(self) -> None:
        self._resting = True
        if self._taken:
            self._taken = False
            for node in self._nodes.values():
                node.device.ungrab()
        self._give_lamps_back()

    def wake(self) -> None:
        self._resting = False
        try:
            self._take()
        except OSError as error:
            raise InputError(explain(error, self.facts)) from None

    def show_lamps(self, lamps: dict[str, bool]) -> None:
        changed = {LAMP_CODES[name]: lit for name, lit in lamps.items() if self._lamps.get(name) != lit}
        gone = {LAMP_CODES[name] for name in self._lamps if name not in lamps}
        self._lamps = dict(lamps)
        for key in [key for key in self._before if key[1] in gone]:
            self._set_lamp(self._nodes[key[0]], key[1], self._before.pop(key))
        if not changed:
            return
        for node in self._nodes.values():
            with contextlib.suppress(OSError):
                has, lit_now = node.device.capabilities().get(_EV_LED, ()), node.device.leds()
                for code in changed.keys() & set(has):
                    self._before.setdefault((node.fileno, code), code in lit_now)
                    self._set_lamp(node, code, changed[code])

    def _set_lamp(self, node: _Node, code: int, lit: bool) -> None:
        # The device may vanish at any time; its lamps are gone with it.
        with contextlib.suppress(OSError):
            node.device.write(_EV_LED, code, int(lit))
            node.device.write(_EV_SYN, _SYN_REPORT, 0)

    def _give_lamps_back(self) -> None:
        for (fileno, code), lit in self._before.items():
            self._set_lamp(self._nodes[fileno], code, lit)
        self._before, self._lamps = {}, {}

    def close(self) -> None:
        self._give_lamps_back()
        for node in self._nodes.values():
            try:
                if self._taken:
                    node.device.ungrab()
                node.device.close()
            except OSError:
                # The device is gone already; the kernel ended the grab with it.
                continue
        self._nodes = {}


def explain(error: OSError, facts: DeviceFacts) -> str:
    """Why a device cannot be opened, and what to do."""
    if error.errno in (errno.EACCES, errno.EPERM):
        return (f"“{facts.shown}” may not be read by you ({', '.join(facts.nodes)}). Add yourself to the group "
                "“input” with: sudo usermod -aG input $USER, then log in again")
    if error.errno == errno.EBUSY:
        return (f"“{facts.shown}” is already taken over by another program. Close that program, or stop the other "
                "engine with: brass-pebble stop --quit")
    if error.errno in (errno.ENODEV, errno.ENOENT, errno.ENXIO):
        return f"“{facts.shown}” was pulled out while it was being opened. Plug it in again"
    return f"“{facts.shown}” cannot be taken over: {error.strerror}. See the log for more"
