"""Devices of the kernel's input interface, taken over with an exclusive grab, whole or in part.

Records are `struct input_event` of linux/input.h; constants from linux/input.h and input-event-codes.h
(LED_NUML, LED_CAPSL, LED_SCROLLL).
"""

from __future__ import annotations

import contextlib
import os
import struct
import time
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from pathlib import Path

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.parts import Shares
from brass_pebble.core.signals.midi_in import FULL_STRENGTH
from brass_pebble.core.signals.signal import AXIS, HAT, MOVING, WHEEL
from brass_pebble.kinds.inputs.base import explain
from brass_pebble.kinds.kernel.listing import list_devices
from brass_pebble.kinds.kernel.node import (
    EV_ABS,
    EV_FF,
    EV_KEY,
    EV_LED,
    EV_MSC,
    EV_REL,
    EV_SYN,
    EVENT,
    MSC_SCAN,
    SYN_DROPPED,
    SYN_REPORT,
    EventNode,
    readable,
)

from .base import Abilities, DeviceGone, Input, InputError, KeyEvent
from .kind import Ear, InputKind, Watch
from .listening import Ears
from .passage import Passage

# ABS_HAT0X; BTN_DPAD_LEFT, RIGHT, UP, DOWN; FF_RUMBLE
_HAT = 0x10
_PAD_WAYS = (0x222, 0x223, 0x220, 0x221)
_RUMBLE = 0x50
LAMP_CODES = {"num": 0, "caps": 1, "scroll": 2}
_READ = EVENT.size * 64
_REPEAT = 2
# A record without its time.
_WHAT = struct.Struct("16xHHi")


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
            if kind == EV_KEY and not self._dropping:
                if value == 1:
                    self.down.add(code)
                    events.append((code, 1, seconds * 1_000_000_000 + micros * 1000))
                elif value == 0:
                    self.down.discard(code)
                    events.append((code, 0, seconds * 1_000_000_000 + micros * 1000))
            elif kind == EV_SYN:
                if code == SYN_DROPPED:
                    self._dropping = True
                elif code == SYN_REPORT and self._dropping:
                    self._dropping = False
                    events.extend(self._catch_up())
        return events

    def forget_waiting(self) -> None:
        """Drop what came before the device was taken over: it went to other programs and is not a command."""
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
        return self.take_in(read_records(self.fileno))

    def take_in(self, records: bytes) -> list[KeyEvent]:
        """What records mean as signals."""
        events: list[KeyEvent] = []
        for seconds, micros, kind, code, value in EVENT.iter_unpack(records):
            at = seconds * 1_000_000_000 + micros * 1000
            if kind == EV_SYN:
                if code == SYN_DROPPED:
                    self._dropping = True
                elif code == SYN_REPORT and self._dropping:
                    self._dropping = False
                    events.extend(self._catch_up())
                    events.extend((AXIS.first + axis, now, at) for axis, now in self.places().items())
            elif self._dropping:
                continue
            elif kind == EV_KEY:
                if value in (0, 1):
                    (self.down.add if value else self.down.discard)(code)
                    events.append((code, value, at))
            elif kind == EV_ABS and _HAT <= code < _HAT + 8:
                self._turn_hat(code - _HAT, value, at, events)
            elif kind in (EV_ABS, EV_REL):
                signal = (AXIS if kind == EV_ABS else WHEEL).first + code
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


def _signals(kind: int, code: int) -> tuple[int, ...]:
    """The signals as which an event is told."""
    if kind == EV_KEY:
        return (code,)
    if kind == EV_REL:
        return (WHEEL.first + code,)
    if _HAT <= code < _HAT + 8:
        return _hat_signal(code - _HAT, -1), _hat_signal(code - _HAT, 1)
    return (AXIS.first + code,)


