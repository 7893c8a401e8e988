"""Stage programs that nobody has drawn: made of shortcut tables, and one that takes whatever no table knows.  Pure."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from brass_pebble.core.desk.shortcuts import ProgramTable, Shape, say_shape, shape_of
from brass_pebble.core.signals.keymap import Typist
from brass_pebble.core.signals.keys import modifier_codes

from .program import Reaction, StageProgram

_SHOWN = [{"kind": "facts", "facts": [{"of": "last", "name": "last"}, {"of": "count", "name": "count"}]}]


def program_of(table: ProgramTable, typist: Typist | None = None) -> StageProgram:
    """A program that does what its table says, one line at a time."""
    rows = [{"chord": str(shortcut.chord), "set": {"last": shortcut.does}, "add": {"count": 1}, "says": shortcut.does}
            for shortcut in table.shortcuts]
    data: dict[str, Any] = {
        "name": table.name, "what": "program", "hears": "always" if table.always else "focused",
        "notices": f"{table.notices // 1000}us",
        "state": {"last": "nothing yet", "count": 0}, "panel": _SHOWN, "shortcut": rows}
    return _TableProgram(data, typist)


class _TableProgram(StageProgram):
    """Knows no more than its table: what is not in it may mean something all the same, and nothing is said of it."""

    def _notice(self, code: int, held: frozenset[int], cause: object, when: int, out: list[Reaction]) -> None:
        if (held, code) in self._shortcuts:
            super()._notice(code, held, cause, when, out)


class AnyProgram(StageProgram):
    """Takes every chord that none of the tables has, and says which it was."""

    def __init__(self, tables: Collection[ProgramTable], typist: Typist | None = None) -> None:
        super().__init__({"name": "Anything else", "what": "takes what no table has",
                          "state": {"last": "nothing yet", "count": 0}, "panel": _SHOWN}, typist)
        self._tables = tables

    def take_key(self, code: int, value: int, now: int, cause: object, out: list[Reaction], *,
                 focused: bool = True) -> None:
        """A key went down or up: it is told when it goes down."""
        held = [down for down in self._down if down in modifier_codes()]
        if not value:
            self._down.pop(code, None)
            return
        self._down[code] = now
        if code in modifier_codes():
            return
        shape: Shape = shape_of((*held, code))
        if any(table.takes(shape) for table in self._tables):
            return
        self.values["last"], self.values["count"] = say_shape(shape), self.values["count"] + 1
        self._say(f"gets {say_shape(shape)}", now, cause, out)
