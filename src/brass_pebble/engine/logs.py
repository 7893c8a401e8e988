"""The engine's log: rotating, plain lines, written by a thread of its own.

It tells what the engine does.  It never holds what was pressed or typed.
"""

from __future__ import annotations

import errno
import logging
import logging.handlers
import queue
from pathlib import Path

from brass_pebble.file_access import private_folder

log = logging.getLogger("brass_pebble.engine")


def start_log(folder: Path, level: str = "INFO") -> logging.handlers.QueueListener | None:
    """Log to `folder/engine.log`, five files of 512 KiB at most.  Returns the writer, to be stopped at the end."""
    log.setLevel(level)
    log.propagate = False
    try:
        private_folder(folder)
        target = folder / "engine.log"
        if target.exists() and not target.is_file():
            # A pipe would be waited for.
            raise OSError(errno.EINVAL, "the log is not a file")
        file = logging.handlers.RotatingFileHandler(target, maxBytes=512 * 1024, backupCount=4,
                                                    encoding="utf-8")
    except OSError:
        log.addHandler(logging.NullHandler())
        return None
    file.setFormatter(logging.Formatter("%(asctime)s %(levelname)-7s %(process)d  %(message)s"))
    lines: queue.SimpleQueue[logging.LogRecord] = queue.SimpleQueue()
    log.addHandler(logging.handlers.QueueHandler(lines))
    listener = logging.handlers.QueueListener(lines, file)
    listener.start()
    return listener
