"""Programs' shortcut tables: which chord does what in which program.  Read from small TOML files.  Pure."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any

from brass_pebble.core.desk.layer_switch import FollowRule
from brass_pebble.core.say.problem import Problem, ProblemError
from brass_pebble.core.say.toml_fields import Fields, Places
from brass_pebble.core.signals.keys import Chord, key_table, modifier_codes, parse_chord

# A chord as programs tell chords apart: the modifiers in any order, left and right alike, and the key.
Shape = tuple[frozenset[int], int]
# Where a stage program puts its state into what it says.
_STATE = re.compile(r"\s*\{\w+\}\s*%?")
_OPENS = re.compile(r"\b(terminals?|consoles?|shell|commands?|run|launch(er)?|palette|prompt|exec(ute)?|search|find|"
                    r"address|location|open|menu)\b", re.IGNORECASE)
_LEFT_OF = {key_table().find(f"Right{name}").code: key_table().find(name).code
            for name in ("Ctrl", "Shift", "Super")}


@dataclass(frozen=True)
class Shortcut:
    """One row: the chord and what it does, in the program's words."""

    chord: Chord
    does: str

    @property
    def shape(self) -> Shape:
        """How programs tell it from others."""
        return shape_of(self.chord.codes)


@dataclass(frozen=True)
class ProgramTable:
    """A program's shortcuts.  `always` tells that they work whatever has the focus; `notices` is the shortest time, in
    ns, that it needs a key to be down; `window` fits its windows."""

    id: str
    name: str
    shortcuts: tuple[Shortcut, ...] = ()
    always: bool = False
    notices: int = 0
    window: FollowRule = FollowRule()
    # "stage", "yours", "desktop", or "shipped".
    origin: str = "yours"

    def takes(self, shape: Shape) -> Shortcut | None:
        """What a chord does in it."""
        return self._by_shape.get(shape)

    @cached_property
    def _by_shape(self) -> dict[Shape, Shortcut]:
        # Of two rows with one chord the first counts.
        return {shortcut.shape: shortcut for shortcut in reversed(self.shortcuts)}


def opening_chords(tables: Iterable[ProgramTable]) -> frozenset[Shape]:
    """The chords of tables that, by what they are said to do, open a place for text or commands."""
    return frozenset(shortcut.shape for table in tables for shortcut in table.shortcuts if _OPENS.search(shortcut.does))


def shape_of(codes: Iterable[int]) -> Shape:
    """The shape of a chord: its last key that is not a modifier, and the modifiers."""
    return _shape(tuple(codes))


@lru_cache(maxsize=4096)
def _shape(codes: tuple[int, ...]) -> Shape:
    plain = [_LEFT_OF.get(code, code) for code in codes]
    keys = [code for code in plain if code not in modifier_codes()] or plain[-1:]
    return frozenset(code for code in plain if code in modifier_codes() and code != keys[-1]), keys[-1]


@lru_cache(maxsize=4096)
def say_shape(shape: Shape) -> str:
    """`Ctrl+Alt+N`."""
    names = key_table()
    order = [names.find(name).code for name in ("Ctrl", "Alt", "RightAlt", "Shift", "Super")]
    held = sorted(shape[0], key=lambda code: order.index(code) if code in order else 9)
    return "+".join(names.name(code) for code in (*held, shape[1]))


def read_program(data: dict[str, Any], *, id: str, file: str, text: str = "",
                 origin: str = "yours") -> tuple[ProgramTable, list[Problem]]:
    """A table from its TOML: name, and a list `shortcut` with `chord` and `does`.  What is broken is left out."""
    problems: list[Problem] = []
    top = Fields(data, (), Places(text), file, problems)
    name = top.text("name", id)
    if origin == "stage":
        # A stage program's file says more than its shortcuts.
        always = top.text("hears", "always") == "always"
    else:
        always = top.flag("always")
    notices = top.duration("notices", 0)
    window = top.table("window") if origin != "stage" else top.table("-")
    rule = FollowRule(window.text("class", name if origin == "stage" else ""), window.text("title", ""))
    shortcuts = []
    for row in top.tables("shortcut"):
        chord, does = row.text("chord", ""), row.text("does", "")
        if origin == "stage" and not does:
            does = _STATE.sub("", row.data.get("says", "")).strip()
        try:
            shortcuts.append(Shortcut(parse_chord(chord), does or "something"))
        except ProblemError as error:
            row.problem("chord", error.problem.what, error.problem.hint, word=chord)
        if origin != "stage":
            row.done()
    if origin != "stage":
        window.done()
        top.done()
    return ProgramTable(id, name, tuple(shortcuts), always, notices, rule, origin), problems


def write_program(name: str, rows: Iterable[tuple[str, str]]) -> str:
    """A table as a file's text, from chords and what they do.

    Raises:
        ProblemError: one of the chords is none.
    """
    lines = ["# Which chord does what in this program.", f"name = {_quoted(name)}"]
    for chord, does in rows:
        lines += ["", "[[shortcut]]", f"chord = {_quoted(str(parse_chord(chord)))}", f"does = {_quoted(does)}"]
    return "\n".join(lines) + "\n"


def _quoted(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", " ").replace("\t", " ")
    return '"' + "".join(char for char in escaped if char.isprintable()) + '"'
