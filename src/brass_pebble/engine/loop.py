"""One loop that waits for file descriptors and one timer, and does nothing else until one is ready.

The timer is a timerfd with absolute times: waiting with a timeout would round to milliseconds.
Constants: linux/timerfd.h, linux/time.h.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import select
import threading
import time
from collections import deque
from collections.abc import Callable
from typing import Protocol

_CLOCK_MONOTONIC = 1
_TFD_TIMER_ABSTIME = 1
# So many errors within so many seconds are too many.
MOST_ERRORS, WITHIN = 20, 10.0
_TFD_FLAGS = os.O_NONBLOCK | os.O_CLOEXEC


class _TimeSpec(ctypes.Structure):
    _fields_ = (("seconds", ctypes.c_long), ("nanoseconds", ctypes.c_long))


class _TimerSpec(ctypes.Structure):
    _fields_ = (("interval", _TimeSpec), ("value", _TimeSpec))


class TimerFd:
    """One alarm at an absolute time of CLOCK_MONOTONIC, in ns, as a file descriptor."""

    def __init__(self) -> None:
        self._libc = ctypes.CDLL(None, use_errno=True)
        self.fileno = self._libc.timerfd_create(_CLOCK_MONOTONIC, _TFD_FLAGS)
        if self.fileno < 0:
            raise OSError(ctypes.get_errno(), "timerfd_create")
        self._spec = _TimerSpec()
        self._set = self._libc.timerfd_settime
        self._pointer = ctypes.byref(self._spec)
        self._armed: int | None = None

    def arm(self, when: int | None) -> None:
        """Ring at `when`, or not at all."""
        if when == self._armed:
            return
        self._armed = when
        value = self._spec.value
        # All zeros would switch the timer off; a time in the past rings at once.
        value.seconds, value.nanoseconds = divmod(max(when, 1), 1_000_000_000) if when is not None else (0, 0)
        self._set(self.fileno, _TFD_TIMER_ABSTIME, self._pointer, None)

    def rang(self) -> None:
        """Take note that it rang."""
        self._armed = None
        try:
            os.read(self.fileno, 8)
        except BlockingIOError:
            return

    def close(self) -> None:
        """Give the descriptor back."""
        os.close(self.fileno)


class Rounds(Protocol):
    """What a loop does in its rounds, beside what descriptors ask for."""

    def deadline(self) -> int | None:
        """The next moment at which something is due, in ns."""

    def on_time(self, now: int) -> None:
        """It has come."""

    def after(self) -> None:
        """The round is over."""

    def panic(self, error: Exception) -> None:
        """Something on the way of a press failed, or something that was due."""


class RealClock:
    """The kernel's CLOCK_MONOTONIC, and waiting by it: a timer at an absolute time beside the descriptors."""

    def __init__(self) -> None:
        self.now = time.monotonic_ns
        self._timer = TimerFd()
        self._fileno = self._timer.fileno

    def join(self, epoll: select.epoll) -> None:
        """Wait with these descriptors from now on."""
        self._epoll = epoll
        epoll.register(self._fileno, select.EPOLLIN)

    def wait(self, until: int | None) -> tuple[list[tuple[int, int]], bool]:
        """Wait for descriptors or a moment, in ns: what is ready, and whether the moment has come."""
        self._timer.arm(until)
        ready = self._epoll.poll()
        for item in ready:
            if item[0] == self._fileno:
                self._timer.rang()
                ready.remove(item)
                return ready, True
        return ready, False

    def close(self) -> None:
        """Give the timer back."""
        self._timer.close()


class Clock(Protocol):
    """Time, and waiting for it."""

    now: Callable[[], int]

    def join(self, epoll: select.epoll) -> None:
        """Wait with these descriptors from now on."""

    def wait(self, until: int | None) -> tuple[list[tuple[int, int]], bool]:
        """Wait for descriptors or a moment, in ns: what is ready, and whether the moment has come."""

    def close(self) -> None:
        """No more waiting."""


