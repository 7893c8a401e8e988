"""The keys of a view, made of its bindings: what the footer has no room for is told here, and written once."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from rich.table import Table
from rich.text import Text
from textual.binding import Binding
from textual.keys import key_to_character

from .palette import Palette

_NAMES = {"up": "↑", "down": "↓", "left": "←", "right": "→", "enter": "Enter", "escape": "Esc", "delete": "Del",
          "pagedown": "PgDn", "pageup": "PgUp", "space": "Space", "tab": "Tab", "backspace": "Backspace",
          "home": "Home", "end": "End",
          "plus": "+", "minus": "−", "asterisk": "*", "slash": "/", "backslash": "\\"}


def say_key(key: str) -> str:
    """A key as it stands on a keyboard: `Shift+←`, `F5`, `[`."""
    *modifiers, last = key.split("+") if key != "+" else ["+"]
    said = _NAMES.get(last) or (last.upper() if last[:1] == "f" and last[1:].isdigit() else key_to_character(last) or
                                last)
    if modifiers and len(said) == 1:
        said = said.upper()
    return "+".join([*(word.capitalize() for word in modifiers), said])


def key_rows(bindings: Iterable[Binding]) -> list[tuple[str, str]]:
    """What keys do: those with the same words in one row, in the order in which they are bound.

    A binding's tooltip is its longer form; one without any words is not told.
    """
    found: dict[str, dict[str, None]] = {}
    for row in bindings:
        if words := row.tooltip or row.description:
            found.setdefault(words, {})[say_key(row.key)] = None
    return [(_several(list(keys)), words) for words, keys in found.items()]


def keys_by_words(bindings: Iterable[Binding]) -> dict[str, str]:
    """The first key for each row of the help, by its words: a click on the row presses it."""
    found: dict[str, str] = {}
    for row in bindings:
        if words := row.tooltip or row.description:
            found.setdefault(words, row.key)
    return found


def _several(keys: list[str]) -> str:
    """Keys of one row; a run of digits by its ends."""
    digits = [key for key in keys if key.isdigit()]
    if len(digits) > 3:
        keys = [f"{digits[0]} … {digits[-1]}", *(key for key in keys if key not in digits)]
    shifted = [key.removeprefix("Shift+") for key in keys]
    if len(keys) > 1 and all(key.startswith("Shift+") for key in keys):
        return "Shift+" + "".join(shifted)
    return "  ".join(keys)


def bindings_of(*owners: type) -> list[Binding]:
    """The bindings of classes and of what they are made of, each class's own before those it has from others.

    A key that a class binds means nothing else in those it is made of.
    """
    rows: list[Binding] = []
    for owner in owners:
        taken: set[str] = set()
        for kind in owner.__mro__:
            if not kind.__module__.startswith("brass_pebble."):
                continue
            own = list(Binding.make_bindings(kind.__dict__.get("BINDINGS", ())))
            rows += [row for row in own if row.key not in taken]
            taken.update(row.key for row in own)
    return rows


def _cell(text: str, words: str, clicks: Mapping[str, str]) -> Text:
    cell = Text(text)
    if words in clicks:
        cell.apply_meta({"@click": f"screen.press_key({clicks[words]!r})"})
    return cell


def key_table(rows: Sequence[tuple[str, str]], palette: Palette, columns: int = 1,
              clicks: Mapping[str, str] | None = None) -> Any:
    """Keys and what they do, to look at, one beside the other in so many columns.

    `clicks` has the key that a click on a row presses, by its words.
    """
    table = Table.grid(padding=(0, 3))
    for _ in range(columns):
        table.add_column(style=f"bold {palette.brass}", no_wrap=True)
        table.add_column()
    high = -(-len(rows) // columns)
    for number in range(high):
        table.add_row(*(_cell(cell, rows[start][1], clicks or {}) for start in range(number, len(rows), high)
                        for cell in rows[start]))
    return table
