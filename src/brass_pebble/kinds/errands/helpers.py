"""Programs that runs wait for: begun, limited in time and in what they say, ended with whoever wanted them.

Called on threads.  Each has a process group of its own; a guardian ends them if the engine is killed.
"""

from __future__ import annotations

import contextlib
import os
import select
import signal
import subprocess
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass

from brass_pebble import paths
from brass_pebble.core.say.durations import MS, say_duration

from .call import Call, Over
from .guardian import Guardian

# Something that takes longer than this is told, in ns.
LATE = 100 * MS
# So much of what a helper complains of is kept, in bytes; the rest is read and dropped.
MOST_SAID = 4_000
# So much of what it says is read, in bytes; one that says more is ended.
MOST_OUTPUT = 1_000_000
STAYS = "write start instead of run for a program that stays"


@dataclass(frozen=True)
class Ended:
    """How a helper ended: what to tell of it, whether all went well, and what it said (if that was wanted)."""

    remark: str
    well: bool
    said: bytes = b""


class Helpers:
    """Every helper that is at work."""

    def __init__(self) -> None:
        self._guard = Guardian()
        self._children: set[subprocess.Popen[bytes]] = set()
        self._ended: set[subprocess.Popen[bytes]] = set()
        self._lock = threading.Lock()
        self.closing = False

    def run(self, words: Sequence[str], seconds: float, call: Call | None = None, *, listen: bool = False) -> Ended:
        """Run a program to its end, for at most so long, or until its call is ended; `listen` to what it says."""
        name = name_of(words)
        with self._lock:
            if self.closing:
                return Ended(f"{name} was stopped", False)
            try:
                child = subprocess.Popen(words, stdin=subprocess.DEVNULL, stderr=subprocess.PIPE,
                                         stdout=subprocess.PIPE if listen else subprocess.DEVNULL,
                                         start_new_session=True, umask=paths.usual_umask)
            except (OSError, ValueError) as error:
                why = error.strerror if isinstance(error, OSError) else str(error)
                return Ended(f"{name} could not be run: {why}", False)
            self._guard.begun(child.pid)
            self._children.add(child)
        if call is not None:
            with contextlib.suppress(Over):
                call.at_end(lambda: self._end((child,)))
        began = time.monotonic()
        heard = _Heard(child)
        try:
            in_time = heard.wait(seconds)
        finally:
            with self._lock:
                self._children.discard(child)
                stopped = child in self._ended
                self._ended.discard(child)
            self._guard.ended(child.pid)
        if not in_time:
            end_group(child)
            child.wait()
        if stopped:
            return Ended(f"{name} was stopped", False)
        if heard.too_much:
            return Ended(f"{name} said more than {MOST_OUTPUT:,} characters and was ended", False)
        if not in_time:
            return Ended(f"{name} did not end within {seconds:g} s and was ended; {STAYS}", False)
        took = round((time.monotonic() - began) * 1e9)
        if child.returncode:
            said = heard.errors.decode(errors="replace").strip().splitlines()
            why = f": {said[-1][:120]}" if said else ""
            return Ended(f"{name} ended with exit code {child.returncode}{why}", False, bytes(heard.output))
        return Ended(f"{name} ended after {say_duration(took)}" if took > LATE else "", True, bytes(heard.output))

    def end(self) -> None:
        """End all."""
        with self._lock:
            children = [*self._children]
        self._end(children)

    def _end(self, children: Sequence[subprocess.Popen[bytes]]) -> None:
        with self._lock:
            # One that has ended by itself meanwhile has no group any more, and its number may be another's.
            there = [child for child in children if child in self._children]
            self._ended.update(there)
            for child in there:
                end_group(child)

    def close(self) -> None:
        """Let the guardian go."""
        self._guard.close()


class _Heard:
    """What a helper says and complains of, in bounded memory."""

    def __init__(self, child: subprocess.Popen[bytes]) -> None:
        self._child = child
        self.output, self.errors = bytearray(), b""
        self.too_much = False

    def wait(self, seconds: float) -> bool:
        """Wait for its end, and read meanwhile; false: it takes too long, or says too much."""
        until = time.monotonic() + seconds
        handle = os.pidfd_open(self._child.pid)
        waiting = select.poll()
        waiting.register(handle, select.POLLIN)
        streams = [stream.fileno() for stream in (self._child.stdout, self._child.stderr) if stream is not None]
        for stream in streams:
            os.set_blocking(stream, False)
            waiting.register(stream, select.POLLIN)
        try:
            while (left := until - time.monotonic()) > 0 and not self.too_much:
                ready = dict(waiting.poll(left * 1000))
                for stream in streams:
                    if stream in ready and not self._read(stream):
                        waiting.unregister(stream)
                if handle in ready:
                    for stream in streams:
                        while self._read(stream) and not self.too_much:
                            pass
                    if self.too_much:
                        return False
                    self._child.wait()
                    return True
            return False
        finally:
            os.close(handle)
            for file in (self._child.stdout, self._child.stderr):
                if file is not None:
                    file.close()

    def _read(self, stream: int) -> bool:
        """Read what is there; false at its end, and when nothing is there any more."""
        try:
            data = os.read(stream, 65_536)
        except BlockingIOError:
            return False
        except OSError:
            return False
        if self._child.stdout is not None and stream == self._child.stdout.fileno():
            self.output += data
            self.too_much = len(self.output) > MOST_OUTPUT
        else:
            self.errors = (self.errors + data)[-MOST_SAID:]
        return bool(data)


def name_of(words: Sequence[str]) -> str:
    """A program's short name."""
    return os.path.basename(words[0]) if words and words[0] != "/bin/sh" else "the shell"


def end_group(child: subprocess.Popen[bytes]) -> None:
    """End a program with all that it has begun itself."""
    with contextlib.suppress(OSError):
        os.killpg(child.pid, signal.SIGKILL)
