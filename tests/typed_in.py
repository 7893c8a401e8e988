"""Runs a command in a terminal window and types into it what comes by a pipe: `python typed_in.py PIPE COMMAND …`.

What the terminal itself answers goes to the command as well, as if nobody were between them.  `PIPE.size` tells how
large the terminal is: pixels across and down, columns, rows; `PIPE.sent` has what the command sent to it.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import pty
import select
import signal
import struct
import sys
import termios
import tty
from pathlib import Path


def type_into(pipe: Path, keys: bytes) -> None:
    """Type into such a window from another process; nothing if it has gone, which is never waited for."""
    with contextlib.suppress(OSError):
        file = os.open(pipe, os.O_WRONLY | os.O_NONBLOCK)
        os.write(file, keys)
        os.close(file)


def main() -> int:
    pipe, command = sys.argv[1], sys.argv[2:]
    sent = os.open(f"{pipe}.sent", os.O_WRONLY | os.O_CREAT)
    pid, terminal = pty.fork()
    if pid == 0:
        os.execvp(command[0], command)

    def follow_size(*_: object) -> None:
        size = fcntl.ioctl(0, termios.TIOCGWINSZ, b"\0" * 8)
        fcntl.ioctl(terminal, termios.TIOCSWINSZ, size)
        rows, columns, wide, high = struct.unpack("4H", size)
        Path(f"{pipe}.part").write_text(f"{wide} {high} {columns} {rows}")
        Path(f"{pipe}.part").rename(f"{pipe}.size")
    follow_size()
    signal.signal(signal.SIGWINCH, follow_size)
    tty.setraw(0)
    # Open for writing as well, so that it never ends.
    typed = os.open(pipe, os.O_RDWR)
    while True:
        for ready in select.select([0, terminal, typed], [], [])[0]:
            try:
                part = os.read(ready, 65536)
            except OSError:
                part = b""
            if not part:
                return os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])
            if ready == terminal:
                os.write(sent, part)
            os.write(1 if ready == terminal else terminal, part)


if __name__ == "__main__":
    sys.exit(main())