class _Node(MovingStream):
    """One event node.  With a `passage`, what is not `taken` (kind << 16 | code) goes on as it came."""

    def __init__(self, path: str) -> None:
        self.device = EventNode(path)
        # Rumble effects that were uploaded, by strength and length.
        self.effects: dict[tuple[float, int], int] = {}
        super().__init__(self.device.fileno)
        self.passage: Passage | None = None
        self.passing = False
        self._taken: frozenset[int] = frozenset()
        # What makes a report be looked at closely.
        self._halts: frozenset[int] = frozenset()
        self._axes: list[tuple[int, tuple[int, int]]] | None = None
        self._events: list[tuple[int, int]] | None = None
        self._can_rumble: bool | None = None
        # What was down after each overrun that is being caught up with.
        self._held: deque[set[int]] = deque()
        # Whether more than keys is wanted of it.
        self.moves = self.hats

    def expect(self, wanted: frozenset[int]) -> None:
        """The signals of moving controls that mean something."""
        self.wanted = wanted
        self.moves = bool(wanted) or self.hats

    def held_now(self) -> Iterable[int]:
        held = self._held.popleft() if self._held else self.device.held()
        if self.passage is not None:
            # What passes is no business of the surface.
            held = {code for code in held if EV_KEY << 16 | code in self._taken and code not in self.passage.down}
        return held

    def read(self) -> list[KeyEvent]:
        if self.passing:
            return self._share()
        # Keyboards, which most are, take the shorter way.
        return MovingStream.read(self) if self.moves else KeyStream.read(self)

    # What passes.

    def events(self) -> list[tuple[int, int]]:
        """Everything it can send: kind and code."""
        if self._events is None:
            self._events = [(kind, code) for kind in (EV_KEY, EV_REL, EV_ABS) for code in sorted(self.device.has(kind))]
        return self._events

    def set_taken(self, taken: Callable[[int], bool]) -> None:
        """What is taken from now on; the rest passes."""
        before = self._taken
        self._taken = frozenset(kind << 16 | code for kind, code in self.events()
                                if any(taken(signal) for signal in _signals(kind, code)))
        self._halts = self._taken | {EV_SYN << 16 | SYN_DROPPED}
        freed = [code for kind, code in self.events() if kind == EV_ABS and kind << 16 | code in before - self._taken]
        if self.passing and freed and self.passage is not None:
            # What moved while it was taken is where it is.
            self.passage.tell((EV_ABS, code, self.device.axis(code)[0]) for code in freed)

    def _share(self) -> list[KeyEvent]:
        """Let pass what is not taken, at once and as it came; returns the rest as signals.

        Every report of a mouse goes this way: it is kept short.
        """
        try:
            records = os.read(self.fileno, _READ)
        except BlockingIOError:
            return []
        except OSError as error:
            raise DeviceGone(str(error)) from None
        passage, halts = self.passage, self._halts
        assert passage is not None
        if not self._dropping:
            for kind, code, value in _WHAT.iter_unpack(records):
                if kind << 16 | code in halts:
                    break
                if kind == EV_KEY and value != _REPEAT:
                    if not value and code in self.down:
                        break
                    (passage.down.add if value else passage.down.discard)(code)
            else:
                os.write(passage.fileno, records)
                return []
        return self._part(records, passage)

    def _part(self, records: bytes, passage: Passage) -> list[KeyEvent]:
        """Part reports of which something is taken: each goes two ways."""
        passes: list[bytes] = []
        mine: list[bytes] = []
        scan, dropping = b"", self._dropping
        for at in range(0, len(records), EVENT.size):
            record = records[at:at + EVENT.size]
            _, _, kind, code, value = EVENT.unpack(record)
            if kind == EV_SYN:
                if code == SYN_DROPPED:
                    dropping = True
                elif code == SYN_REPORT and dropping:
                    dropping = False
                    # Asked once for both ways: asking takes the key events away that wait in the kernel's buffer
                    # (EVIOCGKEY in drivers/input/evdev.c), so that a release between two questions would be lost.
                    held = set(self.device.held())
                    self._held.append(held)
                    self._pass_again(passage, held)
                if passes and code == SYN_REPORT:
                    passage.write(b"".join((*passes, record)))
                passes, scan = [], b""
                mine.append(record)
            elif kind == EV_MSC and code == MSC_SCAN:
                # It belongs to the key behind it.
                scan = record
            elif dropping:
                continue
            elif self._is_mine(kind, code, value, passage):
                mine.append(record)
                scan = b""
            else:
                passes += [part for part in (scan, record) if part]
                scan = b""
        # The report of these goes with the next records; what is pressed meanwhile comes behind.
        if passes:
            passage.write(b"".join(passes))
        return self.take_in(b"".join(mine))

    def _is_mine(self, kind: int, code: int, value: int, passage: Passage) -> bool:
        """Whether an event is for the surface.  What went down one way goes up that way."""
        taken = kind << 16 | code in self._taken
        if kind != EV_KEY:
            return taken
        if value:
            if value == _REPEAT:
                return code not in passage.down
            if not taken:
                passage.down.add(code)
            return taken
        if code in passage.down:
            passage.down.discard(code)
            return False
        return code in self.down or taken

    def _pass_again(self, passage: Passage, down: set[int]) -> None:
        """The kernel's buffer ran over: bring what passes up to what is so, with these keys down."""
        held = {code for code in down if EV_KEY << 16 | code not in self._taken and code not in self.down}
        passage.tell([*((EV_KEY, code, 0) for code in passage.down - held),
                      *((EV_KEY, code, 1) for code in held - passage.down),
                      *((EV_ABS, code, self.device.axis(code)[0]) for kind, code in self.events()
                        if kind == EV_ABS and kind << 16 | code not in self._taken)])

    def set_passing(self, passing: bool) -> None:
        """Begin or end to let pass what is not taken: while the node is not grabbed, it goes its way by itself."""
        if self.passage is None or passing == self.passing:
            return
        self.passing = passing
        if not passing:
            with contextlib.suppress(OSError):
                self.passage.let_go()

    # What it has.

    @property
    def hats(self) -> bool:
        """Whether it has a direction pad that is told as axes."""
        return any(_HAT <= code < _HAT + 8 for code, _ in self.axes())

    @property
    def can_rumble(self) -> bool:
        """Whether it shakes."""
        if self._can_rumble is None:
            self._can_rumble = _RUMBLE in self.device.has(EV_FF)
        return self._can_rumble

    def axes(self) -> list[tuple[int, tuple[int, int]]]:
        """Its axes: EV_ABS code, lowest and highest value."""
        if self._axes is None:
            self._axes = [(code, self.device.axis(code)[1:3]) for code in sorted(self.device.has(EV_ABS))]
        return self._axes

    def places(self) -> dict[int, int]:
        return {code: self.device.axis(code)[0] for code, _ in self.axes() if AXIS.first + code in self.wanted}

    def check(self, facts: DeviceFacts) -> None:
        """Make sure that this is what was listed: the kernel gives the number of a vanished node to the next device.

        Raises:
            InputError: it is another device.
        """
        port = readable(self.device.phys).strip().split("/input")[0]
        if port != facts.port:
            raise InputError(f"“{facts.shown}” was pulled out, and another device is at {self.device.path} by now; it "
                             "is looked for again in a moment")

    def close(self) -> None:
        """Close the node and the passage."""
        if self.passage is not None:
            with contextlib.suppress(OSError):
                self.passage.close()
        self.device.close()


