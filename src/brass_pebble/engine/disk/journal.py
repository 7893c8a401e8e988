"""Several files changed as one: what is meant is written down first, so that it is finished or taken back, never half.

A single file is replaced in one step anyway and needs no journal.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Callable, Mapping
from pathlib import Path

from brass_pebble import file_access

FORMAT = 1


class Journal:
    """Writes a desk's files.  `place_of` tells where a file of some name lies."""

    def __init__(self, file: Path, place_of: Callable[[str], Path]) -> None:
        self._file = file
        self._place_of = place_of

    def write(self, changes: Mapping[str, str | None], read: Callable[[str], str | None]) -> None:
        """Give files new texts, or take them away (None): all of them or none.

        Raises:
            OSError, UnicodeError: it could not be done; every file is as it was.
        """
        before = {name: read(name) for name in changes}
        for text in changes.values():
            # What cannot be written is found before anything is.
            (text or "").encode("utf-8")
        if len(changes) > 1:
            file_access.private_folder(self._file.parent)
            file_access.write_text(self._file, _line(before, changes), file_access.PRIVATE_FILE)
        done: list[str] = []
        try:
            for name, text in changes.items():
                done.append(name)
                self._put(name, text)
        except OSError:
            taken_back = True
            for name in reversed(done):
                try:
                    if read(name) != before[name]:
                        self._put(name, before[name])
                except OSError:
                    taken_back = False
            if taken_back and len(changes) > 1:
                with contextlib.suppress(OSError):
                    file_access.remove(self._file)
            raise
        if len(changes) > 1:
            with contextlib.suppress(OSError):
                file_access.remove(self._file)

    def _put(self, name: str, text: str | None) -> None:
        file = self._place_of(name)
        if text is None:
            file_access.remove(file)
        else:
            file_access.private_folder(file.parent)
            file_access.write_bytes(file, text.encode("utf-8", "surrogateescape"))

    def finish(self) -> bool:
        """At a start: finish what a process before began and did not end.  A file that somebody changed meanwhile is
        left alone.  True if there was anything."""
        try:
            row = json.loads(file_access.read_text(self._file))
            body = row["changes"]
            if row["format"] != FORMAT or row["check"] != _check(body):
                raise ValueError("it is not whole")
            for name, (old, new) in body.items():
                file = self._place_of(str(name))
                try:
                    now: str | None = file_access.read_bytes(file).decode("utf-8", "surrogateescape")
                except FileNotFoundError:
                    now = None
                if now == old:
                    self._put(str(name), new)
        except FileNotFoundError:
            return False
        except (ValueError, KeyError, TypeError, RecursionError):
            # It was cut off, so nothing of the change was begun.
            pass
        except OSError:
            return False
        with contextlib.suppress(OSError):
            file_access.remove(self._file)
        return True


def _line(before: Mapping[str, str | None], after: Mapping[str, str | None]) -> str:
    body = {name: [before[name], after[name]] for name in after}
    return json.dumps({"format": FORMAT, "changes": body, "check": _check(body)})


def _check(body: object) -> str:
    return hashlib.sha256(json.dumps(body, sort_keys=True).encode()).hexdigest()
