"""Being told by the kernel that a desk's files have changed: by their path, whatever is put there.

A whole folder may be exchanged for another one (by a synchronisation, a checkout, a backup brought back).  The folder
above it tells, and the new one is watched from then on.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path

import inotify_simple

from brass_pebble.engine.logs import log

_FLAGS = inotify_simple.flags
_CHANGES = (_FLAGS.CLOSE_WRITE | _FLAGS.MOVED_TO | _FLAGS.MOVED_FROM | _FLAGS.DELETE | _FLAGS.CREATE
            | _FLAGS.DELETE_SELF | _FLAGS.MOVE_SELF | _FLAGS.ATTRIB)
_COMES = _FLAGS.MOVED_TO | _FLAGS.MOVED_FROM | _FLAGS.CREATE | _FLAGS.DELETE
INSIDE = ("macros", "layouts", "programs")
# Values that macros keep are no part of what the desk is: they have a follower of their own.
VALUES = "values"


class DeskWatch:
    """Watches the folders of a desk; `changed` is called when anything of it may be another one,
    `values_changed` when a kept value may be."""

    def __init__(self, folder: Path, others: tuple[Path, ...], changed: Callable[[], None],
                 values_changed: Callable[[], None] = lambda: None) -> None:
        self._folder, self._values = folder, folder / VALUES
        self._folders = (folder, *(folder / name for name in INSIDE), *others)
        self._changed, self._values_changed = changed, values_changed
        self._notify = inotify_simple.INotify(nonblocking=True)
        self._watched: dict[int, Path] = {}
        self._follow()

    @property
    def fileno(self) -> int:
        """Ready while something has been told."""
        return int(self._notify.fileno())

    def _follow(self) -> None:
        """Watch what is at the paths now; a folder that is not there yet appears in the one above it."""
        watched: dict[int, Path] = {}
        for folder in (*self._folders, self._values):
            with contextlib.suppress(OSError):
                if folder.is_dir():
                    watched[self._notify.add_watch(folder, _CHANGES)] = folder
        for folder in (self._folder, *self._folders[1 + len(INSIDE):]):
            with contextlib.suppress(OSError):
                number = self._notify.add_watch(folder.resolve().parent, _COMES | _FLAGS.MASK_ADD)
                watched.setdefault(number, folder.resolve().parent)
        for number in self._watched.keys() - watched.keys():
            with contextlib.suppress(OSError):
                self._notify.rm_watch(number)
        self._watched = watched

    def ready(self, events: int = 0) -> None:
        """Read what was told."""
        try:
            told = self._notify.read(timeout=0)
        except OSError as error:
            log.warning("changes of the desk's files cannot be told: %s", error)
            return
        changed = follow = values = False
        for event in told:
            folder = self._watched.get(event.wd)
            if event.mask & (_FLAGS.IGNORED | _FLAGS.DELETE_SELF | _FLAGS.MOVE_SELF | _FLAGS.Q_OVERFLOW):
                changed = follow = True
            elif folder is None:
                continue
            elif folder == self._values or folder / event.name == self._values:
                values, follow = True, follow or bool(event.mask & _FLAGS.ISDIR)
            elif event.mask & _FLAGS.ISDIR:
                if folder / event.name in self._folders:
                    changed = follow = True
            elif folder in self._folders and event.name.endswith((".toml", ".macro")) and (
                    not event.name.startswith(".") and not event.mask & _FLAGS.CREATE):
                changed = True
        if follow:
            self._follow()
        if values or follow:
            self._values_changed()
        if changed:
            self._changed()

    def close(self) -> None:
        """Give the descriptor back."""
        self._notify.close()