class EvdevInput(Abilities):
    """A device with all its nodes; with `shares`, those of them that have a part that is taken.

    A key that is down at the moment of the grab would stay down for ever in the programs that saw it go down.
    So the grab waits until the device's keys are up; until then its events go where they always went.

    `parts` are the devices that it consists of, when they are several.

    Raises:
        InputError: it cannot be opened, or another device got its place since it was listed.
    """

    def __init__(self, facts: DeviceFacts, parts: Sequence[DeviceFacts] = (), shares: Shares | None = None) -> None:
        self.facts = facts
        self._nodes: dict[int, _Node] = {}
        self._taken = False
        self._resting = False
        self._lamps: dict[str, bool] = {}
        self._before: dict[tuple[int, int], bool] = {}
        try:
            for part in parts or (facts,):
                for path in part.nodes:
                    self._open(path, part, shares)
            if not self._nodes:
                raise InputError(f"“{facts.shown}” has none of the parts to be taken over. Correct “takes” in "
                                 "desk.toml, or take it over whole")
            self._take()
        except OSError as error:
            self.close()
            raise InputError(explain(error, facts)) from None
        except InputError:
            self.close()
            raise

    def _open(self, path: str, facts: DeviceFacts, shares: Shares | None) -> None:
        node = _Node(path)
        signals = [signal for kind, code in node.events() for signal in _signals(kind, code)] if shares else []
        if shares is not None and not any(shares.ever(signal) for signal in signals):
            # A node of which nothing is wanted stays as it is.
            node.close()
            return
        self._nodes[node.fileno] = node
        node.check(facts)
        if shares is not None and not all(shares.always(signal) for signal in signals):
            node.passage = Passage(node.device)
            node.set_taken(shares.ever)

    def _take(self) -> None:
        nodes = list(self._nodes.values())
        if any(node.device.held() for node in nodes):
            return
        for node in nodes:
            node.device.grab()
        if any(node.device.held() for node in nodes):
            # A key went down in between: programs saw it and must see it go up.
            for node in nodes:
                node.device.ungrab()
            return
        for node in nodes:
            node.forget_waiting()
            node.set_passing(True)
        self._taken = True

    def filenos(self) -> Sequence[int]:
        return list(self._nodes)

    def node(self, fileno: int) -> str:
        return os.path.basename(self._nodes[fileno].device.path)

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
            node.expect(axes)

    def share(self, taken: Callable[[int], bool]) -> None:
        for node in self._nodes.values():
            if node.passage is not None:
                node.set_taken(taken)

    def ranges(self) -> dict[int, tuple[int, int]]:
        return {AXIS.first + code: ends for node in self._nodes.values() for code, ends in node.axes()}

    def rumble(self, strength: float, ms: int) -> bool:
        from evdev import ff
        for node in self._nodes.values():
            if not node.can_rumble:
                continue
            with contextlib.suppress(OSError):
                if (strength, ms) not in node.effects:
                    # Uploaded once: the device keeps it, and plays it at a word.
                    size = max(0, min(0xFFFF, round(strength * 0xFFFF)))
                    shake = ff.Rumble(strong_magnitude=size, weak_magnitude=size)
                    node.effects[strength, ms] = node.device.upload(ff.Effect(
                        _RUMBLE, -1, 0, ff.Trigger(0, 0), ff.Replay(ms, 0), ff.EffectType(ff_rumble_effect=shake)))
                node.device.write(EV_FF, node.effects[strength, ms], 1)
                return True
        return False

    def state(self) -> str:
        return "resting" if self._resting else "taken" if self._taken else "waiting"

    def rest(self) -> None:
        self._resting = True
        if self._taken:
            self._taken = False
            for node in self._nodes.values():
                node.set_passing(False)
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
                has, lit_now = node.device.has(EV_LED), node.device.lit()
                for code in changed.keys() & has:
                    self._before.setdefault((node.fileno, code), code in lit_now)
                    self._set_lamp(node, code, changed[code])

    def _set_lamp(self, node: _Node, code: int, lit: bool) -> None:
        # The device may vanish at any time; its lamps are gone with it.
        with contextlib.suppress(OSError):
            node.device.write(EV_LED, code, int(lit))

    def _give_lamps_back(self) -> None:
        for (fileno, code), lit in self._before.items():
            self._set_lamp(self._nodes[fileno], code, lit)
        self._before, self._lamps = {}, {}

    def close(self) -> None:
        self._give_lamps_back()
        for node in self._nodes.values():
            if self._taken:
                node.set_passing(False)
                node.device.ungrab()
            node.close()
        self._nodes = {}


