"""One loop that waits for file descriptors and one timer, and does nothing else until one is ready.

The timer is a timerfd with absolute times: waiting with a timeout would round to milliseconds.
Constants: linux/timerfd.h, linux/time.h.
"""

from __future__ import annotations

import ctypes
import os
import select
import threading
import time
from collections import deque
from collections.abc import Callable

_CLOCK_MONOTONIC = 1
_TFD_TIMER_ABSTIME = 1
MOST_ERRORS = 20
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


class Loop:
    """Waits and calls.  `on_time(now)` is called when the deadline that `deadline()` gave has come.

    An exception of a call goes to `on_error`, and the loop goes on; it ends when round after round fails.
    """

    def __init__(self, deadline: Callable[[], int | None], on_time: Callable[[int], None],
                 after: Callable[[], None], on_error: Callable[[Exception], None]) -> None:
        self._on_error = on_error
        self._deadline = deadline
        self._on_time = on_time
        self._after = after
        self._epoll = select.epoll()
        self._timer = TimerFd()
        self._epoll.register(self._timer.fileno, select.EPOLLIN)
        self._calls: dict[int, Callable[[int], None]] = {}
        self._running = False

    def watch(self, fileno: int, call: Callable[[int], None], events: int = select.EPOLLIN) -> None:
        """Call `call(events)` whenever `fileno` is ready."""
        if fileno in self._calls:
            self._epoll.modify(fileno, events)
        else:
            self._epoll.register(fileno, events)
        self._calls[fileno] = call

    def forget(self, fileno: int) -> None:
        """Stop watching."""
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

    def stop(self) -> None:
        """Leave `run` after this round."""
        self._running = False

    def run(self) -> None:
        """Wait and call until `stop`."""
        self._running = True
        errors = 0
        timer, timer_fd, calls, poll = self._timer, self._timer.fileno, self._calls, self._epoll.poll
        deadline, on_time, after, clock = self._deadline, self._on_time, self._after, time.monotonic_ns
        while self._running:
            try:
                when = deadline()
                if when is not None and when <= clock():
                    on_time(clock())
                    ready = poll(0)
                else:
                    timer.arm(when)
                    ready = poll()
                for fileno, _ in ready:
                    if fileno == timer_fd:
                        timer.rang()
                        on_time(clock())
                        break
                for fileno, events in ready:
                    call = calls.get(fileno)
                    if call is not None:
                        call(events)
                after()
                errors = 0
            except Exception as error:
                errors += 1
                if errors > MOST_ERRORS:
                    raise
                self._on_error(error)

    def close(self) -> None:
        """Give the descriptors back."""
        self._timer.close()
        self._epoll.close()


class Worker:
    """Threads for slow jobs, one unless told.  Each job's result is handed to a callback, called on the loop."""

    def __init__(self, loop: Loop, threads: int = 1) -> None:
        self._jobs: deque[tuple[Callable[[], object], Callable[[object], None]]] = deque()
        self._done: deque[tuple[Callable[[object], None], object]] = deque()
        self._wake = threading.Semaphore(0)
        self._event = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._loop = loop
        loop.watch(self._event, self._collect)
        self._threads = [threading.Thread(target=self._work, name="slow jobs", daemon=True) for _ in range(threads)]
        for thread in self._threads:
            thread.start()

    def do(self, job: Callable[[], object], then: Callable[[object], None]) -> None:
        """Run `job` on the thread, then `then(result)` on the loop; an exception is the result."""
        self._jobs.append((job, then))
        self._wake.release()

    def _work(self) -> None:
        while True:
            self._wake.acquire()
            if not self._jobs:
                return
            job, then = self._jobs.popleft()
            try:
                result: object = job()
            except Exception as error:
                result = error
            self._done.append((then, result))
            os.eventfd_write(self._event, 1)

    def _collect(self, events: int) -> None:
        try:
            os.eventfd_read(self._event)
        except BlockingIOError:
            return
        while self._done:
            then, result = self._done.popleft()
            then(result)

    def close(self) -> None:
        """Finish the jobs that wait, then end."""
        self._wake.release(len(self._threads))
        for thread in self._threads:
            thread.join(timeout=5)
        self._loop.forget(self._event)
        os.close(self._event)
