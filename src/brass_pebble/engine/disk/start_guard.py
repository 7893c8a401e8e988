"""Remembers which file a start was reading, so that one on which it died twice is left out the third time.

A few bytes of a mapped file: what is written there is kept by the kernel, however the process ends.
"""

from __future__ import annotations

import json
import mmap
import os
from pathlib import Path

from brass_pebble import file_access

DEATHS = 2
_ROOM = 1024


class StartGuard:
    """For one desk.  `begin` before anything is read, `reading` for each file, `done` when the desk is in use."""

    def __init__(self, folder: Path) -> None:
        self._marker = folder / "reading"
        self._file = folder / "starts.json"
        self._map: mmap.mmap | None = None
        self._deaths: dict[str, list[int]] = {}
        # Files that are left out: how many starts died on each, and what it was like then.
        self.left_out: dict[str, int] = {}

    def begin(self, root: Path) -> None:
        """Look how the start before ended; `root` is the desk's folder.  What goes wrong with this costs nothing."""
        try:
            file_access.private_folder(self._marker.parent)
            self._deaths = _read(self._file)
            name = _last(self._marker)
            if name:
                count, stamp = self._deaths.get(name, [0, 0])
                now = _stamp(root / name)
                self._deaths[name] = [count + 1 if stamp == now or not count else 1, now]
                self._write()
            # One that was changed since is given another chance.
            self.left_out = {name: count for name, (count, stamp) in self._deaths.items()
                             if count >= DEATHS and _stamp(root / name) == stamp}
            fileno = os.open(self._marker, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, file_access.PRIVATE_FILE)
            # Room that is really there: writing to a map without it would end the process.
            os.posix_fallocate(fileno, 0, _ROOM)
            self._map = mmap.mmap(fileno, _ROOM)
            os.close(fileno)
            self.reading("")
        except (OSError, ValueError):
            self._map = None

    def reading(self, name: str) -> None:
        """This file is being read, or nothing in particular."""
        if self._map is not None:
            data = name.encode("utf-8", "surrogateescape")[:_ROOM - 1]
            self._map[:len(data) + 1] = data + b"\0"

    def done(self) -> None:
        """The start has succeeded; from now on a death says nothing about a file."""
        if self._map is not None:
            self.reading("")
            self._map.close()
            self._map = None
        kept = {name: row for name, row in self._deaths.items() if name in self.left_out}
        if kept != self._deaths:
            self._deaths = kept
            self._write()

    def _write(self) -> None:
        try:
            file_access.write_text(self._file, json.dumps(self._deaths), file_access.PRIVATE_FILE)
        except OSError:
            return


def _last(marker: Path) -> str:
    try:
        return file_access.read_bytes(marker, _ROOM).partition(b"\0")[0].decode("utf-8", "surrogateescape")
    except OSError:
        return ""


def _read(file: Path) -> dict[str, list[int]]:
    try:
        rows = json.loads(file_access.read_text(file))
        return {str(name): [int(row[0]), int(row[1])] for name, row in rows.items()}
    except (OSError, ValueError, AttributeError, TypeError, IndexError, RecursionError):
        return {}


def _stamp(file: Path) -> int:
    """What a file is like; another one after every change."""
    try:
        about = file.stat()
        return about.st_mtime_ns ^ about.st_size
    except OSError:
        return 0