class EvdevKind(InputKind):
    """Keyboards, pads, controllers and mice as the kernel has them."""

    name = "evdev"

    def present(self) -> list[DeviceFacts]:
        return list_devices()

    def open(self, facts: DeviceFacts, parts: Sequence[DeviceFacts], shares: Shares | None) -> Input:
        nodes = tuple(node for part in parts for node in part.nodes)
        return EvdevInput(replace(facts, nodes=nodes), tuple(parts), shares)

    def listen(self, facts: DeviceFacts, *, motion: bool) -> Ear | None:
        return Ears(facts, motion=motion) if facts.nodes else None

    def watches(self) -> list[Watch]:
        return [NodesWatch()] if Path("/dev/input").is_dir() else []


class NodesWatch:
    """Tells when event nodes come, go, or may be read by somebody else."""

    def __init__(self) -> None:
        import inotify_simple
        flags = inotify_simple.flags
        self._notify = inotify_simple.INotify(nonblocking=True)
        self._notify.add_watch("/dev/input", flags.CREATE | flags.ATTRIB | flags.DELETE)
        self.fileno: int = self._notify.fileno()

    def read(self) -> bool:
        """Whether anything has changed."""
        return bool(self._notify.read(timeout=0))

    def close(self) -> None:
        """Stop watching."""
        self._notify.close()