class Loop:
    """Waits and calls.  `rounds` has what is due besides.

    An exception of a call concerns that call: it goes to `on_mishap`, and everything else goes on.  One on the way of a
    press, or of what is due, goes to `rounds.panic`; the loop ends when too many of those come within a while.
    `context` is who is to be told when what goes on now fails, or something that it leaves to a worker.
    """

    rounds: Rounds
    on_mishap: Callable[[Exception], None]

    def __init__(self, clock: Clock | None = None) -> None:
        self.clock = clock or RealClock()
        self.context: Callable[[Exception], None] | None = None
        self._hot: set[int] = set()
        self._soon: deque[Callable[[], None]] = deque()
        self._mishaps: dict[int, deque[float]] = {}
        self._epoll = select.epoll()
        self.clock.join(self._epoll)
        self._calls: dict[int, Callable[[int], None]] = {}
        self._running = False

    def watch(self, fileno: int, call: Callable[[int], None], events: int = select.EPOLLIN, *,
              hot: bool = False) -> None:
        """Call `call(events)` whenever `fileno` is ready; `hot` for what lies on the way of a press."""
        if hot:
            self._hot.add(fileno)
        try:
            self._epoll.register(fileno, events)
        except FileExistsError:
            self._epoll.modify(fileno, events)
        self._calls[fileno] = call

    def forget(self, fileno: int) -> None:
        """Stop watching."""
        self._hot.discard(fileno)
        self._mishaps.pop(fileno, None)
        if self._calls.pop(fileno, None) is not None:
            try:
                self._epoll.unregister(fileno)
            except (OSError, ValueError):
                # A closed descriptor has left the set by itself.
                return

    def serve(self, fileno: int) -> bool:
        """Call now for one descriptor, as if it were ready; false if nobody watches it."""
        call = self._calls.get(fileno)
        if call is None:
            return False
        call(0)
        return True

    def serve_ready(self) -> None:
        """Call now for every descriptor that is ready, without waiting."""
        for fileno, events in self._epoll.poll(0):
            call = self._calls.get(fileno)
            if call is not None:
                call(events)

    def soon(self, call: Callable[[], None]) -> None:
        """Call `call()` once in the next round, after what is ready then."""
        self._soon.append(call)

    def _failed(self, fileno: int, error: Exception) -> None:
        """A call failed.  A descriptor whose call fails again and again is no longer watched: it would never rest."""
        if fileno in self._hot:
            raise error
        if _too_many(self._mishaps.setdefault(fileno, deque(maxlen=MOST_ERRORS))):
            self.forget(fileno)
        self.on_mishap(error)

    def stop(self) -> None:
        """Leave `run` after this round."""
        self._running = False

    def run(self) -> None:
        """Wait and call until `stop`."""
        self._running = True
        errors: deque[float] = deque(maxlen=MOST_ERRORS)
        soon = self._soon
        calls, poll, wait, clock = self._calls, self._epoll.poll, self.clock.wait, self.clock.now
        deadline, on_time, after = self.rounds.deadline, self.rounds.on_time, self.rounds.after
        while self._running:
            try:
                when = deadline()
                if when is not None and when <= clock():
                    on_time(clock())
                    ready = poll(0)
                elif soon:
                    ready = poll(0)
                else:
                    ready, came = wait(when)
                    if came:
                        on_time(clock())
                for fileno, events in ready:
                    call = calls.get(fileno)
                    if call is not None:
                        try:
                            call(events)
                        except Exception as error:
                            self._failed(fileno, error)
                if soon:
                    for _ in range(len(soon)):
                        self._call_soon(soon.popleft())
                after()
            except Exception as error:
                if _too_many(errors):
                    raise
                self.rounds.panic(error)

    def _call_soon(self, call: Callable[[], None]) -> None:
        try:
            call()
        except Exception as error:
            self.on_mishap(error)

    def close(self) -> None:
        """Give the descriptors back."""
        self.clock.close()
        self._epoll.close()


def _too_many(errors: deque[float]) -> bool:
    """Note one more; whether so many came within a while that it makes no sense to go on."""
    now = time.monotonic()
    errors.append(now)
    return len(errors) == MOST_ERRORS and now - errors[0] < WITHIN


# Who is told when a job's callback fails.
Context = Callable[[Exception], None]


class Worker:
    """Threads for slow jobs, one unless told.  Each job's result is handed to a callback, called on the loop.

    Threads are started as they are needed.  With `most`, more jobs than that do not wait beside those that each thread
    has, or is about to take.
    """

    def __init__(self, loop: Loop, threads: int = 1, most: int = 0) -> None:
        self._jobs: deque[tuple[Callable[[], object], Callable[[object], None], Context | None]] = deque()
        self._done: deque[tuple[Callable[[object], None], object, Context | None]] = deque()
        self._most, self._size = most, threads
        # Jobs that were given and have not ended; counted by every thread.
        self._open = 0
        self._lock = threading.Lock()
        self._wake = threading.Semaphore(0)
        self._event = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._loop = loop
        loop.watch(self._event, self._collect)
        self._threads: list[threading.Thread] = []
        self._start_thread()

    def _start_thread(self) -> None:
        self._threads.append(threading.Thread(target=self._work, name="slow jobs", daemon=True))
        self._threads[-1].start()

    @property
    def crowded(self) -> bool:
        """Whether another job would have to wait for its turn."""
        return self._open >= self._size

    def do(self, job: Callable[[], object], then: Callable[[object], None]) -> bool:
        """Run `job` on a thread, then `then(result)` on the loop; an exception is the result.

        False if it is not taken, since too many wait.
        """
        with self._lock:
            if self._most and self._open >= self._size + self._most:
                return False
            self._open += 1
            self._jobs.append((job, then, self._loop.context))
            if len(self._threads) < min(self._open, self._size):
                self._start_thread()
        self._wake.release()
        return True

    def clear(self) -> list[Callable[[object], None]]:
        """Forget the jobs that have not begun; what they were to be followed by."""
        dropped = []
        while self._jobs:
            try:
                dropped.append(self._jobs.popleft()[1])
            except IndexError:
                break
        self._count_down(len(dropped))
        return dropped

    def _count_down(self, jobs: int) -> None:
        with self._lock:
            self._open -= jobs

    def _work(self) -> None:
        while True:
            self._wake.acquire()
            try:
                job, then, context = self._jobs.popleft()
            except IndexError:
                # What it was woken for was taken back, or it is to end.
                if self._closing:
                    return
                continue
            try:
                result: object = job()
            except Exception as error:
                result = error
            # Its place is free before anybody is told of the result.
            self._count_down(1)
            self._done.append((then, result, context))
            with contextlib.suppress(OSError):
                os.eventfd_write(self._event, 1)

    _closing = False

    def _collect(self, events: int) -> None:
        try:
            os.eventfd_read(self._event)
        except BlockingIOError:
            return
        while self._done:
            then, result, context = self._done.popleft()
            self._loop.context = context
            try:
                then(result)
            except Exception as error:
                (context or self._loop.on_mishap)(error)
            finally:
                self._loop.context = None

    def close(self, seconds: float = 5.0) -> None:
        """Finish the jobs that wait, then end; what takes longer is left behind."""
        self._closing = True
        self._wake.release(len(self._threads))
        end = time.monotonic() + seconds
        for thread in self._threads:
            thread.join(timeout=max(0.0, end - time.monotonic()))
        self._loop.forget(self._event)
        os.close(self._event)
