"""Microphones as inputs: each is heard by a process of its own (kinds/voice/ear.py), started again when it dies.

What is said arrives as messages and not as keys: the engine decides what counts (`HearsSpeech`).
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from importlib.util import find_spec
from typing import Protocol, runtime_checkable

import msgspec

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.parts import Shares
from brass_pebble.core.signals.signal import phrase_signal
from brass_pebble.kinds.voice import messages
from brass_pebble.kinds.voice.messages import Cannot, Gone, Keep, Order, Over, Told
from brass_pebble.kinds.voice.recogniser import NEEDS
from brass_pebble.kinds.voice.sources import KIND, microphones, pulse_server

from .base import DeviceGone, Input, InputError, KeyEvent, RestsByItself
from .kind import Ear, InputKind, Watch
from .listening import Heard

# A process that died is started again after so long, in s: at once at first, later while it keeps dying; and one whose
# microphone is here but cannot be read, such as since somebody else holds it.
AGAIN, LATER = (0.1, 0.3, 0.6, 1.0), (0.5, 1.0, 2.0, 5.0)
# One that lived so long has not "kept dying".
LIVED = 20.0
MOST_WAITING = 1_000
# Longer than any message of a recogniser, in bytes.
LONGEST_LINE = 1_000_000
DIED = "what hears has died; it is started again"


@runtime_checkable
class HearsSpeech(Protocol):
    """An input that is spoken to."""

    told: Callable[[Told], None]

    def order(self, order: Order) -> None:
        """Have it listen for something else, or tell more."""


class MicrophoneInput(RestsByItself):
    """A microphone that has been taken over.  `told` is called, on the loop, with what its process tells."""

    def __init__(self, facts: DeviceFacts) -> None:
        self.facts = facts
        self.told: Callable[[Told], None] = lambda told: None
        self._wake = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._waiting: deque[Told] = deque(maxlen=MOST_WAITING)
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        # What it is to do, and whether it was told: a process that is busy must not hold up whoever tells it.
        self._standing: dict[type, Order] = {}
        self._orders = threading.Condition()
        self._untold: dict[type, Order] = {}
        # Why it is not here any more.
        self._pulled = ""
        self._closing = threading.Event()
        for name, work in (("microphone", self._follow), ("orders to", self._tell_orders)):
            threading.Thread(target=work, name=f"{name} {facts.port}", daemon=True).start()

    # On a thread of its own: the process and what it tells.

    def _follow(self) -> None:
        died = 0
        while not self._closing.is_set():
            began = time.monotonic()
            last = self._hear_one()
            if isinstance(last, Cannot | Over) or self._closing.is_set():
                return
            if isinstance(last, Gone) and not any(facts.id == self.facts.id for facts in microphones()):
                self._pulled = last.why
                self._wake_up()
                return
            # It is here, and may be heard in a moment: its process died, or somebody else holds it.
            died = 0 if time.monotonic() - began > LIVED else died + 1
            if not isinstance(last, Gone):
                self._arrived(Gone(why=DIED))
            waits = LATER if isinstance(last, Gone) else AGAIN
            self._closing.wait(waits[min(max(0, died - 1), len(waits) - 1)])

    def _hear_one(self) -> Told | None:
        """Start one process and pass on what it tells.  Returns why it ended, if it said so."""
        with self._lock:
            if self._closing.is_set():
                return None
            # A session of its own: what ends the engine with its group does not end this; its input's end does.
            try:
                process = self._process = subprocess.Popen(
                    [sys.executable, "-m", "brass_pebble.kinds.voice.ear", self.facts.port], stdin=subprocess.PIPE,
                    stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True)
            except OSError:
                # No memory or no file is left for it now; it is tried again as if it had died.
                return None
        for order in list(self._standing.values()):
            self._put(order)
        last: Told | None = None
        assert process.stdout is not None
        # A line without an end would be collected for ever: what is longer than any message is taken in pieces.
        while line := process.stdout.readline(LONGEST_LINE):
            try:
                told = msgspec.json.decode(line, type=Told)
            except msgspec.MsgspecError:
                continue
            last = told if isinstance(told, Gone | Cannot | Over) else last
            self._arrived(told)
        self._end(process)
        return last

    def _arrived(self, told: Told) -> None:
        self._waiting.append(told)
        self._wake_up()

    def _wake_up(self) -> None:
        with self._lock:
            if self._wake >= 0:
                os.eventfd_write(self._wake, 1)

    def _end(self, process: subprocess.Popen[bytes]) -> None:
        with self._lock:
            if self._process is process:
                self._process = None
        process.kill()
        process.wait()
        for stream in (process.stdin, process.stdout):
            if stream is not None:
                with contextlib.suppress(OSError):
                    stream.close()

    def _put(self, order: Order) -> None:
        with self._orders:
            self._untold[type(order)] = order
            self._orders.notify()

    def _tell_orders(self) -> None:
        """On a thread of its own: tell the latest orders, however long it takes until they are read."""
        while True:
            with self._orders:
                self._orders.wait_for(lambda: self._untold or self._closing.is_set())
                if self._closing.is_set():
                    return
                orders, self._untold = list(self._untold.values()), {}
            process = self._process
            if process is None or process.stdin is None:
                continue
            with contextlib.suppress(OSError, ValueError):
                process.stdin.write(b"".join(msgspec.json.encode(order) + b"\n" for order in orders))
                process.stdin.flush()

    # On the loop.

    def order(self, order: Order) -> None:
        # A recording is not begun once more by the process that follows one that died.
        if not isinstance(order, Keep):
            self._standing[type(order)] = order
        self._put(order)

    @property
    def pid(self) -> int:
        """The process that hears now; 0 while there is none."""
        process = self._process
        return process.pid if process is not None else 0

    def filenos(self) -> Sequence[int]:
        return [self._wake]

    def node(self, fileno: int) -> str:
        return ""

    def read(self, fileno: int) -> Sequence[KeyEvent]:
        with contextlib.suppress(BlockingIOError):
            os.eventfd_read(self._wake)
        for _ in range(len(self._waiting)):
            told = self._waiting.popleft()
            self.told(told)
        if self._pulled:
            raise DeviceGone(self._pulled, self._pulled)
        return ()

    def expect(self, wanted: frozenset[int], *, never_lets_go: bool) -> None:
        """What it is to listen for is said by an order."""

    def ranges(self) -> dict[int, tuple[int, int]]:
        return {}

    def close(self) -> None:
        self._closing.set()
        with self._orders:
            self._orders.notify()
        with self._lock:
            if self._process is not None:
                self._process.kill()
            if self._wake >= 0:
                os.close(self._wake)
                self._wake = -1


class MicrophoneWatch:
    """Tells when microphones come or go: `pactl subscribe`, followed on a thread of its own."""

    def __init__(self) -> None:
        self.fileno = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._closing = threading.Event()
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        threading.Thread(target=self._follow, name="microphones", daemon=True).start()

    def _follow(self) -> None:
        again = iter(LATER)
        while not self._closing.is_set():
            try:
                with self._lock:
                    if self._closing.is_set():
                        return
                    self._process = process = subprocess.Popen(
                        ["pactl", "subscribe"], stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
                        stderr=subprocess.DEVNULL, env={**os.environ, "LC_ALL": "C.UTF-8"})
            except OSError:
                return
            assert process.stdout is not None
            # Those that were there before it began to listen.
            self._changed()
            while line := process.stdout.readline(LONGEST_LINE):
                again = iter(LATER)
                if b"source #" in line and b"'change'" not in line:
                    self._changed()
            process.stdout.close()
            process.wait()
            # The server is gone, and with it every microphone, until it comes back.
            self._changed()
            self._closing.wait(next(again, LATER[-1]))

    def _changed(self) -> None:
        with self._lock:
            if self.fileno >= 0:
                os.eventfd_write(self.fileno, 1)

    def read(self) -> bool:
        """Whether anything has changed."""
        with contextlib.suppress(BlockingIOError):
            os.eventfd_read(self.fileno)
            return True
        return False

    def close(self) -> None:
        """Stop watching."""
        self._closing.set()
        with self._lock:
            if self._process is not None:
                self._process.kill()
            if self.fileno >= 0:
                os.close(self.fileno)
                self.fileno = -1


class MicrophoneEars:
    """A microphone that is met: only whether somebody speaks into it is told."""

    def __init__(self, source: MicrophoneInput) -> None:
        self.facts = source.facts
        self._source = source
        self._came: list[Heard] = []
        source.told = self._take
        source.order(messages.Watch(on=True))

    def _take(self, told: Told) -> None:
        if isinstance(told, messages.Level):
            self._came.append(Heard("", phrase_signal("speech"), int(told.speaking), time.monotonic_ns(),
                                    loud=told.loud))
        elif isinstance(told, Cannot):
            raise DeviceGone(told.why, told.why)

    def filenos(self) -> Sequence[int]:
        """File descriptors to wait for."""
        return self._source.filenos()

    def read(self, fileno: int) -> Sequence[Heard]:
        """How loud it is, and whether somebody speaks.  Raises: DeviceGone."""
        self._source.read(fileno)
        came, self._came = self._came, []
        return came

    def close(self) -> None:
        """Stop listening."""
        self._source.close()


class MicrophoneKind(InputKind):
    """Microphones of the machine."""

    name = KIND
    by_messages = True
    # A sound server gives whoever listens another microphone in place of one that was pulled out.
    goes_silently = True
    listens_unasked = False

    def present(self) -> list[DeviceFacts]:
        return microphones()

    def open(self, facts: DeviceFacts, parts: Sequence[DeviceFacts], shares: Shares | None) -> Input:
        if find_spec("pocketsphinx") is None:
            raise InputError(f"“{facts.shown}” cannot be listened to: {NEEDS}")
        return MicrophoneInput(facts)

    def listen(self, facts: DeviceFacts, *, motion: bool) -> Ear | None:
        opened = self.open(facts, (), None)
        assert isinstance(opened, MicrophoneInput)
        return MicrophoneEars(opened)

    def watches(self) -> list[Watch]:
        return [MicrophoneWatch()] if pulse_server() and shutil.which("pactl") else []
