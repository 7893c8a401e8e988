"""A small process that ends an engine's helpers when the engine itself is gone, even if it was killed.

It reads which process groups there are, and ends them all when nobody writes any more.  It is started with the first
helper.
"""

from __future__ import annotations

import contextlib
import os
import subprocess
import threading

# Every line is + or - and the id of a process group.
_SCRIPT = """
groups=" "
while read -r sign group; do
  case $sign in
    +) groups="$groups$group " ;;
    -) case $groups in *" $group "*) groups="${groups%%" $group "*} ${groups#*" $group "}" ;; esac ;;
  esac
done
for group in $groups; do kill -s KILL -- "-$group" 2>/dev/null; done
"""


class Guardian:
    """Told of helpers from any thread."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._pipe = -1
        self._process: subprocess.Popen[bytes] | None = None

    def begun(self, group: int) -> None:
        """A process group that is to end with the engine."""
        with self._lock:
            if self._process is None:
                reading, self._pipe = os.pipe2(os.O_CLOEXEC)
                # A session of its own: what ends the engine with its group does not end this.
                self._process = subprocess.Popen(["/bin/sh", "-c", _SCRIPT], stdin=reading, stdout=subprocess.DEVNULL,
                                                 stderr=subprocess.DEVNULL, start_new_session=True, cwd="/")
                os.close(reading)
            self._tell("+", group)

    def ended(self, group: int) -> None:
        """It has ended by itself, or was ended."""
        with self._lock:
            self._tell("-", group)

    def _tell(self, sign: str, group: int) -> None:
        with contextlib.suppress(OSError):
            os.write(self._pipe, f"{sign} {group}\n".encode())

    def close(self) -> None:
        """Let it end what is left, and itself."""
        with self._lock:
            if self._process is not None:
                os.close(self._pipe)
                self._pipe = -1
                with contextlib.suppress(subprocess.TimeoutExpired):
                    self._process.wait(timeout=2)
